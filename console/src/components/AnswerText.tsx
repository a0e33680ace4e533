import type { ReactNode } from "react";
import type { Citation } from "../api/client";
import { type Draft, isDoubtful } from "../hooks/useAsking";

export interface Lighting {
  lit: number | null;
  onLight: (number: number | null) => void;
}

/** The answer's text: paragraphs, lists and tables, each cited range with its number. */
export function AnswerText({
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
    if (start > at) parts.push(<Inline key={`t${at}`} text={turn.text.slice(at, start)} />);
    const doubtful = turn.statements.some(
      (one) => one.citations.includes(citation.number) && isDoubtful(one),
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
          <Inline text={turn.text.slice(start, end)} />
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
  if (at < to) parts.push(<Inline key={`t${at}`} text={turn.text.slice(at, to)} />);
  return <>{parts}</>;
}

/** Text with **strong** words, `code` and [links](https://...) of Markdown. */
function Inline({ text }: { text: string }) {
  const parts: ReactNode[] = [];
  let at = 0;
  const marks = /\*\*([^*\n]+)\*\*|`([^`\n]+)`|\[([^\]\n]+)\]\((https?:\/\/[^\s)]+)\)/g;
  for (const match of text.matchAll(marks)) {
    const [whole, strong, code, label, url] = match;
    if (match.index > at) parts.push(text.slice(at, match.index));
    if (strong) parts.push(<b key={match.index}>{strong}</b>);
    else if (code) parts.push(<code key={match.index}>{code}</code>);
    else
      parts.push(
        <a
          key={match.index}
          className="link text-primary"
          href={url}
          target="_blank"
          rel="noreferrer noopener"
        >
          {label}
        </a>,
      );
    at = match.index + whole.length;
  }
  if (at < text.length) parts.push(text.slice(at));
  return <>{parts}</>;
}
