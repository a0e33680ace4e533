import { type FormEvent, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Failure, percent } from "../../components/text";
import { useDesk } from "./DeskPage";

type Figures = Schemas["VersionFigures"];

/** A second version for a share of the askers, compared with the published one. */
export function SecondVersion({ versions }: { versions: Schemas["DeskVersionOut"][] }) {
  const { desk, api, reload } = useDesk();
  const served = desk.second_version !== null;
  const { data } = useResource<Schemas["SecondVersionOut"]>(served ? `${api}/second` : null, {
    idle: 10_000,
  });
  const others = versions.filter((one) => one.number !== desk.published?.number);
  const [version, setVersion] = useState("");
  const [share, setShare] = useState("20");
  const [error, setError] = useState<string | null>(null);
  if (!desk.published || (others.length === 0 && !served)) return null;
  const act = (method: string, path = "", body?: unknown) =>
    send(method, `${api}/second${path}`, body)
      .then(() => {
        setError(null);
        reload();
      })
      .catch((problem: Error) => setError(problem.message));
  const begin = (event: FormEvent) => {
    event.preventDefault();
    void act("PUT", "", {
      version: Number(version || others[0]!.number),
      share: Number(share),
    });
  };
  return (
    <section className="mt-7" aria-label="Second version">
      <h2 className="mb-2 text-[19px]">Two versions at once</h2>
      <Failure message={error} />
      {served ? (
        <>
          <p className="flex flex-wrap items-center gap-4">
            <span>
              {desk.second_share} % of the askers get version {desk.second_version}; each asker
              keeps the same one.
            </span>
            <button
              type="button"
              className="btn btn-primary btn-sm"
              onClick={() => void act("POST", "/promote")}
            >
              Publish version {desk.second_version}
            </button>
            <button type="button" className="btn btn-sm" onClick={() => void act("DELETE")}>
              End
            </button>
          </p>
          {data && <Table first={data.first} second={data.second} />}
        </>
      ) : (
        <form className="flex flex-wrap items-center gap-2.5" onSubmit={begin}>
          <label className="flex items-center gap-2">
            Serve
            <select
              className="select select-sm w-auto"
              value={version || String(others[0]!.number)}
              onChange={(event) => setVersion(event.target.value)}
            >
              {others.map((one) => (
                <option key={one.number} value={one.number}>
                  version {one.number}
                </option>
              ))}
            </select>
          </label>
          <label className="flex items-center gap-2">
            to
            <input
              className="input input-sm w-20"
              type="number"
              min={1}
              max={99}
              required
              value={share}
              onChange={(event) => setShare(event.target.value)}
            />
            % of the askers
          </label>
          <button type="submit" className="btn btn-sm">
            Begin
          </button>
        </form>
      )}
    </section>
  );
}

function Table({ first, second }: { first: Figures; second: Figures }) {
  const share = (value: Schemas["ShareOut"]) =>
    value.of === 0
      ? "–"
      : `${percent(value.count / value.of)} (${percent(value.low)} to ${percent(value.high)})`;
  const estimate = (value: Schemas["EstimateOut"] | null, places: number) =>
    value === null
      ? "–"
      : `${value.value.toFixed(places)} (${value.low.toFixed(places)} to ${value.high.toFixed(places)})`;
  const rows: [string, (one: Figures) => string][] = [
    ["Askers", (one) => String(one.askers)],
    ["Questions", (one) => String(one.questions)],
    ["Declined", (one) => share(one.declined)],
    ["Helpful, of those with feedback", (one) => share(one.helpful)],
    ["Tokens of an answer", (one) => estimate(one.tokens, 0)],
    ["Cost of an answer", (one) => estimate(one.cost, 5)],
    ["Seconds, median", (one) => estimate(one.seconds, 2)],
    ["Seconds, 95th percentile", (one) => one.p95_seconds?.toFixed(2) ?? "–"],
  ];
  return (
    <div className="sheet mt-3 overflow-x-auto">
      <table className="table" aria-label="Both versions">
        <thead>
          <tr>
            <th>With 95 % intervals</th>
            <th className="text-right">Version {first.version}</th>
            <th className="text-right">Version {second.version}</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([name, text]) => (
            <tr key={name}>
              <td>{name}</td>
              <td className="text-right tabular-nums">{text(first)}</td>
              <td className="text-right tabular-nums">{text(second)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
