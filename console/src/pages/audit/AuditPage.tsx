import { useEffect, useState } from "react";
import { get, keep, type Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Ago, count, Failure } from "../../components/text";
import { Wide } from "../../components/Wide";
import { useTeam } from "../../hooks/useSession";
import { Details, resultOf, whoOf } from "./words";

type Entry = Schemas["AuditEntryOut"];
type Entries = Schemas["Page_AuditEntryOut_"];

const NOUNS: [string, string][] = [
  ["", "everything"],
  ["session.", "sign-ins"],
  ["member.", "members"],
  ["key.", "keys"],
  ["kb.", "knowledge bases"],
  ["document.", "documents"],
  ["source.", "sources"],
  ["desk.", "desks"],
  ["approved.", "approved answers"],
  ["answer.", "answers read or exported"],
  ["model.", "models"],
];

/** What was done in a team. */
export function TeamAuditPage() {
  const team = useTeam();
  return (
    <Audit api={`${team.api}/audit`} title="Audit log" about={`What was done in ${team.name}.`} />
  );
}

/** For operators: what was done in all teams. */
export function AuditPage() {
  return (
    <Audit api="/audit" title="Audit log of the service" about="What was done in all teams." />
  );
}

function Audit({ api, title, about }: { api: string; title: string; about: string }) {
  const [action, setAction] = useState("");
  const [actor, setActor] = useState("");
  const [refused, setRefused] = useState(false);
  const query = new URLSearchParams({
    ...(action && { action }),
    ...(actor && { actor }),
    ...(refused && { outcome: "refused" }),
  }).toString();
  return (
    <>
      <h1 className="text-[27px]">{title}</h1>
      <p className="soft mt-1 mb-5">
        {about} Entries are only added, and each contains the hash of the one before it.
      </p>
      <Check api={api} />
      <div className="mt-5 mb-3 flex flex-wrap items-center gap-3">
        <select
          className="select w-auto"
          aria-label="Show"
          value={action}
          onChange={(e) => setAction(e.target.value)}
        >
          {NOUNS.map(([value, label]) => (
            <option key={value} value={value}>
              {label}
            </option>
          ))}
        </select>
        <input
          className="input w-56"
          type="search"
          placeholder="Person or key"
          aria-label="Person or key"
          onChange={(e) => setActor(e.target.value)}
        />
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={refused}
            onChange={(e) => setRefused(e.target.checked)}
          />
          only refused
        </label>
        <span className="ml-auto flex gap-2">
          {(["csv", "jsonl"] as const).map((form) => (
            <button
              key={form}
              type="button"
              className="btn"
              onClick={() => void keep(`${api}/export?form=${form}&${query}`, `audit.${form}`)}
            >
              {form === "csv" ? "Download CSV" : "Download JSON Lines"}
            </button>
          ))}
        </span>
      </div>
      <List key={query} api={api} query={query} />
    </>
  );
}

/** Whether the logs are whole; computed on request, since it reads every entry. */
function Check({ api }: { api: string }) {
  const [checks, setChecks] = useState<Schemas["AuditCheckOut"][] | null>(null);
  const [failed, setFailed] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  const run = () => {
    setBusy(true);
    get<Schemas["AuditCheckOut"][]>(`${api}/verify`)
      .then((result) => {
        setChecks(result);
        setFailed(null);
      })
      .catch((problem: Error) => setFailed(problem.message))
      .finally(() => setBusy(false));
  };
  const faults = checks?.filter((one) => !one.whole) ?? [];
  const entries = checks?.reduce((sum, one) => sum + one.entries, 0) ?? 0;
  return (
    <section className="sheet flex flex-wrap items-center gap-3 p-4" aria-label="Verification">
      <button type="button" className="btn" disabled={busy} onClick={run}>
        Verify the log
      </button>
      <span role="status">
        {checks === null && "Computes the hashes of all entries again."}
        {checks !== null && faults.length === 0 && `${count(entries)} entries: the chain is whole.`}
        {faults.map((one) => (
          <span key={one.log} className="text-error block">
            {one.name ?? one.log}: {one.fault}
          </span>
        ))}
      </span>
      <Failure message={failed} />
    </section>
  );
}

function List({ api, query }: { api: string; query: string }) {
  const { data, error } = useResource<Entries>(`${api}?${query}`);
  const [older, setOlder] = useState<Entries[]>([]);
  const [failed, setFailed] = useState<string | null>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: a new first page has other pages after it
  useEffect(() => setOlder([]), [data]);
  const pages = data ? [data, ...older] : [];
  const next = pages.at(-1)?.next;
  const more = () =>
    get<Entries>(`${api}?${query}&cursor=${next}`)
      .then((page) => setOlder([...older, page]))
      .catch((problem: Error) => setFailed(problem.message));
  return (
    <>
      <Failure message={error ?? failed} />
      <Wide label="Entries">
        <table className="table">
          <thead>
            <tr>
              {["When", "Who", "Action", "On", "Result"].map((name) => (
                <th key={name}>{name}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {pages
              .flatMap((page) => page.items)
              .map((entry) => (
                <Row key={entry.id} entry={entry} />
              ))}
          </tbody>
        </table>
        {data?.items.length === 0 && <p className="soft p-6 text-center">No entry.</p>}
      </Wide>
      {next && (
        <button type="button" className="btn mt-3" onClick={() => void more()}>
          Show older entries
        </button>
      )}
    </>
  );
}

function Row({ entry }: { entry: Entry }) {
  const [open, setOpen] = useState(false);
  const refused = entry.outcome === "refused";
  return (
    <>
      <tr>
        <td className="whitespace-nowrap">
          <Ago at={entry.at} />
        </td>
        <td>
          {whoOf(entry)}
          {entry.address && <div className="soft font-mono text-[13px]">{entry.address}</div>}
        </td>
        <td className="font-mono text-[13px] whitespace-nowrap">{entry.action}</td>
        <td className="max-w-xs font-mono text-[13px] break-all">{entry.target}</td>
        <td className={refused ? "text-error" : ""}>
          <button
            type="button"
            className="cursor-pointer text-left underline decoration-dotted underline-offset-4"
            aria-expanded={open}
            onClick={() => setOpen(!open)}
          >
            {resultOf(entry)}
          </button>
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={5} className="washed">
            <Details entry={entry} />
          </td>
        </tr>
      )}
    </>
  );
}
