import type { Schemas } from "../../api/client";

export type Gap = Schemas["GapOut"];

export const SUGGESTIONS: Record<Gap["suggestion"], string> = {
  write: "Nothing near is in the documents. Write a document, or connect a source.",
  approve: "Something near is in the documents. Approve an answer, or make them clearer.",
  correct: "The answer was not helpful. Approve a better one.",
};

export const RESOLUTIONS: Record<Exclude<Gap["resolution"], "">, string> = {
  answered: "answered by now",
  document: "a document was added",
  source: "a source was connected",
  approved: "an answer was approved",
  not_needed: "it need not be answered",
  other: "in another way",
};

/** Why its questions are in a gap. */
export function kinds(gap: Gap): string {
  const counts: [number, string][] = [
    [gap.declined, "declined"],
    [gap.weak, "weak"],
    [gap.unhelpful, "unhelpful"],
  ];
  return counts
    .filter(([count]) => count > 0)
    .map(([count, name]) => `${count} ${name}`)
    .join(", ");
}

/** The questions of the last eight weeks, as bars. */
export function Weeks({ weeks }: { weeks: number[] }) {
  const most = Math.max(...weeks, 1);
  return (
    <span
      className="inline-flex h-5 items-end gap-0.5"
      role="img"
      aria-label={`Questions in the last ${weeks.length} weeks: ${weeks.join(", ")}`}
      title={`In the last ${weeks.length} weeks: ${weeks.join(", ")}`}
    >
      {weeks.map((count, week) => (
        <span
          key={week}
          className={`w-1.5 rounded-sm ${count ? "bg-primary" : "bg-base-300"}`}
          style={{ height: `${count ? 20 + (80 * count) / most : 10}%` }}
        />
      ))}
    </span>
  );
}

/** Assigns something to somebody, when the field is left. */
export function Assignee({ value, onChange }: { value: string; onChange: (who: string) => void }) {
  return (
    <label className="flex items-center gap-2">
      Assigned to
      <input
        className="input input-sm w-44"
        maxLength={120}
        defaultValue={value}
        placeholder="nobody"
        onBlur={(event) => event.target.value !== value && onChange(event.target.value)}
      />
    </label>
  );
}
