import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { type Hit, type Schemas, send } from "../../api/client";
import { Failure, percent, place } from "../../components/text";
import { useKb } from "./KbPage";

type Mode = Schemas["SearchIn"]["mode"];

export function SearchTab() {
  const { api, path, documents } = useKb();
  const [question, setQuestion] = useState("");
  const [mode, setMode] = useState<Mode>("hybrid");
  const [limit, setLimit] = useState(10);
  const [tag, setTag] = useState("");
  const [document, setDocument] = useState("");
  const [found, setFound] = useState<Schemas["SearchOut"] | null>(null);
  const [error, setError] = useState<string | null>(null);
  const tags = [...new Set((documents ?? []).flatMap((item) => Object.entries(item.tags).map(([key, value]) => `${key}=${value}`)))].sort();

  const submit = async (event: FormEvent) => {
    event.preventDefault();
    const [key, ...value] = tag.split("=");
    try {
      setFound(
        await send<Schemas["SearchOut"]>("POST", `${api}/search`, {
          question,
          mode,
          limit,
          tags: tag ? { [key!]: value.join("=") } : {},
          documents: document ? [document] : null,
        }),
      );
      setError(null);
    } catch (problem) {
      setError((problem as Error).message);
    }
  };

  return (
    <>
      <form className="mb-5 flex flex-wrap gap-2.5" onSubmit={submit} role="search">
        <input className="input min-w-60 flex-1" aria-label="Search" placeholder="What would your users ask?" required value={question} onChange={(e) => setQuestion(e.target.value)} />
        <select className="select w-auto" aria-label="Find by" value={mode} onChange={(e) => setMode(e.target.value as Mode)}>
          <option value="hybrid">Words and meaning</option>
          <option value="lexical">Words</option>
          <option value="vector">Meaning</option>
        </select>
        <select className="select w-auto max-w-48" aria-label="Document" value={document} onChange={(e) => setDocument(e.target.value)}>
          <option value="">All documents</option>
          {documents?.map((item) => (
            <option key={item.id} value={item.id}>
              {item.title}
            </option>
          ))}
        </select>
        {tags.length > 0 && (
          <select className="select w-auto" aria-label="Tag" value={tag} onChange={(e) => setTag(e.target.value)}>
            <option value="">All tags</option>
            {tags.map((item) => (
              <option key={item}>{item}</option>
            ))}
          </select>
        )}
        <select className="select w-auto" aria-label="Number of passages" value={limit} onChange={(e) => setLimit(Number(e.target.value))}>
          {[5, 10, 20, 50].map((n) => (
            <option key={n} value={n}>
              {n} passages
            </option>
          ))}
        </select>
        <button className="btn btn-primary">Search</button>
      </form>
      <Failure message={error} />
      {!found && <p className="soft py-8 text-center">See what comes back, and with which match, before any chat user asks.</p>}
      {found && (
        <p className="soft mb-2">
          {found.hits.length === 0 ? "Nothing found. Try other words, or search by meaning." : `${found.hits.length} passages in ${Math.round(found.seconds * 1000)} ms`}
          {found.by_words && " · found by words alone"}
        </p>
      )}
      <ol className="flex flex-col gap-3">
        {found?.hits.map((hit) => (
          <li key={hit.passage_id}>
            <HitCard hit={hit} path={path} />
          </li>
        ))}
      </ol>
    </>
  );
}

function HitCard({ hit, path }: { hit: Hit; path: string }) {
  return (
    <article className="sheet p-4">
      <header className="mb-1.5 flex flex-wrap items-baseline gap-x-3">
        <Link className="link-hover font-semibold" to={`${path}/documents/${hit.document_id}?revision=${hit.revision_id}&from=${hit.start}&to=${hit.end}`}>
          {hit.title}
        </Link>
        <span className="soft">{place(hit.title, hit.locator)}</span>
        <span className="ml-auto font-semibold tabular-nums" title="How relevant, comparable across questions">
          {percent(hit.match)}
        </span>
      </header>
      <p className="line-clamp-5 font-serif text-[15.5px] leading-relaxed whitespace-pre-line">
        <Highlighted text={hit.text} spans={hit.highlights} />
      </p>
      <p className="soft mt-2 text-[12.5px] tabular-nums">
        words {hit.lexical.toFixed(2)} · {hit.similarity == null ? "no vector yet" : `cosine ${hit.similarity.toFixed(2)}`}
        {Object.keys(hit.terms).length > 0 && ` · ${Object.entries(hit.terms).map(([term, weight]) => `${term} ${weight.toFixed(1)}`).join(", ")}`}
      </p>
    </article>
  );
}

/** One line break between blocks is enough in a list of hits. */
const tight = (text: string) => text.replaceAll("\n\n", "\n").replaceAll("\t", " · ");

function Highlighted({ text, spans }: { text: string; spans: { start: number; end: number }[] }) {
  const parts = [];
  let at = 0;
  for (const { start, end } of spans) {
    if (start < at) continue;
    parts.push(tight(text.slice(at, start)), <mark key={start} className="marked rounded-sm">{text.slice(start, end)}</mark>);
    at = end;
  }
  parts.push(tight(text.slice(at)));
  return <>{parts}</>;
}
