import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { keep, type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { CreateByName } from "../../components/forms";
import { Ago, count, Failure, percent } from "../../components/text";
import { Wide } from "../../components/Wide";
import { useSession } from "../../hooks/useSession";
import { Fresh, span } from "../sources/words";
import { Erasing } from "./Erasing";

/** For operators: the teams of the service. */
export function TeamsPage() {
  const { data, error, reload } = useResource<Schemas["Page_TeamOut_"]>("/teams");
  const [name, setName] = useState("");
  const [failed, setFailed] = useState<string | null>(null);
  const create = (event: FormEvent) => {
    event.preventDefault();
    send("POST", "/teams", { name })
      .then(() => {
        setName("");
        setFailed(null);
        reload();
      })
      .catch((problem: Error) => setFailed(problem.message));
  };
  return (
    <>
      <div className="mb-5 flex items-center gap-4">
        <h1 className="text-[27px]">All teams</h1>
        <span className="ml-auto flex gap-2">
          <Link to="/quotas" className="btn">
            Quotas
          </Link>
          <Link to="/backups" className="btn">
            Backups
          </Link>
          <Link to="/audit" className="btn">
            Audit log
          </Link>
        </span>
      </div>
      <Failure message={error ?? failed} />
      <ul className="sheet divide-base-300 divide-y">
        {data?.items.map((team) => (
          <li key={team.id} className="flex gap-4 px-4 py-3">
            <Link className="link-hover font-medium" to={`/t/${team.slug}/team`}>
              {team.name}
            </Link>
            <span className="soft font-mono text-[13px]">{team.slug}</span>
            <span className="soft ml-auto">
              created <Ago at={team.created_at} />
            </span>
          </li>
        ))}
        {data?.items.length === 0 && (
          <li className="soft p-5">No team yet. Create the first one, then add its owner.</li>
        )}
      </ul>
      <CreateByName what="team" name={name} onName={setName} onCreate={create} />
      <AllUsage />
      <AllSources />
      <Erasing />
    </>
  );
}

/** The usage of each team in the last thirty days, and its budget. */
function AllUsage() {
  const { teams } = useSession();
  const { data } = useResource<Schemas["TeamUsage"][]>("/usage");
  if (!data?.some((team) => team.used.questions > 0)) return null;
  return (
    <section className="mt-8" aria-label="Usage of all teams">
      <div className="mb-2 flex items-center">
        <h2 className="text-[19px]">Usage, last thirty days</h2>
        <button
          type="button"
          className="btn btn-sm ml-auto"
          onClick={() => void keep("/usage/csv", "usage-by-team.csv")}
        >
          Download CSV
        </button>
      </div>
      <div className="sheet overflow-x-auto">
        <table className="table">
          <thead>
            <tr>
              {[
                "Team",
                "Questions",
                "Declined",
                "Not helpful",
                "Tokens",
                "Cost",
                "p95",
                "Budget",
              ].map((name, place) => (
                <th key={name} className={place ? "text-right" : ""}>
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {data.map(({ used, budget }) => (
              <tr key={used.key}>
                <td>
                  <Link
                    className="link-hover"
                    to={`/t/${used.key}/${teams.some((team) => team.slug === used.key) ? "usage" : "team"}`}
                  >
                    {used.name}
                  </Link>
                </td>
                <td className="text-right">{count(used.questions)}</td>
                <td className="text-right">
                  {used.questions ? percent(used.declined / used.questions) : "–"}
                </td>
                <td className="text-right">{count(used.not_helpful)}</td>
                <td className="text-right">{count(used.tokens_read + used.tokens_written)}</td>
                <td className="text-right">{used.cost.toFixed(4)}</td>
                <td className="text-right">
                  {used.p95_seconds == null ? "–" : span(used.p95_seconds)}
                </td>
                <td
                  className={`text-right ${budget.state === "spent" ? "text-error" : budget.state === "low" ? "text-warning" : ""}`}
                >
                  {budget.share == null ? "none" : `${percent(budget.share)} used`}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

/** The freshness of all teams' sources, late ones first. */
function AllSources() {
  const { data } = useResource<Schemas["SourceFreshness"][]>("/freshness");
  if (!data?.length) return null;
  const late = (item: Schemas["SourceFreshness"]) => (item.freshness.state === "late" ? 0 : 1);
  return (
    <section className="mt-8" aria-label="Freshness of all sources">
      <h2 className="mb-2 text-[19px]">Freshness of all sources</h2>
      <Wide label="Freshness of sources">
        <table className="table">
          <thead>
            <tr>
              {["Team", "Knowledge base", "Source", "Freshness", "Worst in seven days"].map(
                (name) => (
                  <th key={name}>{name}</th>
                ),
              )}
            </tr>
          </thead>
          <tbody>
            {[...data]
              .sort((a, b) => late(a) - late(b))
              .map((item) => (
                <tr key={item.source_id}>
                  <td>{item.team}</td>
                  <td>{item.kb}</td>
                  <td>
                    {item.source}
                    {item.error && (
                      <div className="text-error max-w-sm text-[13px]">{item.error}</div>
                    )}
                  </td>
                  <td>
                    <Fresh freshness={item.freshness} />
                  </td>
                  <td>
                    {item.freshness.worst_seconds == null
                      ? "–"
                      : span(item.freshness.worst_seconds)}
                  </td>
                </tr>
              ))}
          </tbody>
        </table>
      </Wide>
    </section>
  );
}
