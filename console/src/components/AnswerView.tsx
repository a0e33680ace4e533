import { type ReactNode, useLayoutEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Citation, Evidence } from "../api/client";
import type { Draft } from "../hooks/useAsking";
import { percent, place } from "./text";

const WIDE = "(min-width: 900px)";
const GAP = 20;

export const placeOf = (path: string, cited: Cited) =>
  `${path}/documents/${cited.document_id}?revision=${cited.revision_id}&from=${cited.start}&to=${cited.end}`;

type Cited = {
  document_id: string;
  revision_id: string;
  start: number;
  end: number;
  kb_id?: string;
};

interface Props {
  turn: Draft;
  /** The path of a citation's knowledge base; null for readers without access to documents. */
  pathOf: (cited: Cited) => string | null;
  live: boolean;
  /** Open a citation's context, for readers without access to the document. */
  onContext?: (citation: Citation) => void;
  /** The path of records of answers, for editors. */
  record?: string;
  children?: ReactNode;
}

const STATES: Partial<Record<Draft["state"], string>> = {
  stopped: "Stopped before it was finished.",
  interrupted: "The service was stopped before this was finished. Ask again.",
  failed: "This answer failed.",
};

/** A turn: the question, the answer, and its citations as margin notes next to their lines. */
export function AnswerView({ turn, pathOf, live, onContext, record, children }: Props) {
  const [lit, setLit] = useState<number | null>(null);
  const [opened, setOpened] = useState<Citation | null>(null);
  const text = useRef<HTMLDivElement>(null);
  const light = (number: number | null) => setLit(number);
  const open = (citation: Citation) => {
    light(citation.number);
    if (!matchMedia(WIDE).matches) setOpened(citation);
    else if (onContext) onContext(citation);
  };
  const checked = turn.statements.filter((statement) => statement.verdict !== "none");
  const supported = checked.filter((statement) => statement.verdict === "supported").length;
  const doubts = turn.statements.filter(
    (statement) => statement.verdict === "weak" || statement.verdict === "uncited",
  );
  return (
    <section
      className="grid gap-x-11 pt-7 min-[900px]:grid-cols-[minmax(0,660px)_minmax(0,1fr)]"
      aria-busy={live}
    >
      <div className="min-w-0">
        <h2 className="text-[21px] leading-snug">{turn.question}</h2>
        {turn.standalone !== turn.question && (
          <p className="soft mt-1">Understood as: {turn.standalone}</p>
        )}
        <div
          ref={text}
          className="set mt-3"
          aria-live="polite"
          data-outcome={turn.outcome ?? "coming"}
        >
          <AnswerText turn={turn} lit={lit} onLight={light} onOpen={open} />
          {live && turn.text === "" && <p className="soft">Searching the documents…</p>}
        </div>
        {!live && STATES[turn.state] && <p className="soft mt-2">{STATES[turn.state]}</p>}
        {turn.note && (
          <p className="border-warning soft mt-3 border-l-2 pl-3" role="note">
            {turn.note}
          </p>
        )}
        {doubts.length > 0 && <Doubts turn={turn} doubts={doubts} />}
        {turn.links.length > 0 && (
          <p className="mt-3 flex flex-wrap gap-x-5 gap-y-1">
            {turn.links.map((link) => (
              <a
                key={link.url}
                className="link text-primary"
                href={link.url}
                target="_blank"
                rel="noreferrer noopener"
              >
                {link.title}
              </a>
            ))}
          </p>
        )}
        {turn.state === "done" && turn.outcome && turn.outcome !== "small_talk" && (
          <div className="border-base-300 soft mt-4 flex flex-wrap items-center gap-x-5 gap-y-1 border-t pt-2.5 text-[13px]">
            {turn.outcome === "answered" && (
              <>
                <span>
                  {supported} of {checked.length}{" "}
                  {checked.length === 1 ? "statement is" : "statements are"} supported by the cited
                  passages
                </span>
                <CopyButton turn={turn} />
              </>
            )}
            {record && turn.id && (
              <Link className="link-hover" to={`${record}/${turn.id}`}>
                How this answer was made
              </Link>
            )}
            {children}
          </div>
        )}
      </div>
      {turn.outcome === "declined" ? (
        <Nearest evidence={turn.evidence} pathOf={pathOf} />
      ) : (
        <Notes
          turn={turn}
          pathOf={pathOf}
          onContext={onContext}
          lit={lit}
          onLight={light}
          text={text}
        />
      )}
      {opened && (
        <Rising
          citation={opened}
          path={pathOf(opened)}
          onContext={onContext}
          onClose={() => setOpened(null)}
        />
      )}
    </section>
  );
}

/** The statements that the cited passages do not support, and those that were removed. */
function Doubts({ turn, doubts }: { turn: Draft; doubts: Draft["statements"] }) {
  const removed = doubts.filter((statement) => statement.removed).length;
  const marked = doubts.length - removed;
  return (
    <details className="border-warning mt-3 border-l-2 pl-3 text-[13px]">
      <summary className="cursor-pointer">
        {marked > 0 &&
          `${marked} ${marked === 1 ? "statement is" : "statements are"} not supported by the cited passages`}
        {marked > 0 && removed > 0 && "; "}
        {removed > 0 && `${removed} ${removed === 1 ? "was" : "were"} left out`}
      </summary>
      <ul className="mt-1.5 space-y-1.5">
        {doubts.map((statement, index) => (
          <li key={index}>
            <span className="font-serif">
              “{statement.removed || turn.text.slice(statement.start, statement.end)}”
            </span>
            <span className="soft block">{statement.reason}</span>
          </li>
        ))}
      </ul>
    </details>
  );
}

interface Lighting {
  lit: number | null;
  onLight: (number: number | null) => void;
}

/** The answer's text: paragraphs, lists and tables, each cited range with its number. */
function AnswerText({
  turn,
  lit,
  onLight,
  onOpen,
}: Lighting & { turn: Draft; onOpen: (citation: Citation) => void }) {
  const blocks: ReactNode[] = [];
  let items: ReactNode[] = [];
  let rows: ReactNode[] = [];
  let at = 0;
  const flush = () => {
    if (items.length)
      blocks.push(
        <ul key={`u${at}`} className="my-2 pl-6">
          {items}
        </ul>,
      );
    if (rows.length)
      blocks.push(
        <div key={`t${at}`} className="my-2 overflow-x-auto">
          <table className="table font-sans text-[14.5px]">
            <tbody>{rows}</tbody>
          </table>
        </div>,
      );
    items = [];
    rows = [];
  };
  for (const line of turn.text.split("\n")) {
    const mark = /^(?:[-*•] |\d+[.)] )/.exec(line)?.[0] ?? "";
    const from = at + mark.length;
    const to = at + line.length;
    const ranges = (start: number, end: number) => (
      <Ranges
        key={start}
        turn={turn}
        from={start}
        to={end}
        lit={lit}
        onLight={onLight}
        onOpen={onOpen}
      />
    );
    if (/^\|[\s|:-]*$/.test(line)) {
      // The separator below a table's head.
    } else if (line.startsWith("|")) {
      rows.push(
        <tr key={at}>
          {cells(line).map(([start, end]) => (
            <td key={start}>{ranges(at + start, at + end)}</td>
          ))}
        </tr>,
      );
    } else if (mark) {
      items.push(
        <li key={at} className="-indent-6">
          <span className="inline-block w-6 indent-0">{/\d/.test(mark) ? mark : "•"}</span>
          {ranges(from, to)}
        </li>,
      );
    } else {
      flush();
      if (line)
        blocks.push(
          <p key={at} className="mb-3">
            {ranges(from, to)}
          </p>,
        );
    }
    at = to + 1;
  }
  flush();
  return <>{blocks}</>;
}

/** Where the cells of a table's row begin and end. */
function cells(line: string): [number, number][] {
  const bars = [...line.matchAll(/(?<!\\)\|/g)].map((match) => match.index);
  return bars.slice(0, -1).map((bar, n) => [bar + 1, bars[n + 1]!]);
}

function Ranges({
  turn,
  from,
  to,
  lit,
  onLight,
  onOpen,
}: Lighting & { turn: Draft; from: number; to: number; onOpen: (citation: Citation) => void }) {
  const parts: ReactNode[] = [];
  let at = from;
  for (const citation of turn.citations) {
    const start = Math.max(citation.answer_start, at);
    const end = Math.min(citation.answer_end, to);
    // A second citation of the same statement adds its number only.
    const again = citation.answer_start >= from && citation.answer_end === at && at > from;
    if (end <= start && !again) continue;
    if (start > at) parts.push(turn.text.slice(at, start));
    const doubtful = turn.statements.some(
      (one) => one.citations.includes(citation.number) && one.verdict === "weak",
    );
    if (end > start)
      parts.push(
        <span
          key={citation.number}
          data-cited={citation.number}
          data-doubtful={doubtful || undefined}
          className={`${lit === citation.number ? "washed rounded-sm" : ""} ${doubtful ? "decoration-warning underline decoration-dotted underline-offset-4" : ""}`}
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
    at = Math.max(at, end);
  }
  if (at < to) parts.push(turn.text.slice(at, to));
  return <>{parts}</>;
}

/** The margin: each note as close to its line as the notes above allow. */
function Notes({
  turn,
  pathOf,
  onContext,
  lit,
  onLight,
  text,
}: Lighting &
  Pick<Props, "turn" | "pathOf" | "onContext"> & { text: React.RefObject<HTMLDivElement | null> }) {
  const margin = useRef<HTMLElement>(null);
  const [tops, setTops] = useState<number[]>([]);
  const [height, setHeight] = useState(0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: notes are arranged again when the answer grows
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
    <aside
      ref={margin}
      className="relative hidden min-[900px]:block"
      style={{ minHeight: height }}
      aria-label="Citations"
    >
      {turn.citations.map((citation, index) => (
        <Note
          key={citation.number}
          citation={citation}
          path={pathOf(citation)}
          onContext={onContext}
          lit={lit === citation.number}
          onLight={onLight}
          top={tops[index] ?? 0}
        />
      ))}
    </aside>
  );
}

interface NoteProps extends Pick<Props, "onContext"> {
  citation: Citation;
  path: string | null;
  lit: boolean;
  onLight: (number: number | null) => void;
  top: number;
}

/** A note opens the document, or the quote in its context without access. */
function Note({ citation, path, onContext, lit, onLight, top }: NoteProps) {
  const shared = {
    "data-note": citation.number,
    "data-lit": lit,
    className: "note absolute w-full max-w-[370px] text-left",
    style: { top },
    onMouseEnter: () => onLight(citation.number),
    onMouseLeave: () => onLight(null),
    onFocus: () => onLight(citation.number),
    onBlur: () => onLight(null),
  };
  return path === null ? (
    <button
      type="button"
      {...shared}
      className={`${shared.className} cursor-pointer`}
      onClick={() => onContext?.(citation)}
    >
      <NoteText citation={citation} lit={lit} />
    </button>
  ) : (
    <Link to={placeOf(path, citation)} {...shared}>
      <NoteText citation={citation} lit={lit} />
    </Link>
  );
}

export function NoteText({ citation, lit }: { citation: Citation; lit: boolean }) {
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
      {(citation.also?.length ?? 0) > 0 && (
        <span className="soft block text-[13px]">also in {citation.also!.join(", ")}</span>
      )}
    </>
  );
}

function Nearest({ evidence, pathOf }: { evidence: Evidence[]; pathOf: Props["pathOf"] }) {
  if (evidence.length === 0) return <aside />;
  return (
    <aside aria-label="Nearest passages">
      <p className="soft mb-2 text-[13px]">Nearest passages</p>
      {evidence.slice(0, 3).map((passage) => {
        const path = pathOf(passage);
        const text = (
          <>
            <span className="block text-[13px]">
              <b className="font-semibold">{passage.title}</b>
              <span className="soft">
                {" · "}
                {place(passage.title, passage.locator)} · {percent(passage.match)}
              </span>
            </span>
            <span className="mt-0.5 line-clamp-3 font-serif text-[14.5px] leading-snug">
              {passage.text.replaceAll("\t", " · ")}
            </span>
          </>
        );
        return path === null ? (
          <div key={passage.passage_id} className="note mb-4 max-w-[370px]">
            {text}
          </div>
        ) : (
          <Link
            key={passage.passage_id}
            to={placeOf(path, passage)}
            className="note mb-4 max-w-[370px]"
          >
            {text}
          </Link>
        );
      })}
    </aside>
  );
}

/** On a narrow screen a note opens from the bottom. */
function Rising({
  citation,
  path,
  onContext,
  onClose,
}: {
  citation: Citation;
  path: string | null;
  onContext?: Props["onContext"];
  onClose: () => void;
}) {
  return (
    <div
      className="bg-base-100 border-base-300 fixed inset-x-0 bottom-0 z-10 rounded-t-2xl border-t p-5 shadow-lg"
      role="dialog"
      aria-label={`Citation ${citation.number}`}
    >
      <NoteText citation={citation} lit />
      <div className="mt-4 flex gap-3">
        {path !== null && (
          <Link className="btn btn-primary" to={placeOf(path, citation)}>
            Open the document
          </Link>
        )}
        {path === null && onContext && (
          <button
            type="button"
            className="btn btn-primary"
            onClick={() => {
              onClose();
              onContext(citation);
            }}
          >
            Open it in the document
          </button>
        )}
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
    const sources = turn.citations.map(
      (c) => `[${c.number}] ${c.title}, ${place(c.title, c.locator)}: “${c.quote}”`,
    );
    await navigator.clipboard.writeText([turn.text, "", ...sources].join("\n"));
    setDone(true);
  };
  return (
    <button type="button" className="link-hover cursor-pointer" onClick={() => void copy()}>
      {done ? "Copied" : "Copy with sources"}
    </button>
  );
}
