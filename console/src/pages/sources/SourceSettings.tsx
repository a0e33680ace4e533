import { type FormEvent, useEffect, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { filled, type ObjectSchema, SchemaFields, type Values } from "../../components/SchemaForm";
import { Failure } from "../../components/text";
import { type Care, CareFields, careBody, TrialView } from "./ConnectForm";
import type { Source } from "./words";

interface Rule {
  pattern: string;
  tags: string;
}

/** Change a source's settings, schedule, guard and tags. */
export function SourceSettings({
  source,
  base,
  onDone,
}: {
  source: Source;
  base: string;
  onDone: () => void;
}) {
  const { data: kinds } = useResource<Schemas["KindOut"][]>("/source-kinds");
  const kind = kinds?.find((item) => item.name === source.kind);
  const [settings, setSettings] = useState<Values>(source.settings);
  const [credentials, setCredentials] = useState<Values>({});
  const [care, setCare] = useState<Care>({
    schedule: source.cron ? "cron" : source.every_minutes ? "every" : "none",
    every: source.every_minutes ?? 15,
    cron: source.cron ?? "",
    target: source.target_minutes,
  });
  const [share, setShare] = useState(Math.round(source.guard_share * 100));
  const [least, setLeast] = useState(source.guard_min);
  const [rules, setRules] = useState<Rule[]>(
    source.tag_rules.map((rule) => ({ pattern: rule.pattern, tags: shown(rule.tags) })),
  );
  const [trial, setTrial] = useState<Schemas["SourceCheck"] | null>(null);
  const [error, setError] = useState<string | null>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: other settings are not the ones at fault
  useEffect(() => setError(null), [settings]);
  if (!kind) return null;
  const given = filled(credentials);
  const secrets = Object.keys(given).length ? { credentials: given } : {};
  const look = () =>
    send<Schemas["SourceCheck"]>("POST", `${base}/check`, {
      settings: filled(settings),
      ...secrets,
    })
      .then(setTrial)
      .catch((problem: Error) => setError(problem.message));
  const save = (event: FormEvent) => {
    event.preventDefault();
    const tag_rules = rules
      .filter((rule) => rule.pattern && rule.tags)
      .map((rule) => ({ pattern: rule.pattern, tags: parsed(rule.tags) }));
    const body = {
      settings: filled(settings),
      ...secrets,
      ...careBody(care),
      guard_share: share / 100,
      guard_min: least,
      tag_rules,
    };
    send("PATCH", base, body, { "If-Match": `"${source.version}"` })
      .then(onDone)
      .catch((problem: Error) => setError(problem.message));
  };
  return (
    <form className="mb-6 grid items-start gap-6 lg:grid-cols-2" onSubmit={save}>
      <div className="sheet flex flex-col gap-4 p-5">
        <SchemaFields
          schema={kind.settings as ObjectSchema}
          values={settings}
          onChange={setSettings}
        />
        {Object.keys((kind.credentials as ObjectSchema).properties ?? {}).length > 0 && (
          <details>
            <summary className="text-primary cursor-pointer">Replace the credentials</summary>
            <div className="mt-4">
              <SchemaFields
                schema={kind.credentials as ObjectSchema}
                values={credentials}
                onChange={setCredentials}
                secret
                kept={source.credentials}
              />
            </div>
          </details>
        )}
        {!kind.pushed && <CareFields care={care} watchable={kind.watchable} onChange={setCare} />}
        <div className="flex flex-wrap items-end gap-4">
          <label className="flex flex-col gap-1">
            Hold runs that remove over … %
            <input
              type="number"
              className="input w-28"
              min={0}
              max={100}
              value={share}
              onChange={(event) => setShare(Number(event.target.value))}
            />
          </label>
          <label className="flex flex-col gap-1">
            and at least … documents
            <input
              type="number"
              className="input w-28"
              min={1}
              value={least}
              onChange={(event) => setLeast(Number(event.target.value))}
            />
          </label>
        </div>
        <fieldset className="flex flex-col gap-2">
          <legend className="mb-1">Tags by path</legend>
          {[...rules, { pattern: "", tags: "" }].map((rule, index) => (
            <span key={index} className="flex gap-2">
              <input
                className="input min-w-0 flex-1"
                aria-label="Pattern"
                placeholder="notices/2026/**"
                value={rule.pattern}
                onChange={(event) =>
                  setRules(changed(rules, index, { ...rule, pattern: event.target.value }))
                }
              />
              <input
                className="input min-w-0 flex-1"
                aria-label="Tags"
                placeholder="year=2026"
                value={rule.tags}
                onChange={(event) =>
                  setRules(changed(rules, index, { ...rule, tags: event.target.value }))
                }
              />
            </span>
          ))}
        </fieldset>
        <Failure message={error} />
        <div className="flex gap-3">
          <button type="submit" className="btn btn-primary">
            Save
          </button>
          {!kind.pushed && (
            <button type="button" className="btn" onClick={() => void look()}>
              Preview
            </button>
          )}
          <button type="button" className="btn btn-ghost" onClick={onDone}>
            Cancel
          </button>
        </div>
      </div>
      {trial && <TrialView trial={trial} />}
    </form>
  );
}

const shown = (tags: Record<string, string>) =>
  Object.entries(tags)
    .map(([key, value]) => `${key}=${value}`)
    .join(", ");

function parsed(text: string): Record<string, string> {
  const pairs = text.split(",").map((part) => part.split("="));
  return Object.fromEntries(
    pairs.map(([key = "", ...value]) => [key.trim(), value.join("=").trim()]),
  );
}

function changed(rules: Rule[], index: number, rule: Rule): Rule[] {
  const out = [...rules];
  out[index] = rule;
  return out.filter((item, place) => place === index || item.pattern || item.tags);
}
