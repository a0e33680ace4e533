import { type FormEvent, useRef, useState } from "react";
import { Link } from "react-router";
import { type Hit, type Schemas, send } from "../../api/client";
import { useFacts } from "../../api/useFacts";
import { useResource } from "../../api/useResource";
import { Failure, percent, place } from "../../components/text";
import { useKb } from "./KbPage";

type Mode = Schemas["SearchIn"]["mode"];
type Found = Schemas["SearchOut"];

/** How to search. `weight` is the share of keywords in the score, in per cent; null: the default. */
interface Way {
  mode: Mode;
  weight: number | null;
  newer: boolean;
  joined: boolean;
  perDocument: number;
  /** An edition's number; null: the active one. */
  edition: number | null;
}

const USUAL: Way = {
  mode: "hybrid",
  weight: null,
  newer: false,
  joined: false,
  perDocument: 3,
  edition: null,
};

export function SearchTab() {
  const { api, path, documents } = useKb();
  const editions = useResource<Schemas["Page_EditionOut_"]>(`${api}/editions`);
  const [question, setQuestion] = useState("");
  const [limit, setLimit] = useState(10);
  const [tag, setTag] = useState("");
  const [document, setDocument] = useState("");
  const [ways, setWays] = useState<Way[]>([USUAL]);
  const [found, setFound] = useState<Found[]>([]);
  /** The number of the latest search, 0 before any; after one, changed settings search again. */
  const latest = useRef(0);
  const [explained, setExplained] = useState(false);
  const [error, setError] = useState<string | null>(null);
  const tags = [
    ...new Set(
      (documents ?? []).flatMap((item) =>
        Object.entries(item.tags).map(([key, value]) => `${key}=${value}`),
      ),
    ),
  ].sort();

  const search = async (all: Way[], explain = explained) => {
    if (!question.trim()) return;
    const [key, ...value] = tag.split("=");
    const ask = (way: Way) =>
      send<Found>("POST", `${api}/search`, {
        question,
        mode: way.mode,
        limit,
        keyword_weight: way.weight === null ? null : way.weight / 100,
        prefer_newer: way.newer,
        join_neighbours: way.joined,
        per_document: way.perDocument,
        edition: way.edition,
        tags: tag ? { [key!]: value.join("=") } : {},
        documents: document ? [document] : null,
        explain,
      });
    // A late response of an earlier search must not replace a later one.
    const mine = ++latest.current;
    try {
      const hits = await Promise.all(all.map(ask));
      if (mine !== latest.current) return;
      setFound(hits);
      setError(null);
    } catch (problem) {
      if (mine === latest.current) setError((problem as Error).message);
    }
  };
  const change = (all: Way[]) => {
    setWays(all);
    if (latest.current) void search(all);
  };
  const explainThem = (explain: boolean) => {
    setExplained(explain);
    if (latest.current) void search(ways, explain);
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    void search(ways);
  };
  const beside = ways.length > 1;

  return (
    <>
      <form className="mb-3 flex flex-wrap gap-2.5" onSubmit={submit} role="search">
        <input
          className="input min-w-60 flex-1"
          aria-label="Search"
          placeholder="What would your users ask?"
          required
          value={question}
          onChange={(e) => setQuestion(e.target.value)}
        />
        <select
          className="select w-auto max-w-48"
          aria-label="Document"
          value={document}
          onChange={(e) => setDocument(e.target.value)}
        >
          <option value="">All documents</option>
          {documents?.map((item) => (
            <option key={item.id} value={item.id}>
              {item.title}
            </option>
          ))}
        </select>
        {tags.length > 0 && (
          <select
            className="select w-auto"
            aria-label="Tag"
            value={tag}
            onChange={(e) => setTag(e.target.value)}
          >
            <option value="">All tags</option>
            {tags.map((item) => (
              <option key={item}>{item}</option>
            ))}
          </select>
        )}
        <select
          className="select w-auto"
          aria-label="Number of passages"
          value={limit}
          onChange={(e) => setLimit(Number(e.target.value))}
        >
          {[5, 10, 20, 50].map((n) => (
            <option key={n} value={n}>
              {n} passages
            </option>
          ))}
        </select>
        <button type="submit" className="btn btn-primary">
          Search
        </button>
      </form>
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-2 text-[13px]">
        <span className="soft">
          <code>"a phrase"</code> as written · <code>+word</code> with it · <code>-word</code>{" "}
          without it · <code>begin*</code>
        </span>
        <label className="ml-auto flex cursor-pointer items-center gap-2">
          <input
            type="checkbox"
            className="toggle toggle-sm"
            checked={explained}
            onChange={(e) => explainThem(e.target.checked)}
          />
          Explain the scores
        </label>
        <label className="flex cursor-pointer items-center gap-2">
          <input
            type="checkbox"
            className="toggle toggle-sm"
            checked={beside}
            onChange={(e) =>
              change(e.target.checked ? [ways[0]!, { ...ways[0]!, mode: "lexical" }] : [ways[0]!])
            }
          />
          Compare two settings
        </label>
      </div>
      <Failure message={error} />
      <div className={`grid items-start gap-5 ${beside ? "min-[900px]:grid-cols-2" : ""}`}>
        {ways.map((way, index) => (
          <section key={index} aria-label={beside ? `Setting ${"AB"[index]}` : "Results"}>
            <WayForm
              way={way}
              editions={editions.data?.items ?? []}
              name={beside ? "AB"[index]! : ""}
              onChange={(other) => change(ways.map((item, at) => (at === index ? other : item)))}
            />
            {found[index] && (
              <Results
                found={found[index]}
                other={beside ? found[1 - index] : undefined}
                path={path}
                explained={explained}
              />
            )}
          </section>
        ))}
      </div>
      {found.length === 0 && (
        <p className="soft py-8 text-center">
          See which passages are found, and with what scores, before any chat user asks.
        </p>
      )}
    </>
  );
}

function WayForm({
  way,
  name,
  editions,
  onChange,
}: {
  way: Way;
  name: string;
  editions: Schemas["EditionOut"][];
  onChange: (way: Way) => void;
}) {
  const defaultWeight = Math.round((useFacts()?.keyword_weight ?? 0) * 100);
  const labelled = (text: string) => (name ? `${text} (${name})` : text);
  return (
    <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2 text-[13px]">
      {name && <b>{name}</b>}
      <select
        className="select select-sm w-auto"
        aria-label={labelled("Search mode")}
        value={way.mode}
        onChange={(e) => onChange({ ...way, mode: e.target.value as Mode })}
      >
        <option value="hybrid">Keyword and semantic</option>
        <option value="lexical">Keyword</option>
        <option value="vector">Semantic</option>
      </select>
      {way.mode === "hybrid" && (
        <label className="flex items-center gap-2">
          keywords
          <input
            type="range"
            min={0}
            max={100}
            step={5}
            className="range range-xs w-28"
            aria-label={labelled("Keyword weight")}
            value={way.weight ?? defaultWeight}
            onChange={(e) => onChange({ ...way, weight: Number(e.target.value) })}
          />
          <span className="tabular-nums">{way.weight ?? defaultWeight} %</span>
        </label>
      )}
      <label className="flex items-center gap-2">
        per document
        <select
          className="select select-sm w-auto"
          aria-label={labelled("Passages per document")}
          value={way.perDocument}
          onChange={(e) => onChange({ ...way, perDocument: Number(e.target.value) })}
        >
          {[1, 2, 3, 5, 10].map((n) => (
            <option key={n}>{n}</option>
          ))}
        </select>
      </label>
      <label className="flex cursor-pointer items-center gap-2">
        <input
          type="checkbox"
          className="checkbox checkbox-xs"
          checked={way.newer}
          onChange={(e) => onChange({ ...way, newer: e.target.checked })}
        />
        newer first
      </label>
      <label
        className="flex cursor-pointer items-center gap-2"
        title="Show adjacent passages of a document as one."
      >
        <input
          type="checkbox"
          className="checkbox checkbox-xs"
          checked={way.joined}
          onChange={(e) => onChange({ ...way, joined: e.target.checked })}
        />
        merge adjacent
      </label>
      {editions.length > 1 && (
        <select
          className="select select-sm w-auto"
          aria-label={labelled("Edition")}
          value={way.edition ?? ""}
          onChange={(e) =>
            onChange({ ...way, edition: e.target.value ? Number(e.target.value) : null })
          }
        >
          <option value="">the active edition</option>
          {editions.map((edition) => (
            <option key={edition.id} value={edition.number}>
              edition {edition.number}
            </option>
          ))}
        </select>
      )}
    </div>
  );
}

/**
 * The results of one search. `other` are those of the setting next to it: each hit shows its rank
 * there.
 */
function Results({
  found,
  other,
  path,
  explained,
}: {
  found: Found;
  other?: Found;
  path: string;
  explained: boolean;
}) {
  const corrected = Object.entries(found.corrected);
  return (
    <>
      <p className="soft mb-2">
        {found.hits.length === 0
          ? "Nothing found. Try other words, or semantic search."
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
  mode: Mode;
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
            {there ? `there number ${there}` : "not there"}
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
        <Beside key={part.passage_id} text={part.text} />
      ))}
      <p className="line-clamp-5 font-serif text-[15.5px] leading-relaxed whitespace-pre-line">
        <Highlighted text={hit.text} spans={hit.highlights} />
      </p>
      {after.map((part) => (
        <Beside key={part.passage_id} text={part.text} />
      ))}
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
          words {hit.lexical.toFixed(2)}
          {mode !== "lexical" &&
            (hit.similarity == null
              ? " · no vector yet"
              : ` · cosine ${hit.similarity.toFixed(2)}`)}
        </p>
      )}
    </article>
  );
}

/** A passage merged with a hit. */
function Beside({ text }: { text: string }) {
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
        score {hit.score.toFixed(3)} = words {explanation.keyword_part.toFixed(3)} + meaning{" "}
        {explanation.semantic_part.toFixed(3)}
        {explanation.document_part > 0 && ` + its document ${explanation.document_part.toFixed(3)}`}
        {explanation.boost !== 1 && `, times ${explanation.boost.toFixed(2)}`}
        <span className="soft">
          {" "}
          · {hit.similarity != null && `cosine ${hit.similarity.toFixed(2)} · `}
          {explanation.window != null && `nearest window ${explanation.window.toFixed(2)} · `}
          {percent(explanation.coverage)} of the weight of the words
        </span>
      </p>
      {explanation.terms.length > 0 && (
        <table className="mt-1.5">
          <thead className="soft text-left">
            <tr>
              {["term", "rarity", "gave", ...FIELDS].map((name) => (
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
