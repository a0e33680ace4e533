import { useEffect, useMemo, useRef, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { Missing } from "../../App";
import { type Doc, get, type Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Facts, reportFacts } from "../../components/Report";
import { Ago, count, Failure, State, size, unitName } from "../../components/text";
import { useInProgress } from "../../hooks/useInProgress";
import { useTeam } from "../../hooks/useSession";
import { DocumentText, type Mark } from "./DocumentText";
import { PagePicture } from "./PagePicture";
import { SlidePicture } from "./SlidePicture";
import { Tags } from "./Tags";

type Cut = Schemas["PassageOut"];

/** One document: its original next to its text, cited words highlighted, passages, tags, report. */
export function DocumentPage() {
  const team = useTeam();
  const { kb = "", document: id = "" } = useParams();
  const [address] = useSearchParams();
  const api = `${team.api}/kbs/${kb}/documents/${id}`;
  const wanted = address.get("revision");
  const inProgress = useInProgress();
  const { data: document, error, setData } = useResource<Doc>(api, { busy: inProgress });
  const removed = document?.state === "removed";
  const served = document?.active_revision ?? (removed ? document.revision.id : null);
  const readable = served ? `${api}/text?revision=${wanted ?? served}` : null;
  const text = useResource<Schemas["DocumentTextOut"]>(readable);
  const [outlined, setOutlined] = useState(false);
  const passages = usePassages(outlined ? api : null);
  const from = Number(address.get("from") ?? -1);
  const to = Number(address.get("to") ?? -1);
  const [find, setFind] = useState("");
  const [place, setPlace] = useState(0);
  const [page, setPage] = useState(1);
  const sheet = useRef<HTMLElement>(null);

  const blocks = text.data?.blocks;
  const hits = useMemo(() => occurrences(text.data?.text ?? "", find), [text.data, find]);
  const marks = useMemo<Mark[]>(() => {
    const found = hits.map(
      (start, number): Mark => ({
        start,
        end: start + find.length,
        kind: number === place ? "now" : "found",
      }),
    );
    const cited: Mark[] = from >= 0 && !find ? [{ start: from, end: to, kind: "cited" }] : [];
    return [...cited, ...found];
  }, [hits, place, find, from, to]);
  useEffect(() => {
    if (!blocks || from < 0) return;
    setPage(pageAt(blocks, from) ?? 1);
    show(sheet.current, "mark");
  }, [blocks, from]);
  useEffect(() => {
    const hit = hits[place];
    if (hit === undefined || !blocks) return;
    setPage(pageAt(blocks, hit) ?? 1);
    show(sheet.current, "[data-now]");
  }, [hits, place, blocks]);

  if (error) return <Missing />;
  if (!document) return null;
  const shown = text.data?.revision;
  const older = shown && shown.id !== served;
  const pages = shown?.pages ?? 0;
  const goTo = (number: number) => {
    setPage(number);
    show(sheet.current, `[data-page="${number}"]`, 0);
  };
  const choose = (position: number) => {
    const at =
      text.data?.blocks.findIndex((block) => block.start <= position && position < block.end) ?? -1;
    show(sheet.current, `[data-block="${at}"]`);
  };
  const slides = text.data?.unit === "slide";
  const beside = text.data?.drawn || slides;
  const sheets = text.data?.unit === "sheet" && pages > 0;
  const cuts = outlined && !older ? passages : [];
  return (
    <>
      <p className="mb-2">
        <Link className="link-hover soft" to={`/t/${team.slug}/kbs/${kb}/documents`}>
          ← All documents
        </Link>
      </p>
      <h1 className="text-[27px] leading-tight">{document.title}</h1>
      {document.description && (
        <p className="mt-1 max-w-3xl">
          {document.description}
          {document.described_by && (
            <span className="soft"> (described by {document.described_by})</span>
          )}
        </p>
      )}
      <p className="soft mt-1">
        {document.name}
        {document.parent && (
          <>
            {" · found inside "}
            <Link className="link" to={`/t/${team.slug}/kbs/${kb}/documents/${document.parent}`}>
              another document
            </Link>
          </>
        )}
        {document.link && (
          <>
            {" · "}
            <a
              className="link"
              href={/^https?:/.test(document.link) ? document.link : undefined}
              target="_blank"
              rel="noreferrer"
            >
              open at the source
            </a>
          </>
        )}
        {document.revision.number > 1 && (
          <>
            {" · "}
            <Link className="link" to={`/t/${team.slug}/kbs/${kb}/documents/${id}/changes`}>
              what changed
            </Link>
          </>
        )}
        {team.mayEdit &&
          !document.source &&
          !document.parent &&
          /\.(md|markdown|txt|csv|tsv)$/i.test(document.name) && (
            <>
              {" · "}
              <Link className="link" to={`/t/${team.slug}/kbs/${kb}/documents/${id}/edit`}>
                edit
              </Link>
            </>
          )}
      </p>
      <Bar
        text={text.data}
        page={page}
        pages={pages}
        onPage={goTo}
        find={find}
        onFind={(value) => {
          setFind(value);
          setPlace(0);
        }}
        hits={hits.length}
        place={place}
        onPlace={setPlace}
        outlined={outlined}
        onOutlined={setOutlined}
        original={`/api/v1${api}/original${fragment(text.data, page, from)}`}
        download={`/api/v1${api}/original?download=true`}
      />
      <div
        className={`grid gap-6 ${beside ? "min-[900px]:grid-cols-2" : "min-[900px]:grid-cols-[minmax(0,1fr)_290px]"}`}
      >
        <div className={beside ? "" : "min-[900px]:order-2"}>
          <div className="flex flex-col gap-5 min-[900px]:sticky min-[900px]:top-4">
            {text.data?.drawn && (
              <PagePicture
                api={api}
                page={page}
                revision={wanted}
                marks={marks}
                passages={cuts}
                onChoose={choose}
                onPage={goTo}
              />
            )}
            {slides && text.data && (
              <SlidePicture
                api={api}
                page={page}
                revision={wanted}
                text={text.data}
                marks={marks}
                onChoose={choose}
              />
            )}
            {!beside && (
              <About document={document} api={api} mayEdit={team.mayEdit} onChange={setData} />
            )}
          </div>
        </div>
        <article
          className={`sheet px-6 py-7 min-[900px]:px-10 ${beside ? "min-[900px]:h-[calc(100vh-2rem)] min-[900px]:overflow-y-auto" : ""}`}
          ref={sheet}
        >
          {older && (
            <p className="text-warning mb-4">
              This is revision {shown.number}; a newer one is in use by now.
            </p>
          )}
          {document.state === "failed" && <Failure message={document.error} />}
          {removed && (
            <p className="text-warning mb-4">
              It was removed from its source <Ago at={document.changed_at} /> and no longer appears
              in answers. This is its last content.
            </p>
          )}
          {!served && document.state !== "failed" && (
            <p className="soft">The document is being read…</p>
          )}
          <Failure message={text.error} />
          {sheets && (
            <div role="tablist" aria-label="Sheets" className="tabs tabs-border mb-2 font-sans">
              {text.data?.unit_names.map((name, index) => (
                <button
                  key={name}
                  type="button"
                  role="tab"
                  aria-selected={page === index + 1}
                  className={`tab ${page === index + 1 ? "tab-active" : ""}`}
                  onClick={() => setPage(index + 1)}
                >
                  {name}
                </button>
              ))}
            </div>
          )}
          {text.data && (
            <DocumentText
              text={text.data.text}
              blocks={text.data.blocks}
              unit={text.data.unit}
              labels={text.data.unit_names}
              marks={marks}
              passages={cuts}
              only={sheets ? page : undefined}
            />
          )}
        </article>
      </div>
      {beside && (
        <div className="mt-6 max-w-xl">
          <About document={document} api={api} mayEdit={team.mayEdit} onChange={setData} />
        </div>
      )}
    </>
  );
}

interface BarProps {
  text: Schemas["DocumentTextOut"] | null;
  page: number;
  pages: number;
  onPage: (page: number) => void;
  find: string;
  onFind: (find: string) => void;
  hits: number;
  place: number;
  onPlace: (place: number) => void;
  outlined: boolean;
  onOutlined: (outlined: boolean) => void;
  original: string;
  download: string;
}

/** Navigation in a document: to a page, words, passages, or the original. */
function Bar({
  text,
  page,
  pages,
  onPage,
  find,
  onFind,
  hits,
  place,
  onPlace,
  outlined,
  onOutlined,
  original,
  download,
}: BarProps) {
  const unit = text?.unit ?? "page";
  return (
    <div
      className="my-4 flex flex-wrap items-center gap-x-5 gap-y-2"
      role="toolbar"
      aria-label="Document"
    >
      {pages > 1 && (
        <span className="flex items-center gap-1">
          <button
            type="button"
            className="btn btn-sm"
            aria-label={`Previous ${unit}`}
            disabled={page <= 1}
            onClick={() => onPage(page - 1)}
          >
            ‹
          </button>
          <select
            className="select select-sm w-auto"
            aria-label={`Go to ${unit}`}
            value={page}
            onChange={(event) => onPage(Number(event.target.value))}
          >
            {Array.from({ length: pages }, (_, index) => (
              <option key={index} value={index + 1}>
                {unitName(unit, index + 1, text?.unit_names[index])}
              </option>
            ))}
          </select>
          <button
            type="button"
            className="btn btn-sm"
            aria-label={`Next ${unit}`}
            disabled={page >= pages}
            onClick={() => onPage(page + 1)}
          >
            ›
          </button>
        </span>
      )}
      <form
        className="flex items-center gap-2"
        role="search"
        onSubmit={(event) => {
          event.preventDefault();
          if (hits) onPlace((place + 1) % hits);
        }}
      >
        <input
          className="input input-sm w-52"
          placeholder="Find in this document…"
          aria-label="Find in this document"
          value={find}
          onChange={(event) => onFind(event.target.value)}
        />
        {find.length > 1 && (
          <span className="soft tabular-nums" role="status">
            {hits ? `${place + 1} of ${hits}` : "not there"}
          </span>
        )}
      </form>
      <label className="flex cursor-pointer items-center gap-2">
        <input
          type="checkbox"
          className="toggle toggle-sm"
          checked={outlined}
          onChange={(event) => onOutlined(event.target.checked)}
        />
        Show passages
      </label>
      <span className="ml-auto flex gap-2">
        <a className="btn btn-sm" href={original} target="_blank" rel="noreferrer">
          Open the original
        </a>
        <a className="btn btn-sm" href={download}>
          Download
        </a>
      </span>
    </div>
  );
}

/** All passages of a document, page after page. */
function usePassages(api: string | null): Cut[] {
  const [passages, setPassages] = useState<Cut[]>([]);
  useEffect(() => {
    if (!api) return;
    let current = true;
    const load = async () => {
      const all: Cut[] = [];
      let cursor = "";
      do {
        const part: Schemas["Page_PassageOut_"] = await get(
          `${api}/passages?limit=500${cursor && `&cursor=${cursor}`}`,
        );
        all.push(...part.items);
        cursor = part.next ?? "";
      } while (cursor && current);
      if (current) setPassages(all);
    };
    load().catch(() => setPassages([]));
    return () => {
      current = false;
    };
  }, [api]);
  return api ? passages : [];
}

function About({
  document,
  api,
  mayEdit,
  onChange,
}: {
  document: Doc;
  api: string;
  mayEdit: boolean;
  onChange: (document: Doc) => void;
}) {
  const { revision } = document;
  const seconds = Object.entries(revision.seconds).map(
    ([stage, value]) => `${stage} ${value.toFixed(2)} s`,
  );
  return (
    <section className="sheet" aria-label="Reading report">
      <Facts
        facts={[
          ["State", <State key="s" document={document} />],
          ...(revision.report ? reportFacts(revision.report) : []),
          ["Passages", count(revision.passages)],
          ["Tokens", count(revision.tokens)],
          ["Size", size(revision.size)],
          ["Revision", revision.number],
          ["Added", <Ago key="a" at={revision.created_at} />],
          ["Time", seconds.join(", ") || "–"],
        ]}
        warnings={revision.warnings}
      />
      <Tags document={document} api={api} mayEdit={mayEdit} onChange={onChange} />
    </section>
  );
}

/**
 * Scroll a part of the text into view; a text with its own scroll bar leaves the page where it is.
 */
function show(sheet: HTMLElement | null, selector: string, share = 0.35) {
  const part = sheet?.querySelector(selector);
  if (!sheet || !part) return;
  if (sheet.scrollHeight > sheet.clientHeight + 1) {
    const down = part.getBoundingClientRect().top - sheet.getBoundingClientRect().top;
    sheet.scrollTo({ top: sheet.scrollTop + down - share * sheet.clientHeight });
  } else part.scrollIntoView({ block: share ? "center" : "start" });
}

function pageAt(blocks: Schemas["BlockOut"][], position: number): number | null {
  return blocks.find((block) => block.start <= position && position < block.end)?.page ?? null;
}

/** Where the original opens: a PDF at its page, a web page at the heading above. */
function fragment(text: Schemas["DocumentTextOut"] | null, page: number, from: number): string {
  if (!text) return "";
  if (text.revision.media_type === "application/pdf") return `#page=${page}`;
  const block = text.blocks.findLast((item) => item.start <= Math.max(from, 0) && item.anchor);
  return block?.anchor ? `#${block.anchor}` : "";
}

/** Occurrences of words in a text, ignoring case; at most a thousand. */
function occurrences(text: string, find: string): number[] {
  if (find.length < 2) return [];
  const [where, what] = [text.toLowerCase(), find.toLowerCase()];
  const out: number[] = [];
  for (
    let at = where.indexOf(what);
    at >= 0 && out.length < 1000;
    at = where.indexOf(what, at + what.length)
  )
    out.push(at);
  return out;
}
