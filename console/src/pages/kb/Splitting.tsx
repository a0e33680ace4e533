import type { Schemas } from "../../api/client";
import { CheckBox } from "../../components/forms";

export type Splitting = Schemas["Splitting"];

/** Describe splitting settings in one line. */
export function splittingText(splitting: Splitting): string {
  const overlap = splitting.overlap_tokens ? `, ${splitting.overlap_tokens} repeated` : "";
  const rows = splitting.table_mode === "single" ? "each table row alone" : "table rows together";
  const windows = splitting.windows ? "with sentence windows" : "without sentence windows";
  return `${splitting.target_tokens} tokens per passage${overlap}, ${rows}, ${windows}${splitting.compact ? ", compact vectors" : ""}`;
}

const SIZES = [
  ["target_tokens", "Tokens per passage", 40, 1000],
  ["min_tokens", "Minimum tokens", 0, 500],
  ["overlap_tokens", "Overlap tokens", 0, 300],
] as const;

/** The splitting settings as form fields. */
export function SplittingFields({
  splitting,
  onChange,
}: {
  splitting: Splitting;
  onChange: (splitting: Splitting) => void;
}) {
  return (
    <div className="flex flex-wrap items-end gap-4">
      {SIZES.map(([name, label, min, max]) => (
        <label key={name} className="flex flex-col gap-1">
          {label}
          <input
            type="number"
            className="input w-32"
            min={min}
            max={max}
            value={splitting[name]}
            onChange={(event) => onChange({ ...splitting, [name]: Number(event.target.value) })}
          />
        </label>
      ))}
      <label className="flex flex-col gap-1">
        Table rows
        <select
          className="select w-auto"
          value={splitting.table_mode}
          onChange={(event) =>
            onChange({ ...splitting, table_mode: event.target.value as Splitting["table_mode"] })
          }
        >
          <option value="packed">Several per passage</option>
          <option value="single">One per passage</option>
        </select>
      </label>
      <CheckBox
        className="pb-2"
        title="Also embed every few sentences of a passage: finds more, costs twice as much embedding."
        checked={splitting.windows}
        onChange={(checked) => onChange({ ...splitting, windows: checked })}
      >
        Sentence windows
      </CheckBox>
      <CheckBox
        className="pb-2"
        title="A quarter of the disk and memory, with nearly the same ranking."
        checked={splitting.compact}
        onChange={(checked) => onChange({ ...splitting, compact: checked })}
      >
        Compact vectors
      </CheckBox>
    </div>
  );
}
