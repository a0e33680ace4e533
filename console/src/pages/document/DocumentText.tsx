import { type ReactNode, useEffect, useState } from "react";
import type { Schemas } from "../../api/client";
import { clock, unitName } from "../../components/text";

type Block = Schemas["BlockOut"];
type Cut = Schemas["CutOut"];

/** Characters [start, end) to highlight: cited words or search results (`now`: the current one). */
export interface Mark {
  start: number;
  end: number;
  kind: "cited" | "found" | "now";
}

interface Props {
  text: string;
  blocks: Block[];
  unit: string;
  labels: string[];
  marks: Mark[];
  passages: Cut[];
  /** Show only this page. */
  only?: number;
  /** Plays the recording from a second. */
  onPlay?: (seconds: number) => void;
  /** The address of a picture by its hash; none where pictures are not shown. */
  pictures?: (sha256: string) => string;
}

/** A document's text by block, with page marks, highlights, and starts of passages. */
export function DocumentText({
  text,
  blocks,
  unit,
  labels,
  marks,
  passages,
  only,
  onPlay,
  pictures,
}: Props) {
  const out: ReactNode[] = [];
  let page: number | null = null;
  let next = 0;
  for (const [number, block] of blocks.entries()) {
    if (only && block.page !== only) {
      while (next < passages.length && passages[next]!.start < block.end) next++;
      continue;
    }
    if (!only && block.page && block.page !== page) {
      page = block.page;
      out.push(
        <p
          key={`p${page}`}
          data-page={page}
          className="soft border-base-300 mt-6 mb-3 border-b border-dashed pb-1 text-right text-[12px]"
        >
          {unitName(unit, page, labels[page - 1])}
        </p>,
      );
    }
    // A passage that starts inside a long block is marked before it.
    for (; next < passages.length && passages[next]!.start < block.end; next++) {
      out.push(<PassageMark key={`m${passages[next]!.ordinal}`} passage={passages[next]!} />);
    }
    const inside = marks.filter((mark) => mark.start < block.end && mark.end > block.start);
    out.push(
      <div
        key={block.start}
        data-block={number}
        className={block.left_out ? "soft border-base-300 border-l-2 pl-3 text-[14px]" : undefined}
      >
        {block.left_out && !blocks[number - 1]?.left_out && (
          <p className="mb-1 font-sans text-[11.5px]">not indexed: repeats on other pages</p>
        )}
        <BlockText block={block} text={text} marks={inside} onPlay={onPlay} pictures={pictures} />
      </div>,
    );
  }
  return <div className="set max-w-none">{out}</div>;
}

function PassageMark({ passage }: { passage: Cut }) {
  return (
    <p className="text-primary border-primary mt-4 mb-1 border-t pt-0.5 font-sans text-[11.5px]">
      passage {passage.ordinal + 1} · {passage.tokens} tokens
    </p>
  );
}

interface BlockProps extends Pick<Props, "text" | "marks" | "onPlay" | "pictures"> {
  block: Block;
}

export function BlockText({ block, text, marks, onPlay, pictures }: BlockProps) {
  const marked = (start: number, end: number) => (
    <Marked text={text} start={start} end={end} marks={marks} />
  );
  if (block.kind === "heading") {
    const Tag = `h${Math.min(block.level + 1, 6)}` as "h2";
    const size =
      block.level <= 1 ? "text-[22px]" : block.level === 2 ? "text-[19px]" : "text-[17.5px]";
    return (
      <Tag
        id={block.anchor ?? undefined}
        className={`mt-5 mb-2 leading-snug font-semibold ${size}`}
      >
        {marked(block.start, block.end)}
      </Tag>
    );
  }
  if (block.kind === "code") {
    return (
      <pre className="bg-base-200 my-3 overflow-x-auto rounded p-3 font-mono text-[13px]">
        {marked(block.start, block.end)}
      </pre>
    );
  }
  if (block.kind === "cue") {
    return (
      <p className="mb-3 max-w-[66ch]">
        <Clock seconds={block.seconds ?? 0} onPlay={onPlay} />
        {marked(block.start, block.end)}
      </p>
    );
  }
  if (block.kind === "figure" && block.described_by)
    return (
      <figure className="mb-4 max-w-[66ch]">
        {block.picture && pictures && (
          <img
            className="border-base-300 mb-2 max-h-[50vh] max-w-full rounded border"
            src={pictures(block.picture)}
            alt={text.slice(block.start, block.end)}
            loading="lazy"
          />
        )}
        <figcaption className="italic">
          {marked(block.start, block.end)}{" "}
          <span className="soft font-sans text-[12px] not-italic">
            described by {block.described_by}
          </span>
        </figcaption>
      </figure>
    );
  if (block.kind === "figure")
    return <p className="soft mb-3 max-w-[66ch] italic">{marked(block.start, block.end)}</p>;
  if (block.kind === "footnote")
    return (
      <p className="soft mb-3 max-w-[66ch] pl-5 text-[15px]">{marked(block.start, block.end)}</p>
    );
  if (block.kind === "paragraph")
    return <p className="mb-3 max-w-[66ch]">{marked(block.start, block.end)}</p>;
  if (block.kind === "table") return <Table block={block} text={text} marks={marks} />;
  const lines = linesOf(block, text);
  return (
    <ul className="mb-3 max-w-[66ch]">
      {lines.map(([start, end]) => {
        const line = text.slice(start, end);
        const depth = (line.length - line.trimStart().length) / 2;
        return (
          <li key={start} style={{ marginLeft: `${depth + 1.3}em`, textIndent: "-1.3em" }}>
            {marked(start + depth * 2, end)}
          </li>
        );
      })}
    </ul>
  );
}

/** When something is said; pressed, it is played. */
function Clock({ seconds, onPlay }: { seconds: number; onPlay?: (seconds: number) => void }) {
  const look = "mr-2 font-sans text-[12px] tabular-nums";
  if (!onPlay) return <span className={`soft ${look}`}>{clock(seconds)}</span>;
  return (
    <button
      type="button"
      className={`text-primary cursor-pointer hover:underline ${look}`}
      aria-label={`Play from ${clock(seconds)}`}
      onClick={() => onPlay(seconds)}
    >
      {clock(seconds)}
    </button>
  );
}

/** Rows shown at once: browsers are slow with more. */
const ROWS = 200;

/** A table with a sticky head and row numbers, a number of rows at a time. */
function Table({ block, text, marks }: { block: Block; text: string; marks: Mark[] }) {
  const lines = linesOf(block, text);
  const headers = block.header_rows ?? 0;
  const rows = lines.slice(headers);
  const mark = marks.find((item) => item.kind !== "found") ?? marks[0];
  const target = mark ? rows.findIndex(([, end]) => end > mark.start) : 0;
  const [first, setFirst] = useState(0);
  useEffect(() => setFirst(Math.floor(Math.max(0, target) / ROWS) * ROWS), [target]);
  const row = (line: [number, number], number: number, Cell: "th" | "td") => (
    <tr key={line[0]}>
      {block.row != null && (
        <td className="soft w-0 pr-4 text-right text-[12px] tabular-nums select-none">
          {block.row + number}
        </td>
      )}
      {cells(text, line[0], line[1]).map(([a, b]) => (
        <Cell key={a}>
          <Marked text={text} start={a} end={b} marks={marks} />
        </Cell>
      ))}
    </tr>
  );
  const last = Math.min(rows.length, first + ROWS);
  return (
    <div className="mb-4">
      <div
        className={`overflow-x-auto ${block.row != null ? "border-base-300 max-h-[70vh] w-fit max-w-full overflow-y-auto rounded border" : ""}`}
      >
        <table
          className={`table w-auto font-sans text-[14px] ${block.row != null ? "table-sm table-pin-rows text-[13px]" : ""}`}
        >
          {headers > 0 && (
            <thead className="text-inherit">
              {lines.slice(0, headers).map((line, number) => row(line, number, "th"))}
            </thead>
          )}
          <tbody>
            {rows
              .slice(first, last)
              .map((line, number) => row(line, headers + first + number, "td"))}
          </tbody>
        </table>
      </div>
      {rows.length > ROWS && (
        <p className="mt-2 flex items-center gap-2 font-sans text-[13px]">
          <button
            type="button"
            className="btn btn-sm"
            aria-label="Rows before"
            disabled={first === 0}
            onClick={() => setFirst(first - ROWS)}
          >
            ‹
          </button>
          <span className="soft tabular-nums">
            rows {first + 1}–{last} of {rows.length.toLocaleString("en")}
          </span>
          <button
            type="button"
            className="btn btn-sm"
            aria-label="Rows after"
            disabled={last === rows.length}
            onClick={() => setFirst(first + ROWS)}
          >
            ›
          </button>
        </p>
      )}
    </div>
  );
}

function linesOf(block: Block, text: string): [number, number][] {
  const lines: [number, number][] = [];
  let at = block.start;
  for (const line of text.slice(block.start, block.end).split("\n")) {
    lines.push([at, at + line.length]);
    at += line.length + 1;
  }
  return lines;
}

function cells(text: string, start: number, end: number): [number, number][] {
  const out: [number, number][] = [];
  let at = start;
  for (const cell of text.slice(start, end).split("\t")) {
    out.push([at, at + cell.length]);
    at += cell.length + 1;
  }
  return out;
}

const LOOKS = {
  cited: "marked",
  found: "bg-warning/25 text-inherit",
  now: "bg-warning/60 text-inherit",
};

function Marked({
  text,
  start,
  end,
  marks,
}: {
  text: string;
  start: number;
  end: number;
  marks: Mark[];
}) {
  const inside = marks.filter((mark) => mark.start < end && mark.end > start);
  if (inside.length === 0) return <>{text.slice(start, end)}</>;
  const out: ReactNode[] = [];
  let at = start;
  for (const mark of inside) {
    const a = Math.max(at, mark.start);
    const b = Math.min(end, mark.end);
    if (b <= a) continue;
    out.push(text.slice(at, a));
    out.push(
      <mark key={a} className={LOOKS[mark.kind]} data-now={mark.kind === "now" || undefined}>
        {text.slice(a, b)}
      </mark>,
    );
    at = b;
  }
  out.push(text.slice(at, end));
  return <>{out}</>;
}
