import type { ReactNode } from "react";
import type { Schemas } from "../../api/client";
import { clock, unitName } from "../../components/text";

type Block = Schemas["BlockOut"];
type Cut = Schemas["CutOut"];

/** Characters [start, end) that are to stand out: cited words, or what was looked for (`now`: the one that is shown). */
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
}

/** A document's text by block, with page marks; marks stand out; passages are told where they begin. */
export function DocumentText({ text, blocks, unit, labels, marks, passages }: Props) {
  const out: ReactNode[] = [];
  let page: number | null = null;
  let next = 0;
  for (const [number, block] of blocks.entries()) {
    if (block.page && block.page !== page) {
      page = block.page;
      out.push(
        <p key={`p${page}`} data-page={page} className="soft border-base-300 mt-6 mb-3 border-b border-dashed pb-1 text-right text-[12px]">
          {unitName(unit, page, labels[page - 1])}
        </p>,
      );
    }
    // What begins inside a long block is told before it.
    for (; next < passages.length && passages[next]!.start < block.end; next++) {
      out.push(<PassageMark key={`m${passages[next]!.ordinal}`} passage={passages[next]!} />);
    }
    const inside = marks.filter((mark) => mark.start < block.end && mark.end > block.start);
    out.push(
      <div key={block.start} data-block={number}>
        <BlockText block={block} text={text} marks={inside} />
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

function BlockText({ block, text, marks }: { block: Block; text: string; marks: Mark[] }) {
  const marked = (start: number, end: number) => <Marked text={text} start={start} end={end} marks={marks} />;
  if (block.kind === "heading") {
    const Tag = `h${Math.min(block.level + 1, 6)}` as "h2";
    const size = block.level <= 1 ? "text-[22px]" : block.level === 2 ? "text-[19px]" : "text-[17.5px]";
    return (
      <Tag id={block.anchor ?? undefined} className={`mt-5 mb-2 leading-snug font-semibold ${size}`}>
        {marked(block.start, block.end)}
      </Tag>
    );
  }
  if (block.kind === "code") {
    return <pre className="bg-base-200 my-3 overflow-x-auto rounded p-3 font-mono text-[13px]">{marked(block.start, block.end)}</pre>;
  }
  if (block.kind === "cue") {
    return (
      <p className="mb-3 max-w-[66ch]">
        <span className="soft mr-2 font-sans text-[12px] tabular-nums">{clock(block.seconds ?? 0)}</span>
        {marked(block.start, block.end)}
      </p>
    );
  }
  if (block.kind === "figure") return <p className="soft mb-3 max-w-[66ch] italic">{marked(block.start, block.end)}</p>;
  if (block.kind === "footnote")
    return <p className="soft mb-3 max-w-[66ch] pl-5 text-[15px]">{marked(block.start, block.end)}</p>;
  if (block.kind === "paragraph") return <p className="mb-3 max-w-[66ch]">{marked(block.start, block.end)}</p>;
  const lines: [number, number][] = [];
  let at = block.start;
  for (const line of text.slice(block.start, block.end).split("\n")) {
    lines.push([at, at + line.length]);
    at += line.length + 1;
  }
  if (block.kind === "list") {
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
  return (
    <div className="mb-4 overflow-x-auto">
      <table className="table w-auto font-sans text-[14px]">
        <tbody>
          {lines.map(([start, end], row) => (
            <tr key={start} className={row < (block.header_rows ?? 0) ? "font-semibold" : ""}>
              {cells(text, start, end).map(([a, b]) => (
                <td key={a}>{marked(a, b)}</td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
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

const LOOKS = { cited: "marked", found: "bg-warning/25 text-inherit", now: "bg-warning/60 text-inherit" };

function Marked({ text, start, end, marks }: { text: string; start: number; end: number; marks: Mark[] }) {
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
