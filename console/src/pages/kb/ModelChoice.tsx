import type { Schemas } from "../../api/client";

/** Stands for what needs no model. */
export const BUILT_IN = "built-in";

/** Chooses the model that does something for a knowledge base, or none. */
export function ModelChoice({
  label,
  builtIn,
  hint,
  value,
  onChange,
  models,
}: {
  label: string;
  builtIn: string;
  hint: string;
  value: string;
  onChange: (value: string) => void;
  models: Schemas["ModelName"][];
}) {
  const names = new Set(models.map((model) => model.name));
  if (value !== BUILT_IN) names.add(value);
  return (
    <label className="flex flex-col gap-1">
      {label}
      <select
        className="select w-full"
        value={value}
        onChange={(event) => onChange(event.target.value)}
      >
        <option value={BUILT_IN}>{builtIn}</option>
        {[...names].map((name) => (
          <option key={name} value={name}>
            the model {name}
          </option>
        ))}
      </select>
      <span className="soft text-[13px]">{hint}</span>
    </label>
  );
}
