import type { Schemas } from "../../api/client";

type Entry = Schemas["AuditEntryOut"];
type Change = Schemas["AuditChangeOut"];

/** Who acted, as people know them. */
export function whoOf(entry: Entry): string {
  const name = entry.name ?? entry.about;
  if (entry.actor_kind === "person") return name ?? "an erased person";
  if (entry.actor_kind === "key") return `key ${name ?? entry.actor_id}`;
  if (entry.actor_kind === "machine") return "the service's machine";
  if (entry.actor_kind === "guest") return `guest ${entry.actor_id.slice(0, 8)}`;
  return name ? `somebody as ${name}` : "nobody";
}

/** The result in a few words. */
export function resultOf(entry: Entry): string {
  if (entry.outcome === "refused") {
    const times = (entry.count ?? 1) > 1 ? ` ${entry.count} times` : "";
    return `refused${times}: ${(entry.problem ?? "").replaceAll("-", " ")}`;
  }
  const [first] = entry.changes;
  if (!first) return entry.entries ? `${entry.entries} entries deleted` : "read";
  const rest = entry.changes.length - 1 + (entry.more ?? 0);
  return `${first.kind} ${first.change}${rest ? ` and ${rest} more` : ""}`;
}

function fieldText(name: string, value: unknown): string {
  if (!Array.isArray(value)) return name;
  if (value.length === 2 && value.some((item) => typeof item !== "string"))
    return `${name}: ${value[0] ?? "none"} → ${value[1] ?? "none"}`;
  return name === "role" || name === "state" || name === "slug"
    ? `${name}: ${value[0]} → ${value[1]}`
    : `${name}: ${value.join(", ")}`;
}

function ChangeLine({ change }: { change: Change }) {
  const fields = Object.entries(change.fields ?? {}).map(([name, value]) => fieldText(name, value));
  return (
    <li>
      {change.kind} {change.name ? <b className="font-semibold">{change.name}</b> : null}{" "}
      <span className="soft font-mono text-[13px]">{change.id}</span> {change.change}
      {fields.length > 0 && <span className="soft"> ({fields.join("; ")})</span>}
    </li>
  );
}

/** All that an entry records. */
export function Details({ entry }: { entry: Entry }) {
  const facts: [string, string | null | undefined][] = [
    ["At", new Date(entry.at).toLocaleString()],
    ["Actor", entry.actor_id],
    ["Names", entry.about],
    ["Request", entry.request_id],
    ["Entry", `${entry.number} of the log ${entry.log}`],
    ["Hash", entry.hash],
  ];
  return (
    <div className="py-1">
      {entry.changes.length > 0 && (
        <ul className="mb-2 list-disc pl-5">
          {entry.changes.map((change, index) => (
            <ChangeLine key={index} change={change} />
          ))}
          {(entry.more ?? 0) > 0 && <li>{entry.more} more</li>}
        </ul>
      )}
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 text-[13px]">
        {facts
          .filter(([, value]) => value)
          .map(([name, value]) => (
            <div key={name} className="contents">
              <dt className="soft">{name}</dt>
              <dd className="font-mono break-all">{value}</dd>
            </div>
          ))}
      </dl>
    </div>
  );
}
