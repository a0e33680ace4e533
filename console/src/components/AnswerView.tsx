import { type ReactNode, useLayoutEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Citation, Evidence } from "../api/client";
import type { Draft } from "../pages/kb/AskTab";
import { percent, place } from "./text";

const WIDE = "(min-width: 900px)";
const GAP = 20;

export const placeOf = (path: string, cited: { document_id: string; revision_id: string; start: number; end: number }) =>
  `${path}/documents/${cited.document_id}?revision=${cited.revision_id}&from=${cited.start}&to=${cited.end}`;

/** A turn as a set page: the question, the answer in the measure, its citations as notes level with their lines. */
export function AnswerView({ turn, path, live }: { turn: Draft; path: string; live: boolean }) {
  const [lit, setLit] = useState<number | null>(null);
  const [opened, setOpened] = useState<Citation | null>(null);
  const text = useRef<HTMLDivElement>(null);
  const light = (number: number | null) => setLit(number);
  const open = (citation: Citation) => {
    light(citation.number);
    if (!matchMedia(WIDE).matches) setOpened(citation);
  };
  const supported = turn.citations.filter((citation) => citation.support >= 0.8).length;
  return (
    <section className="grid gap-x-11 pt-7 min-[900px]:grid-cols-[minmax(0,660px)_minmax(0,1fr)]" aria-busy={live}>
      <div>
        <h2 className="text-[21px] leading-snug">{turn.question}</h2>
        {turn.standalone !== turn.question && <p className="soft mt-1">Understood as: {turn.standalone}</p>}
        <div ref={text} className="set mt-3" aria-live="polite" data-outcome={turn.outcome ?? "coming"}>
          <AnswerText turn={turn} lit={lit} onLight={light} onOpen={open} />
          {live && turn.text === "" && <p className="soft">Looking through the documents…</p>}
        </div>
        {turn.outcome === "answered" && (
          <p className="border-base-300 soft mt-4 flex gap-5 border-t pt-2.5 text-[13px]">
            <span>
              {supported} of {turn.citations.length} citations support their statement
            </span>
            <CopyButton turn={turn} />
          </p>
        )}
      </div>
      {turn.outcome === "declined" ? (
        <Nearest evidence={turn.evidence} path={path} />
      ) : (
        <Notes turn={turn} path={path} lit={lit} onLight={light} text={text} />
      )}
      {opened && <Rising citation={opened} path={path} onClose={() => setOpened(null)} />}
    </section>
  );
}

interface Lighting {
  lit: number | null;
  onLight: (number: number | null) => void;
}

/** The answer's text: paragraphs and lists, each cited range with its number. */
function AnswerText({ turn, lit, onLight, onOpen }: Lighting & { turn: Draft; onOpen: (citation: Citation) => void }) {
  const blocks: ReactNode[] = [];
  let items: ReactNode[] = [];
  let at = 0;
  const flush = () => {
    if (items.length) blocks.push(<ul key={`u${at}`} className="my-2 pl-6">{items}</ul>);
    items = [];
  };
  for (const line of turn.text.split("\n")) {
    const mark = /^(?:- |\d+[.)] )/.exec(line)?.[0] ?? "";
    const from = at + mark.length;
    const to = at + line.length;
    const inner = <Ranges key={at} turn={turn} from={from} to={to} lit={lit} onLight={onLight} onOpen={onOpen} />;
    if (mark) {
      items.push(
        <li key={at} className="-indent-6">
          <span className="inline-block w-6 indent-0">{mark === "- " ? "•" : mark}</span>
          {inner}
        </li>,
      );
    }
    else {
      flush();
      if (line) blocks.push(<p key={at} className="mb-3">{inner}</p>);
    }
    at = to + 1;
  }
  flush();
  return <>{blocks}</>;
}

function Ranges({ turn, from, to, lit, onLight, onOpen }: Lighting & { turn: Draft; from: number; to: number; onOpen: (citation: Citation) => void }) {
  const parts: ReactNode[] = [];
  let at = from;
  for (const citation of turn.citations) {
    const start = Math.max(citation.answer_start, at);
    const end = Math.min(citation.answer_end, to);
    if (end <= start) continue;
    if (start > at) parts.push(turn.text.slice(at, start));
    parts.push(
      <span
        key={citation.number}
        data-cited={citation.number}
        className={lit === citation.number ? "washed rounded-sm" : ""}
        onMouseEnter={() => onLight(citation.number)}
        onMouseLeave={() => onLight(null)}
      >
        {turn.text.slice(start, end)}
      </span>,
    );
    if (end === citation.answer_end) {
      parts.push(
        <sup key={`s${citation.number}`}>
          <button
            type="button"
            data-number={citation.number}
            aria-label={`Citation ${citation.number}: ${citation.title}`}
            className="text-primary ml-0.5 cursor-pointer px-0.5 font-sans text-[11px] leading-none font-semibold"
            onFocus={() => onLight(citation.number)}
            onBlur={() => onLight(null)}
            onClick={() => onOpen(citation)}
          >
            {citation.number}
          </button>
        </sup>,
      );
    }
    at = end;
  }
  if (at < to) parts.push(turn.text.slice(at, to));
  return <>{parts}</>;
}

/** The margin: each note as level with its line as the notes above it allow. */
function Notes({ turn, path, lit, onLight, text }: Lighting & { turn: Draft; path: string; text: React.RefObject<HTMLDivElement | null> }) {
  const margin = useRef<HTMLElement>(null);
  const [tops, setTops] = useState<number[]>([]);
  const [height, setHeight] = useState(0);
  useLayoutEffect(() => {
    const arrange = () => {
      if (!margin.current || !text.current) return;
      const base = margin.current.getBoundingClientRect().top;
      const notes = [...margin.current.querySelectorAll<HTMLElement>("[data-note]")];
      let free = 0;
      const placed = notes.map((note) => {
        const line = text.current!.querySelector(`[data-cited="${note.dataset.note}"]`);
        const level = line ? line.getBoundingClientRect().top - base : 0;
        const top = Math.max(level, free);
        free = top + note.offsetHeight + GAP;
        return top;
      });
      setTops(placed);
      setHeight(free);
    };
    arrange();
    addEventListener("resize", arrange);
    void document.fonts.ready.then(arrange);
    return () => removeEventListener("resize", arrange);
  }, [turn.citations, turn.text, text]);
  return (
    <aside ref={margin} className="relative hidden min-[900px]:block" style={{ minHeight: height }} aria-label="Citations">
      {turn.citations.map((citation, index) => (
        <Link
          key={citation.number}
          to={placeOf(path, citation)}
          data-note={citation.number}
          data-lit={lit === citation.number}
          className="note absolute w-full max-w-[370px]"
          style={{ top: tops[index] ?? 0 }}
          onMouseEnter={() => onLight(citation.number)}
          onMouseLeave={() => onLight(null)}
          onFocus={() => onLight(citation.number)}
          onBlur={() => onLight(null)}
        >
          <NoteText citation={citation} lit={lit === citation.number} />
        </Link>
      ))}
    </aside>
  );
}

function NoteText({ citation, lit }: { citation: Citation; lit: boolean }) {
  const where = place(citation.title, citation.locator);
  return (
    <>
      <span className="block text-[13px]">
        <b className="text-primary mr-1.5">{citation.number}</b>
        <b className="font-semibold">{citation.title}</b>
        <span className="soft">
          {where && ` · ${where}`} · {percent(citation.match)}
        </span>
      </span>
      <span className="mt-0.5 block font-serif text-[14.5px] leading-snug">
        “<span className={lit ? "marked" : ""}>{citation.quote.replaceAll("\t", " · ")}</span>”
      </span>
    </>
  );
}

function Nearest({ evidence, path }: { evidence: Evidence[]; path: string }) {
  if (evidence.length === 0) return <aside />;
  return (
    <aside aria-label="Nearest passages">
      <p className="soft mb-2 text-[13px]">Nearest passages</p>
      {evidence.slice(0, 3).map((passage) => (
        <Link key={passage.passage_id} to={placeOf(path, passage)} className="note mb-4 max-w-[370px]">
          <span className="block text-[13px]">
            <b className="font-semibold">{passage.title}</b>
            <span className="soft">
              {" · "}
              {place(passage.title, passage.locator)} · {percent(passage.match)}
            </span>
          </span>
          <span className="mt-0.5 line-clamp-3 font-serif text-[14.5px] leading-snug">{passage.text.replaceAll("\t", " · ")}</span>
        </Link>
      ))}
    </aside>
  );
}

/** On a narrow screen a note rises from the bottom. */
function Rising({ citation, path, onClose }: { citation: Citation; path: string; onClose: () => void }) {
  return (
    <div className="bg-base-100 border-base-300 fixed inset-x-0 bottom-0 z-10 rounded-t-2xl border-t p-5 shadow-lg" role="dialog" aria-label={`Citation ${citation.number}`}>
      <NoteText citation={citation} lit />
      <div className="mt-4 flex gap-3">
        <Link className="btn btn-primary" to={placeOf(path, citation)}>
          Open the document
        </Link>
        <button type="button" className="btn" autoFocus onClick={onClose}>
          Close
        </button>
      </div>
    </div>
  );
}

function CopyButton({ turn }: { turn: Draft }) {
  const [done, setDone] = useState(false);
  const copy = async () => {
    const sources = turn.citations.map((c) => `[${c.number}] ${c.title}, ${place(c.title, c.locator)}: “${c.quote}”`);
    await navigator.clipboard.writeText([turn.text, "", ...sources].join("\n"));
    setDone(true);
  };
  return (
    <button type="button" className="link-hover cursor-pointer" onClick={() => void copy()}>
      {done ? "Copied" : "Copy with sources"}
    </button>
  );
}
