import type { Schemas } from "../../api/client";
import { useFacts } from "../../api/useFacts";
import { CheckBox } from "../../components/forms";

type Mode = Schemas["SearchIn"]["mode"];

/** How to search. `weight` is the share of keywords in the score, in per cent; null: the default. */
export interface SearchSettings {
  mode: Mode;
  weight: number | null;
  newer: boolean;
  /** Whether the evidence model ranks the best passages. */
  deep: boolean;
  joined: boolean;
  perDocument: number;
  /** An edition's number; null: the active one. */
  edition: number | null;
}

export const DEFAULTS: SearchSettings = {
  mode: "hybrid",
  weight: null,
  newer: false,
  deep: false,
  joined: false,
  perDocument: 3,
  edition: null,
};

export function SearchForm({
  setting,
  name,
  editions,
  onChange,
}: {
  setting: SearchSettings;
  name: string;
  editions: Schemas["EditionOut"][];
  onChange: (setting: SearchSettings) => void;
}) {
  const defaultWeight = Math.round((useFacts()?.keyword_weight ?? 0) * 100);
  const labelled = (text: string) => (name ? `${text} (${name})` : text);
  return (
    <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2 text-[13px]">
      {name && <b>{name}</b>}
      <select
        className="select select-sm w-auto"
        aria-label={labelled("Search mode")}
        value={setting.mode}
        onChange={(e) => onChange({ ...setting, mode: e.target.value as Mode })}
      >
        <option value="hybrid">Keyword and semantic</option>
        <option value="lexical">Keyword</option>
        <option value="vector">Semantic</option>
      </select>
      {setting.mode === "hybrid" && (
        <label className="flex items-center gap-2">
          keywords
          <input
            type="range"
            min={0}
            max={100}
            step={5}
            className="range range-xs w-28"
            aria-label={labelled("Keyword weight")}
            value={setting.weight ?? defaultWeight}
            onChange={(e) => onChange({ ...setting, weight: Number(e.target.value) })}
          />
          <span className="tabular-nums">{setting.weight ?? defaultWeight} %</span>
        </label>
      )}
      <label className="flex items-center gap-2">
        per document
        <select
          className="select select-sm w-auto"
          aria-label={labelled("Passages per document")}
          value={setting.perDocument}
          onChange={(e) => onChange({ ...setting, perDocument: Number(e.target.value) })}
        >
          {[1, 2, 3, 5, 10].map((n) => (
            <option key={n}>{n}</option>
          ))}
        </select>
      </label>
      <CheckBox
        kind="small"
        checked={setting.newer}
        onChange={(checked) => onChange({ ...setting, newer: checked })}
      >
        newer first
      </CheckBox>
      <CheckBox
        kind="small"
        title="Rank the best passages by the evidence model too. Slower."
        checked={setting.deep}
        onChange={(checked) => onChange({ ...setting, deep: checked })}
      >
        rank by evidence
      </CheckBox>
      <CheckBox
        kind="small"
        title="Show adjacent passages of a document as one."
        checked={setting.joined}
        onChange={(checked) => onChange({ ...setting, joined: checked })}
      >
        merge adjacent
      </CheckBox>
      {editions.length > 1 && (
        <select
          className="select select-sm w-auto"
          aria-label={labelled("Edition")}
          value={setting.edition ?? ""}
          onChange={(e) =>
            onChange({ ...setting, edition: e.target.value ? Number(e.target.value) : null })
          }
        >
          <option value="">the active edition</option>
          {editions.map((edition) => (
            <option key={edition.id} value={edition.number}>
              edition {edition.number}
            </option>
          ))}
        </select>
      )}
    </div>
  );
}
