/** Stands for what needs no server. */
export const BUILT_IN = "built-in";

/** Chooses the model or transcriber that does something for a knowledge base, or none. */
export function ModelChoice({
  label,
  builtIn,
  hint,
  value,
  onChange,
  kind = "model",
  usable,
}: {
  label: string;
  builtIn: string;
  hint: string;
  value: string;
  onChange: (value: string) => void;
  kind?: string;
  /** What the team may use. */
  usable: { name: string }[];
}) {
  const names = new Set(usable.map((one) => one.name));
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
            the {kind} {name}
          </option>
        ))}
      </select>
      <span className="soft text-[13px]">{hint}</span>
    </label>
  );
}
