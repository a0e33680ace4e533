import type { ReactNode } from "react";
import type { Schemas } from "../../api/client";

type Block = Schemas["BlockOut"];
type Passage = Schemas["PassageOut"];

/** A document's text by block, with page marks; [from, to) is marked; passages are outlined at their beginnings. */
export function DocumentText({ text, from, to, passages }: { text: Schemas["DocumentTextOut"]; from: number; to: number; passages: Passage[] }) {
  const starts = new Map(passages.map((passage) => [passage.start, passage]));
  const out: ReactNode[] = [];
  let page: number | null = null;
  for (const block of text.blocks) {
    if (block.page && block.page !== page) {
      page = block.page;
      out.push(
        <p key={`p${page}`} className="soft border-base-300 mt-6 mb-3 border-b border-dashed pb-1 text-right text-[12px]">
          page {page}
        </p>,
      );
    }
    const inside = passages.filter((passage) => passage.start >= block.start && passage.start < block.end);
    for (const passage of inside) out.push(<PassageMark key={`m${passage.id}`} passage={starts.get(passage.start)!} />);
    out.push(<BlockText key={block.start} block={block} text={text.text} from={from} to={to} />);
  }
  return <div className="set max-w-none">{out}</div>;
}

function PassageMark({ passage }: { passage: Passage }) {
  return (
    <p className="text-primary border-primary mt-4 mb-1 border-t pt-0.5 font-sans text-[11.5px]">
      passage {passage.ordinal + 1} · {passage.tokens} tokens
    </p>
  );
}

function BlockText({ block, text, from, to }: { block: Block; text: string; from: number; to: number }) {
  const marked = (start: number, end: number) => <Marked text={text} start={start} end={end} from={from} to={to} />;
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

function Marked({ text, start, end, from, to }: { text: string; start: number; end: number; from: number; to: number }) {
  const a = Math.max(start, from);
  const b = Math.min(end, to);
  if (from < 0 || b <= a) return <>{text.slice(start, end)}</>;
  return (
    <>
      {text.slice(start, a)}
      <mark className="marked">{text.slice(a, b)}</mark>
      {text.slice(b, end)}
    </>
  );
}
