import { useState } from "react";
import { type Schemas, send } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { Ago, count, Failure, percent, size } from "../../components/text";
import { Wide } from "../../components/Wide";

type Backup = Schemas["BackupOut"];

const NUMBERS = new Set(["Size", "New", "Documents"]);

const active = (backup: Backup) => backup.state === "waiting" || backup.state === "running";

/** For operators: the backups of the service. */
export function BackupsPage() {
  const { data, error, reload } = useResource<Schemas["BackupsOut"]>("/backups", {
    idle: IDLE,
    busy: (result) => result.items.some(active),
  });
  const [failed, setFailed] = useState<string | null>(null);
  const start = () =>
    send("POST", "/backups")
      .then(() => {
        setFailed(null);
        reload();
      })
      .catch((problem: Error) => setFailed(problem.message));
  const running = data?.items.find(active);
  return (
    <>
      <div className="mb-1 flex items-center gap-4">
        <h1 className="text-[27px]">Backups</h1>
        <button
          type="button"
          className="btn btn-primary ml-auto"
          disabled={!data?.place || running !== undefined}
          onClick={() => void start()}
        >
          Back up now
        </button>
      </div>
      {data && <Plan plan={data} />}
      <Failure message={error ?? failed} />
      {running && (
        <section className="sheet mb-4 flex flex-wrap items-center gap-3 p-4" aria-label="Running">
          <b className="font-semibold">Backing up</b>
          <progress
            className="progress progress-primary w-64"
            value={running.total ? running.done / running.total : undefined}
            max={1}
            aria-label="Progress"
          />
          <span className="soft">
            {running.total > 0 &&
              `${percent(running.done / running.total)} of ${size(running.total)}`}
          </span>
        </section>
      )}
      {data && data.items.length > 0 && (
        <Wide label="Backups">
          <table className="table">
            <thead>
              <tr>
                {["Taken", "Asked by", "Size", "New", "Documents", "Result"].map((name) => (
                  <th key={name} className={NUMBERS.has(name) ? "text-right" : ""}>
                    {name}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {data.items.map((backup) => (
                <Row key={backup.id} backup={backup} />
              ))}
            </tbody>
          </table>
        </Wide>
      )}
    </>
  );
}

function Plan({ plan }: { plan: Schemas["BackupsOut"] }) {
  if (!plan.place)
    return (
      <p className="soft mb-5">
        No place for backups is set. Set <code>FONTANEL_BACKUP</code> to a folder or a bucket, and
        start the service again.
      </p>
    );
  return (
    <p className="soft mb-5">
      Stored in <code>{plan.place}</code>, each for {plan.days} days.{" "}
      {plan.next_at
        ? `The next one is due ${new Date(plan.next_at).toLocaleString()}.`
        : "None is scheduled."}
    </p>
  );
}

function Row({ backup }: { backup: Backup }) {
  const done = backup.state === "done";
  return (
    <tr className={backup.deleted_at ? "soft" : ""}>
      <td>
        <Ago at={backup.created_at} />
        <div className="soft font-mono text-[13px]">{backup.id}</div>
      </td>
      <td>{backup.asked_by}</td>
      <td className="text-right">{done ? size(backup.done) : "–"}</td>
      <td className="text-right">{done ? size(backup.new) : "–"}</td>
      <td className="text-right">{done ? count(backup.documents) : "–"}</td>
      <td className={backup.state === "failed" ? "text-error max-w-md" : "max-w-md"}>
        {backup.deleted_at ? "deleted for its age" : backup.error || backup.checked || backup.state}
        {done && (
          <div className="soft text-[13px]">{backup.encrypted ? "encrypted" : "not encrypted"}</div>
        )}
      </td>
    </tr>
  );
}
