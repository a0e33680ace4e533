import { useEffect, useMemo, useRef, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { Missing } from "../../App";
import { type Doc, get, type Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Ago, Failure } from "../../components/text";
import { useInProgress } from "../../hooks/useInProgress";
import { useTeam } from "../../hooks/useSession";
import { API } from "../../root";
import { About, DocumentBar } from "./DocumentBar";
import { DocumentText, type Mark } from "./DocumentText";
import { PagePicture } from "./PagePicture";
import { isRecording, Player } from "./Player";
import { SlidePicture } from "./SlidePicture";
import { OutdatedNotice } from "./Validity";

type Cut = Schemas["PassageOut"];

/** One document: its original next to its text, cited words highlighted, passages, tags, report. */
export function DocumentPage() {
  const team = useTeam();
  const { kb = "", document: id = "" } = useParams();
  const [address] = useSearchParams();
  const api = `${team.api}/kbs/${kb}/documents/${id}`;
  const chosen = address.get("revision");
  const inProgress = useInProgress();
  const { data: document, error, setData } = useResource<Doc>(api, { busy: inProgress });
  const removed = document?.state === "removed";
  const served = document?.active_revision ?? (removed ? document.revision.id : null);
  const readable = served ? `${api}/text?revision=${chosen ?? served}` : null;
  const text = useResource<Schemas["DocumentTextOut"]>(readable);
  const [outlined, setOutlined] = useState(false);
  const passages = usePassages(outlined ? api : null);
  const from = Number(address.get("from") ?? -1);
  const to = Number(address.get("to") ?? -1);
  const [find, setFind] = useState("");
  const [place, setPlace] = useState(0);
  const [page, setPage] = useState(1);
  const sheet = useRef<HTMLElement>(null);
  const player = useRef<HTMLMediaElement>(null);

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
  const sideBySide = text.data?.drawn || slides;
  const sheets = text.data?.unit === "sheet" && pages > 0;
  const cuts = outlined && !older ? passages : [];
  const revision = shown ?? (served ? null : document.revision);
  const recording = revision && isRecording(revision) ? revision : null;
  const pictures = (sha256: string) =>
    `${API}${api}/pictures/${sha256}?revision=${text.data?.revision.id}`;
  const play = (seconds: number) => {
    if (!player.current) return;
    player.current.currentTime = seconds;
    void player.current.play();
  };
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
        {team.mayEdit && (
          <>
            {" · "}
            <Link className="link" to={`/t/${team.slug}/kbs/${kb}/documents/${id}/questions`}>
              questions it answers
            </Link>
            {" · "}
            <Link className="link" to={`/t/${team.slug}/kbs/${kb}/documents/${id}/coverage`}>
              coverage
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
      <DocumentBar
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
        original={`${API}${api}/original${fragment(text.data, page, from)}`}
        download={`${API}${api}/original?download=true`}
      />
      <div
        className={`grid gap-6 ${sideBySide ? "min-[900px]:grid-cols-2" : "min-[900px]:grid-cols-[minmax(0,1fr)_290px]"}`}
      >
        <div className={sideBySide ? "" : "min-[900px]:order-2"}>
          <div className="flex flex-col gap-5 min-[900px]:sticky min-[900px]:top-4">
            {text.data?.drawn && (
              <PagePicture
                api={api}
                page={page}
                revision={chosen}
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
                revision={chosen}
                text={text.data}
                marks={marks}
                onChoose={choose}
              />
            )}
            {!sideBySide && (
              <About document={document} api={api} mayEdit={team.mayEdit} onChange={setData} />
            )}
          </div>
        </div>
        <article
          className={`sheet px-6 py-7 min-[900px]:px-10 ${sideBySide ? "min-[900px]:h-[calc(100vh-2rem)] min-[900px]:overflow-y-auto" : ""}`}
          ref={sheet}
        >
          {older && (
            <p className="text-warning mb-4">
              This is revision {shown.number}; a newer one is in use by now.
            </p>
          )}
          <OutdatedNotice document={document} path={`/t/${team.slug}/kbs/${kb}/documents`} />
          {document.state === "failed" && <Failure message={document.error} />}
          {document.state !== "failed" && document.error && (
            <p className="text-warning mb-4">{document.error}</p>
          )}
          {removed && (
            <p className="text-warning mb-4">
              It was removed from its source <Ago at={document.changed_at} /> and no longer appears
              in answers. This is its last content.
            </p>
          )}
          {!served &&
            !["failed", "needs_transcript", "transcribing", "describing"].includes(
              document.state,
            ) && <p className="soft">The document is being read…</p>}
          {!served && document.state === "transcribing" && (
            <p className="soft">The recording is being transcribed…</p>
          )}
          {!served && document.state === "describing" && (
            <p className="soft">Its pictures are being described…</p>
          )}
          {recording && (
            <Player
              revision={recording}
              address={`${API}${api}/original?revision=${recording.id}`}
              from={secondAt(blocks, from)}
              player={player}
            />
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
              onPlay={recording ? play : undefined}
              pictures={text.data.drawn ? undefined : pictures}
            />
          )}
        </article>
      </div>
      {sideBySide && (
        <div className="mt-6 max-w-xl">
          <About document={document} api={api} mayEdit={team.mayEdit} onChange={setData} />
        </div>
      )}
    </>
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

/** When the words at a position are spoken; null where nothing is cited or nothing is spoken. */
function secondAt(blocks: Schemas["BlockOut"][] | undefined, position: number): number | null {
  if (position < 0) return null;
  const block = blocks?.find((one) => one.start <= position && position < one.end);
  return block?.seconds ?? null;
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
