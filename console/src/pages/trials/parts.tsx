import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Ago, percent } from "../../components/text";

export type Trial = Schemas["TrialOut"];
export type Result = Schemas["TrialResultOut"];
type Share = Schemas["ShareOut"];

export const RESULTS: Record<NonNullable<Result["result"]>, { word: string; dot: string }> = {
  right: { word: "right", dot: "bg-success" },
  wrong: { word: "wrong", dot: "bg-error" },
  declined: { word: "declined", dot: "bg-warning" },
  declined_rightly: { word: "declined rightly", dot: "bg-success" },
  not_declined: { word: "not declined", dot: "bg-error" },
  unjudged: { word: "not judged", dot: "bg-base-300" },
  failed: { word: "failed", dot: "bg-error" },
};

/** How an answer compares with what was expected: a dot and a word. */
export function ResultWord({ result }: { result: Result["result"] }) {
  if (!result) return <span className="soft">not asked yet</span>;
  const { word, dot } = RESULTS[result];
  return (
    <span className="flex items-baseline gap-2 whitespace-nowrap">
      <span className={`inline-block size-2 shrink-0 rounded-full ${dot}`} aria-hidden />
      {word}
    </span>
  );
}

export const shareText = (share: Share) =>
  share.of === 0 ? "–" : `${percent(share.count / share.of)} (${share.count}/${share.of})`;

/** A share with its 95 % interval, drawn on a line from 0 to 100 %. */
export function Interval({ share }: { share: Share }) {
  if (share.of === 0) return null;
  const at = (value: number) => `${value * 100}%`;
  return (
    <span
      className="bg-base-300 relative inline-block h-1.5 w-40 rounded-full align-middle"
      role="img"
      aria-label={`95 % interval from ${percent(share.low)} to ${percent(share.high)}`}
      title={`95 % interval from ${percent(share.low)} to ${percent(share.high)}`}
    >
      <span
        className="bg-secondary absolute h-1.5 rounded-full opacity-60"
        style={{ left: at(share.low), width: at(share.high - share.low) }}
      />
      <span
        className="bg-primary absolute -top-0.5 h-2.5 w-1 rounded-full"
        style={{ left: `calc(${at(share.count / share.of)} - 2px)` }}
      />
    </span>
  );
}

/** The state of a trial, with its progress while it runs. */
export function TrialStateText({ trial }: { trial: Trial }) {
  if (trial.state === "done") return <>done</>;
  const word = `${trial.state}, ${trial.asked} of ${trial.total}`;
  if (trial.state !== "running") return <>{word}</>;
  return (
    <span className="flex items-center gap-2 whitespace-nowrap">
      <progress
        className="progress progress-primary w-24"
        value={trial.asked}
        max={trial.total}
        aria-label="Questions asked"
      />
      {trial.asked} of {trial.total}
    </span>
  );
}

/** Whether a trial still changes. */
export const isOpen = (trial: Trial) => trial.state === "waiting" || trial.state === "running";

/** Trials as a table, newest first. */
export function TrialTable({ trials, base }: { trials: Trial[]; base: string }) {
  return (
    <div className="sheet overflow-x-auto">
      <table className="table" aria-label="Trials">
        <thead>
          <tr>
            <th>What was asked</th>
            <th>Question set</th>
            <th>State</th>
            <th className="text-right">Right</th>
            <th aria-label="Interval" />
            <th className="text-right">Tokens</th>
            <th>Begun</th>
          </tr>
        </thead>
        <tbody>
          {trials.map((trial) => (
            <tr key={trial.id}>
              <td>
                <Link className="link-hover font-medium" to={`${base}/${trial.id}`}>
                  {trial.label}
                </Link>
              </td>
              <td className="soft">{trial.set_name}</td>
              <td>
                <TrialStateText trial={trial} />
              </td>
              <td className="text-right whitespace-nowrap tabular-nums">
                {shareText(trial.figures.right)}
              </td>
              <td>
                <Interval share={trial.figures.right} />
              </td>
              <td className="text-right tabular-nums">
                {trial.figures.tokens.toLocaleString("en")}
              </td>
              <td className="soft whitespace-nowrap">
                <Ago at={trial.created_at} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
