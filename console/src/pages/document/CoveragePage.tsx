import { Link, useParams } from "react-router";
import { Missing } from "../../App";
import type { Doc, Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { count, place } from "../../components/text";
import { useTeam } from "../../hooks/useSession";

type Passage = Schemas["PassageCoverage"];

/** What answers needed of a passage: its colour and a phrase. */
function need({ found, cited }: Passage): { colour: string; phrase: string } {
  if (cited > 0)
    return { colour: "bg-success", phrase: `cited ${count(cited)} of ${count(found)} times found` };
  if (found > 0)
    return { colour: "bg-warning", phrase: `found ${count(found)} times, never cited` };
  return { colour: "bg-base-300", phrase: "never found" };
}

/** A map of a document: which passages answers cite, which only lose, which are never found. */
export function CoveragePage() {
  const team = useTeam();
  const { kb = "", document: id = "" } = useParams();
  const api = `${team.api}/kbs/${kb}/documents/${encodeURIComponent(id)}`;
  const { data: document, error } = useResource<Doc>(api);
  const passages = useResource<Schemas["Page_PassageCoverage_"]>(`${api}/coverage`);
  if (error) return <Missing />;
  if (!document) return null;
  const items = passages.data?.items ?? [];
  const path = `/t/${team.slug}/kbs/${kb}`;
  return (
    <>
      <p className="mb-2">
        <Link className="link-hover soft" to={`${path}/coverage`}>
          ← Coverage
        </Link>
      </p>
      <h1 className="text-[27px] leading-tight">{document.title}</h1>
      <p className="soft mt-1 flex flex-wrap gap-x-5">
        {(
          [
            ["bg-success", "cited by answers"],
            ["bg-warning", "found, but never cited"],
            ["bg-base-300", "never found"],
          ] as const
        ).map(([colour, text]) => (
          <span key={text} className="flex items-center gap-2">
            <span className={`inline-block size-2.5 rounded-sm ${colour}`} aria-hidden />
            {text}
          </span>
        ))}
      </p>
      <nav className="mt-4 flex flex-wrap gap-0.5" aria-label="Map of the passages">
        {items.map((one) => (
          <a
            key={one.start}
            href={`#at-${one.start}`}
            title={`${place(document.title, one.locator)}: ${need(one).phrase}`}
            className={`h-7 min-w-2 rounded-sm ${need(one).colour}`}
            style={{ flex: `${one.end - one.start} 1 0` }}
          >
            <span className="sr-only">
              {place(document.title, one.locator)}: {need(one).phrase}
            </span>
          </a>
        ))}
      </nav>
      <ol className="mt-5 space-y-3" aria-label="Passages">
        {items.map((one) => (
          <li key={one.start} id={`at-${one.start}`} className="sheet flex overflow-hidden">
            <span className={`w-1.5 shrink-0 ${need(one).colour}`} aria-hidden />
            <div className="min-w-0 flex-1 px-4 py-3">
              <p className="soft flex flex-wrap gap-x-4 text-[13px]">
                <Link
                  className="link-hover"
                  to={`${path}/documents/${document.id}?from=${one.start}&to=${one.end}`}
                >
                  {place(document.title, one.locator) || "the beginning"}
                </Link>
                <span className="ml-auto">{need(one).phrase}</span>
              </p>
              <p className="mt-1 line-clamp-4 font-serif whitespace-pre-line">{one.text}</p>
            </div>
          </li>
        ))}
      </ol>
    </>
  );
}
