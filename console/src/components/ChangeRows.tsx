import type { Schemas } from "../api/client";

type Change = Schemas["ChangeOut"];

/** What changed, as rows of a table with a column for each side. */
export function ChangeRows({ changes }: { changes: Change[] }) {
  return changes.map((change, index) => <Row key={index} change={change} />);
}

function Row({ change }: { change: Change }) {
  if (change.kind === "same") {
    const half = change.hidden ? change.before.length / 2 : change.before.length;
    return (
      <>
        {change.before.slice(0, half).map((text, index) => (
          <Same key={index} text={text} />
        ))}
        {change.hidden > 0 && (
          <tr>
            <td
              colSpan={2}
              className="soft bg-base-200 px-5 py-1 text-center font-sans text-[12.5px]"
            >
              {change.hidden} more the same
            </td>
          </tr>
        )}
        {change.before.slice(half).map((text, index) => (
          <Same key={index} text={text} />
        ))}
      </>
    );
  }
  return (
    <tr data-change={change.kind}>
      <Side
        text={change.before[0]}
        marks={change.before_marks}
        tone="bg-error/10"
        mark="bg-error/25"
      />
      <Side
        text={change.after[0]}
        marks={change.after_marks}
        tone="bg-success/10"
        mark="bg-success/30"
      />
    </tr>
  );
}

function Same({ text }: { text: string }) {
  return (
    <tr className="soft align-top">
      <td className="px-5 py-1.5 break-words">{text}</td>
      <td className="px-5 py-1.5 break-words">{text}</td>
    </tr>
  );
}

function Side({
  text,
  marks,
  tone,
  mark,
}: {
  text: string | undefined;
  marks: [number, number][];
  tone: string;
  mark: string;
}) {
  if (text === undefined) return <td />;
  const parts: React.ReactNode[] = [];
  let at = 0;
  for (const [start, end] of marks) {
    parts.push(
      text.slice(at, start),
      <span key={start} className={`rounded-sm ${mark}`}>
        {text.slice(start, end)}
      </span>,
    );
    at = end;
  }
  parts.push(text.slice(at));
  return <td className={`px-5 py-1.5 align-top break-words ${tone}`}>{parts}</td>;
}
