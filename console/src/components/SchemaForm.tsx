import { useId, useState } from "react";

/** The parts of JSON Schema that kinds of sources use. */
export interface Property {
  title?: string;
  description?: string;
  type?: string;
  default?: unknown;
  enum?: string[];
  minimum?: number;
  maximum?: number;
  items?: { type?: string };
  anyOf?: { type?: string }[];
}
export interface ObjectSchema {
  properties?: Record<string, Property>;
  required?: string[];
}
export type Values = Record<string, unknown>;

/** The initial values of a form. */
export function defaults(schema: ObjectSchema): Values {
  return Object.fromEntries(
    Object.entries(schema.properties ?? {}).map(([name, property]) => [
      name,
      property.default ??
        (property.type === "array" ? [] : property.type === "boolean" ? false : null),
    ]),
  );
}

/** A form's values for the service, without those left empty. */
export function filled(values: Values): Values {
  const given = Object.entries(values).filter(
    ([, value]) => value !== null && value !== "" && !(Array.isArray(value) && value.length === 0),
  );
  return Object.fromEntries(given);
}

/** Fields made from a JSON Schema; optional ones are folded. */
export function SchemaFields({
  schema,
  values,
  onChange,
  secret = false,
  kept = [],
}: {
  schema: ObjectSchema;
  values: Values;
  onChange: (values: Values) => void;
  secret?: boolean;
  kept?: string[];
}) {
  const required = new Set(schema.required ?? []);
  const all = Object.entries(schema.properties ?? {});
  const first = secret ? all : all.filter(([name]) => required.has(name));
  const rest = secret ? [] : all.filter(([name]) => !required.has(name));
  const field = ([name, property]: [string, Property]) => (
    <Field
      key={name}
      name={name}
      property={property}
      value={values[name]}
      required={required.has(name)}
      secret={secret}
      kept={kept.includes(name)}
      onChange={(value) => onChange({ ...values, [name]: value })}
    />
  );
  return (
    <div className="flex flex-col gap-4">
      {first.map(field)}
      {rest.length > 0 && (
        <details>
          <summary className="text-primary cursor-pointer">More settings</summary>
          <div className="mt-4 flex flex-col gap-4">{rest.map(field)}</div>
        </details>
      )}
    </div>
  );
}

function Field({
  name,
  property,
  value,
  required,
  secret,
  kept,
  onChange,
}: {
  name: string;
  property: Property;
  value: unknown;
  required: boolean;
  secret: boolean;
  kept: boolean;
  onChange: (value: unknown) => void;
}) {
  const label = property.title ?? name;
  const type = property.type ?? property.anyOf?.find((part) => part.type !== "null")?.type;
  // The hint describes the field, and is not part of its name.
  const about = useId();
  const hint = property.description && (
    <span id={about} className="soft text-[13px]">
      {property.description}
    </span>
  );
  if (type === "boolean") {
    return (
      <div className="flex flex-col">
        <label className="flex items-start gap-2.5">
          <input
            type="checkbox"
            className="checkbox checkbox-sm mt-0.5"
            aria-describedby={about}
            checked={Boolean(value)}
            onChange={(event) => onChange(event.target.checked)}
          />
          {label}
        </label>
        <span className="pl-8">{hint}</span>
      </div>
    );
  }
  let input = (
    <input
      className="input w-full"
      aria-describedby={about}
      type={secret && name !== "user" && name !== "access_key" ? "password" : "text"}
      required={required}
      autoComplete="off"
      placeholder={kept ? "kept as it is" : undefined}
      value={String(value ?? "")}
      onChange={(event) => onChange(event.target.value)}
    />
  );
  if (property.enum) {
    input = (
      <select
        className="select w-full"
        value={String(value ?? "")}
        onChange={(event) => onChange(event.target.value)}
      >
        {property.enum.map((word) => (
          <option key={word}>{word}</option>
        ))}
      </select>
    );
  } else if (type === "integer" || type === "number") {
    input = (
      <input
        className="input w-40"
        type="number"
        step={type === "integer" ? 1 : "any"}
        min={property.minimum}
        max={property.maximum}
        value={value == null ? "" : Number(value)}
        onChange={(event) =>
          onChange(event.target.value === "" ? null : Number(event.target.value))
        }
      />
    );
  } else if (type === "array") {
    input = (
      <Lines value={(value as string[] | null) ?? []} required={required} onChange={onChange} />
    );
  } else if (name === "query") {
    input = (
      <textarea
        className="textarea w-full font-mono text-[13px]"
        rows={5}
        required={required}
        value={String(value ?? "")}
        onChange={(event) => onChange(event.target.value)}
      />
    );
  }
  return (
    <div className="flex flex-col gap-1">
      {/* biome-ignore lint/a11y/noLabelWithoutControl: the input is passed in */}
      <label className="flex flex-col gap-1">
        {label}
        {input}
      </label>
      {hint}
    </div>
  );
}

/** A list of texts, one per line. Text being typed stays unchanged until the field is left. */
function Lines({
  value,
  required,
  onChange,
}: {
  value: string[];
  required: boolean;
  onChange: (value: string[]) => void;
}) {
  const [text, setText] = useState(value.join("\n"));
  return (
    <textarea
      className="textarea w-full"
      rows={Math.max(2, value.length + 1)}
      placeholder="One per line"
      required={required}
      value={text}
      onChange={(event) => {
        setText(event.target.value);
        onChange(
          event.target.value
            .split("\n")
            .map((line) => line.trim())
            .filter(Boolean),
        );
      }}
    />
  );
}
