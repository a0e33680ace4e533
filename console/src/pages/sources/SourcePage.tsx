import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { Missing } from "../../App";
import { type Schemas, send } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { Ago, count, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { useKb } from "../kb/KbPage";
import { SourceSettings } from "./SourceSettings";
import { counts, Fresh, plan, RunState, type Source, took } from "./words";

const busy = (source: Source) =>
  source.recent.some((run) => ["waiting", "running"].includes(run.state) || run.indexing > 0);

/** One source: its freshness, runs and settings. */
export function SourcePage() {
  const team = useTeam();
  const { api, path } = useKb();
  const { source: id = "" } = useParams();
  const base = `${api}/sources/${id}`;
  const { data: source, error, reload } = useResource<Source>(base, { busy, idle: IDLE });
  const [failure, setFailure] = useState<string | null>(null);
  const [secret, setSecret] = useState<Schemas["SignalSecret"] | null>(null);
  const [editing, setEditing] = useState(false);
  const navigate = useNavigate();
  if (error) return <Missing />;
  if (!source) return null;
  const act = (call: Promise<unknown>) =>
    call
      .then(() => {
        setFailure(null);
        reload();
      })
      .catch((problem: Error) => setFailure(problem.message));
  const disconnect = () => {
    if (!confirm(`Disconnect ${source.name}?`)) return;
    const keep =
      source.documents > 0 &&
      !confirm(`Delete its ${source.documents} documents as well? "Cancel" keeps them.`);
    void send("DELETE", `${base}?keep_documents=${keep}`).then(
      () => navigate(`${path}/sources`),
      (problem: Error) => setFailure(problem.message),
    );
  };
  const pushed = source.kind === "push";
  return (
    <>
      <Link to={`${path}/sources`} className="link-hover soft">
        ‹ Sources
      </Link>
      <div className="mt-1 mb-4 flex flex-wrap items-center gap-3">
        <h2 className="text-[22px]">{source.name}</h2>
        {team.mayEdit && (
          <span className="ml-auto flex flex-wrap gap-2">
            {!pushed && (
              <button
                type="button"
                className="btn btn-primary btn-sm"
                onClick={() => void act(send("POST", `${base}/syncs`))}
              >
                Run now
              </button>
            )}
            <button
              type="button"
              className="btn btn-sm"
              onClick={() => void act(send("PATCH", base, { paused: !source.paused }))}
            >
              {source.paused ? "Resume" : "Pause"}
            </button>
            <button type="button" className="btn btn-sm" onClick={() => setEditing(!editing)}>
              Settings
            </button>
            <button type="button" className="btn btn-sm" onClick={disconnect}>
              Disconnect
            </button>
          </span>
        )}
      </div>
      <Failure message={failure ?? source.error} />
      <dl className="sheet mb-6 grid gap-x-8 gap-y-3 p-5 sm:grid-cols-2 lg:grid-cols-4">
        <Fact name="Freshness">
          <Fresh freshness={source.freshness} />
        </Fact>
        <Fact name="Documents">
          <Link to={`${path}/documents?source=${source.id}`} className="link-hover">
            {count(source.documents)}
          </Link>
          {source.freshness.pending > 0 && (
            <span className="soft"> · {source.freshness.pending} in progress</span>
          )}
        </Fact>
        <Fact name="Runs">{plan(source)}</Fact>
        <Fact name="Checked at">
          <Ago at={source.freshness.as_of} />
        </Fact>
        {Object.entries(source.settings)
          .filter(
            ([, value]) =>
              value !== null &&
              value !== "" &&
              value !== false &&
              !(Array.isArray(value) && value.length === 0),
          )
          .map(([name, value]) => (
            <Fact key={name} name={name.replaceAll("_", " ")}>
              <span className="break-words">
                {Array.isArray(value) ? value.join(", ") : value === true ? "yes" : String(value)}
              </span>
            </Fact>
          ))}
        {source.credentials.length > 0 && (
          <Fact name="Credentials changed">{source.credentials.join(", ")}</Fact>
        )}
      </dl>
      {editing && (
        <SourceSettings
          source={source}
          base={base}
          onDone={() => {
            setEditing(false);
            reload();
          }}
        />
      )}
      <h3 className="mb-2 text-[17px]">Runs</h3>
      <div className="sheet overflow-x-auto">
        <table className="table">
          <thead>
            <tr>
              {["When", "Started by", "State", "Items", "Took"].map((name) => (
                <th key={name}>{name}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {source.recent.map((run) => (
              <tr key={run.id}>
                <td>
                  <Link
                    to={`${path}/sources/${source.id}/runs/${run.id}`}
                    className="link-hover text-primary"
                  >
                    <Ago at={run.created_at} />
                  </Link>
                </td>
                <td>{run.cause}</td>
                <td>
                  <RunState sync={run} />
                  {(run.held_reason ?? run.error) && (
                    <span className="soft block max-w-md text-[13px]">
                      {run.held_reason ?? run.error}
                    </span>
                  )}
                </td>
                <td>{counts(run)}</td>
                <td className="whitespace-nowrap">{took(run)}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {source.recent.length === 0 && (
          <p className="soft p-6 text-center">
            {pushed ? "No program has sent documents yet." : "It has not run yet."}
          </p>
        )}
      </div>
      {team.mayEdit && !pushed && (
        <section className="mt-6">
          <h3 className="text-[17px]">Signals</h3>
          <p className="soft mt-1 mb-2 max-w-2xl">
            A program can tell that something changed, with a signed request; a run starts at once.
          </p>
          {secret ? (
            <p>
              Send <code>POST {secret.path}</code>, signed with{" "}
              <code className="font-semibold">{secret.secret}</code> – shown this once.
            </p>
          ) : (
            <button
              type="button"
              className="btn btn-sm"
              onClick={() =>
                void send<Schemas["SignalSecret"]>("POST", `${base}/signal-secret`).then(
                  setSecret,
                  (problem: Error) => setFailure(problem.message),
                )
              }
            >
              Create secret
            </button>
          )}
        </section>
      )}
    </>
  );
}

export function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div className="min-w-0">
      <dt className="soft text-[12.5px]">{name}</dt>
      <dd>{children}</dd>
    </div>
  );
}
