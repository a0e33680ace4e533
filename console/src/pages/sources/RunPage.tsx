import { useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { Missing } from "../../App";
import { get, type Schemas, send } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { Ago, count, Failure, money, size } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { useKb } from "../kb/KbPage";
import { Fact } from "./SourcePage";
import { counts, RunState, type Sync, stages, took } from "./words";

type Item = Schemas["SyncItemOut"];
const busy = (sync: Sync) => ["waiting", "running"].includes(sync.state) || sync.indexing > 0;
const OUTCOMES = [
  "added",
  "changed",
  "moved",
  "removed",
  "missing",
  "failed",
  "skipped",
  "unchanged",
] as const;

/** One run of a source: its counts, and the outcome of each item. */
export function RunPage() {
  const team = useTeam();
  const { api, path } = useKb();
  const { source = "", run = "" } = useParams();
  const base = `${api}/sources/${source}/syncs/${run}`;
  const { data: sync, error, reload } = useResource<Sync>(base, { busy, idle: IDLE });
  const [outcome, setOutcome] = useState("");
  const [items, setItems] = useState<Item[]>([]);
  const [next, setNext] = useState<string | null>(null);
  const [failure, setFailure] = useState<string | null>(null);
  const mark = sync
    ? `${sync.state} ${sync.added} ${sync.changed} ${sync.removed} ${sync.failed} ${sync.indexing}`
    : "";
  // biome-ignore lint/correctness/useExhaustiveDependencies: items are loaded again when the run goes on
  useEffect(() => {
    let current = true;
    const filter = outcome ? `&outcome=${outcome}` : "";
    get<Schemas["Page_SyncItemOut_"]>(`${base}/items?limit=200${filter}`)
      .then((page) => {
        if (current) {
          setItems(page.items);
          setNext(page.next ?? null);
        }
      })
      .catch((problem: Error) => current && setFailure(problem.message));
    return () => {
      current = false;
    };
  }, [base, outcome, mark]);
  if (error) return <Missing />;
  if (!sync) return null;
  const decide = (decision: string) =>
    send("POST", `${base}/${decision}`)
      .then(reload)
      .catch((problem: Error) => setFailure(problem.message));
  const more = () =>
    get<Schemas["Page_SyncItemOut_"]>(
      `${base}/items?limit=200&cursor=${next}${outcome ? `&outcome=${outcome}` : ""}`,
    ).then((page) => {
      setItems([...items, ...page.items]);
      setNext(page.next ?? null);
    });
  return (
    <>
      <Link to={`${path}/sources/${source}`} className="link-hover soft">
        ‹ Runs of this source
      </Link>
      <h2 className="mt-1 mb-4 text-[22px]">
        Run, <Ago at={sync.created_at} />
      </h2>
      {sync.state === "held" && (
        <div className="sheet border-warning mb-5 border-2 p-5" role="alert">
          <p className="font-semibold">{sync.held_reason}</p>
          <p className="soft mt-1 mb-3">
            Nothing was removed yet. Check the list below: is this intended? If the source is only
            unavailable for a while, a later run resolves it.
          </p>
          {team.mayEdit && (
            <span className="flex gap-3">
              <button
                type="button"
                className="btn btn-primary btn-sm"
                onClick={() => void decide("confirm")}
              >
                {/could not be fetched/.test(sync.held_reason ?? "") ? "Continue" : "Remove them"}
              </button>
              <button type="button" className="btn btn-sm" onClick={() => void decide("reject")}>
                Keep them
              </button>
            </span>
          )}
        </div>
      )}
      <Failure message={failure ?? sync.error} />
      <dl className="sheet mb-6 grid gap-x-8 gap-y-3 p-5 sm:grid-cols-3 lg:grid-cols-6">
        <Fact name="State">
          <RunState sync={sync} />
        </Fact>
        <Fact name="Items">{counts(sync)}</Fact>
        <Fact name="Took">
          {took(sync)}
          {stages(sync) && <span className="soft block text-[12.5px]">{stages(sync)}</span>}
        </Fact>
        <Fact name="Read">{size(sync.bytes)}</Fact>
        <Fact name="Words">{count(sync.words)}</Fact>
        <Fact name="Passages">
          {count(sync.passages)}
          {sync.passages > 0 && (
            <span className="soft block text-[12.5px]">
              {count(sync.passages - sync.embedded)} embeddings reused
              {sync.tokens_used > 0 &&
                `, ${count(sync.tokens_used)} tokens used for ${money(sync.cost)}`}
            </span>
          )}
        </Fact>
      </dl>
      {Object.keys(sync.skip_reasons).length > 0 && (
        <p className="mb-3">
          Skipped:{" "}
          {Object.entries(sync.skip_reasons)
            .map(([reason, number]) => `${count(number)} ${reason}`)
            .join("; ")}
          .
        </p>
      )}
      <div className="mb-3 flex gap-3">
        <select
          className="select w-auto"
          aria-label="Outcome"
          value={outcome}
          onChange={(event) => setOutcome(event.target.value)}
        >
          <option value="">All items</option>
          {OUTCOMES.map((word) => (
            <option key={word}>{word}</option>
          ))}
        </select>
        {team.mayEdit && sync.state === "running" && (
          <button type="button" className="btn" onClick={() => void decide("reject")}>
            Cancel this run
          </button>
        )}
      </div>
      <div className="sheet overflow-x-auto">
        <table className="table">
          <thead>
            <tr>
              {["Item", "Outcome", "State", "Words", "Passages", "Embedded", "Size"].map((name) => (
                <th key={name}>{name}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {items.map((item) => (
              <tr key={item.id}>
                <td className="max-w-md">
                  {item.document_id && item.state !== "removed" ? (
                    <Link
                      to={`${path}/documents/${item.document_id}`}
                      className="link-hover break-words"
                    >
                      {item.name}
                    </Link>
                  ) : (
                    <span className="break-words">{item.name ?? item.id}</span>
                  )}
                  {(item.reason ?? item.error) && (
                    <span className="soft block text-[13px]">{item.reason ?? item.error}</span>
                  )}
                </td>
                <td
                  className={
                    item.outcome === "failed"
                      ? "text-error"
                      : item.outcome === "missing"
                        ? "text-warning"
                        : ""
                  }
                >
                  {item.outcome}
                </td>
                <td>{item.state?.replaceAll("_", " ") ?? "–"}</td>
                <td>{count(item.words)}</td>
                <td>{count(item.passages)}</td>
                <td>{item.passages == null ? "–" : count(item.embedded)}</td>
                <td className="whitespace-nowrap">{item.bytes ? size(item.bytes) : "–"}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {items.length === 0 && (
          <p className="soft p-6 text-center">No items. Unchanged items are only counted.</p>
        )}
      </div>
      {next && (
        <button type="button" className="btn mt-3" onClick={() => void more()}>
          Show more
        </button>
      )}
    </>
  );
}
