import { Link } from "react-router";
import type { Hit, Schemas } from "../../api/client";
import { Outdated, percent, place } from "../../components/text";

export type SearchResult = Schemas["SearchOut"];

/**
 * The results of one search. `other` are those of the setting next to it: each hit shows its rank
 * there.
 */
export function Results({
  found,
  other,
  path,
  explained,
}: {
  found: SearchResult;
  other?: SearchResult;
  path: string;
  explained: boolean;
}) {
  const corrected = Object.entries(found.corrected);
  return (
    <>
      <p className="soft mb-2">
        {found.hits.length === 0
          ? found.unmatched?.length
            ? `No document matches ${found.unmatched.join(", ")}.`
            : "Nothing found. Try other words, or semantic search."
          : `${found.hits.length} passages in ${Math.round(found.seconds * 1000)} ms`}
        {found.keyword_only && " · keyword search only"}
      </p>
      {corrected.map(([word, near]) => (
        <p key={word} className="mb-2">
          No passage contains <b>{word}</b>; searched for {near.join(" or ")} instead.
        </p>
      ))}
      <ol className="flex flex-col gap-3">
        {found.hits.map((hit) => (
          <li key={hit.passage_id}>
            <HitCard
              hit={hit}
              path={path}
              mode={found.mode}
              explained={explained}
              there={other && other.hits.findIndex((item) => meets(item, hit)) + 1}
            />
          </li>
        ))}
      </ol>
    </>
  );
}

/** Whether two hits, of editions that may be split differently, overlap. */
const meets = (one: Hit, other: Hit) =>
  one.document_id === other.document_id && one.start < other.end && one.end > other.start;

function HitCard({
  hit,
  path,
  mode,
  explained,
  there,
}: {
  hit: Hit;
  path: string;
  mode: SearchResult["mode"];
  explained: boolean;
  there?: number;
}) {
  const before = hit.neighbours.filter((part) => part.start < hit.start);
  const after = hit.neighbours.filter((part) => part.start > hit.start);
  return (
    <article className="sheet p-4">
      <header className="mb-1.5 flex flex-wrap items-baseline gap-x-3">
        <Link
          className="link-hover font-semibold"
          to={`${path}/documents/${hit.document_id}?revision=${hit.revision_id}&from=${hit.start}&to=${hit.end}`}
        >
          {hit.title}
        </Link>
        <span className="soft">{place(hit.title, hit.locator)}</span>
        {there !== undefined && (
          <span className="soft text-[12.5px]">
            {there ? `rank ${there} in the other` : "not in the other"}
          </span>
        )}
        <span
          className="ml-auto font-semibold tabular-nums"
          title="How relevant, comparable across questions"
        >
          {percent(hit.match)}
        </span>
      </header>
      {before.map((part) => (
        <MergedPassage key={part.passage_id} text={part.text} />
      ))}
      <p className="line-clamp-5 font-serif text-[15.5px] leading-relaxed whitespace-pre-line">
        <Highlighted text={hit.text} spans={hit.highlights} />
      </p>
      {after.map((part) => (
        <MergedPassage key={part.passage_id} text={part.text} />
      ))}
      <Outdated outdated={hit.outdated} />
      {hit.also.length > 0 && (
        <p className="mt-2 text-[13px]">
          Also in{" "}
          {hit.also.map((document, index) => (
            <span key={document.document_id}>
              {index > 0 && ", "}
              <Link className="link" to={`${path}/documents/${document.document_id}`}>
                {document.title}
              </Link>
            </span>
          ))}
        </p>
      )}
      {explained && hit.explanation ? (
        <Explanation explanation={hit.explanation} hit={hit} />
      ) : (
        <p className="soft mt-2 text-[12.5px] tabular-nums">
          keywords {hit.lexical.toFixed(2)}
          {mode !== "lexical" &&
            (hit.similarity == null
              ? " · no vector yet"
              : ` · cosine ${hit.similarity.toFixed(2)}`)}
          {hit.relevance != null && ` · evidence ${hit.relevance.toFixed(2)}`}
        </p>
      )}
    </article>
  );
}

/** A passage merged with a hit. */
function MergedPassage({ text }: { text: string }) {
  return (
    <p className="soft border-base-300 my-1.5 line-clamp-3 border-l-2 pl-3 font-serif text-[14px] whitespace-pre-line">
      {tight(text)}
    </p>
  );
}

const FIELDS = ["title", "heading", "body", "about"] as const;

/** How a hit's score was computed: its parts, then each term in each field. */
function Explanation({ explanation, hit }: { explanation: Schemas["ExplanationOut"]; hit: Hit }) {
  const shown = (value: number) => (value ? value.toFixed(2) : "–");
  return (
    <div className="border-base-300 mt-3 border-t pt-2 text-[12.5px] tabular-nums">
      <p>
        score {hit.score.toFixed(3)} = keywords {explanation.keyword_part.toFixed(3)} + semantic{" "}
        {explanation.semantic_part.toFixed(3)}
        {explanation.document_part > 0 && ` + its document ${explanation.document_part.toFixed(3)}`}
        {explanation.boost !== 1 && `, times ${explanation.boost.toFixed(2)}`}
        <span className="soft">
          {" "}
          · {hit.similarity != null && `cosine ${hit.similarity.toFixed(2)} · `}
          {hit.relevance != null && `evidence ${hit.relevance.toFixed(2)} · `}
          {explanation.window != null && `nearest window ${explanation.window.toFixed(2)} · `}
          {percent(explanation.coverage)} of the maximum keyword score
        </span>
      </p>
      {explanation.terms.length > 0 && (
        <table className="mt-1.5">
          <thead className="soft text-left">
            <tr>
              {["term", "weight", "score", ...FIELDS].map((name) => (
                <th key={name} className="pr-4 font-normal">
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {explanation.terms.map((term) => (
              <tr key={term.term}>
                <td className="pr-4 font-semibold">{term.term}</td>
                <td className="pr-4">{shown(term.idf)}</td>
                <td className="pr-4">{shown(term.score)}</td>
                {FIELDS.map((field) => (
                  <td key={field} className="soft pr-4">
                    {shown(term[field])}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}

/** A single line break between blocks is enough in a list of hits. */
const tight = (text: string) => text.replaceAll("\n\n", "\n").replaceAll("\t", " · ");

function Highlighted({ text, spans }: { text: string; spans: { start: number; end: number }[] }) {
  const parts = [];
  let at = 0;
  for (const { start, end } of spans) {
    if (start < at) continue;
    parts.push(
      tight(text.slice(at, start)),
      <mark key={start} className="marked rounded-sm">
        {text.slice(start, end)}
      </mark>,
    );
    at = end;
  }
  parts.push(tight(text.slice(at)));
  return <>{parts}</>;
}
