import { useCallback, useEffect, useState } from "react";
import { Link } from "react-router";
import { get, type Schemas, send } from "../../api/client";
import { Ago, count, Failure, money } from "../../components/text";
import { API } from "../../root";
import { EmbedderChoice } from "./EmbedderChoice";
import { type Splitting, SplittingFields, splittingText } from "./Splitting";

type Edition = Schemas["EditionOut"];

/** The indexes of a knowledge base: build one with other settings, try it, switch, switch back. */
export function Editions({
  api,
  splitting,
  mayEdit,
  trial,
}: {
  api: string;
  splitting: Splitting;
  mayEdit: boolean;
  /** Where a trial begins that an edition has to pass; null if it need not. */
  trial?: string | null;
}) {
  const [editions, setEditions] = useState<Edition[]>([]);
  const [chosen, setChosen] = useState<Splitting>(splitting);
  const [embedder, setEmbedder] = useState<string | null>(null);
  const [budget, setBudget] = useState("");
  const [error, setError] = useState<string | null>(null);
  const load = useCallback(
    () =>
      get<Schemas["Page_EditionOut_"]>(`${api}/editions`)
        .then((page) => setEditions(page.items))
        .catch((problem: Error) => setError(problem.message)),
    [api],
  );
  const building = editions.some((edition) => edition.state === "building");
  useEffect(() => {
    void load();
    if (!building) return;
    const timer = setInterval(load, 1000);
    return () => clearInterval(timer);
  }, [load, building]);
  const act = (call: Promise<unknown>) =>
    call
      .then(() => {
        setError(null);
        load();
      })
      .catch((problem: Error) => setError(problem.message));
  return (
    <section className="mt-8" aria-label="Editions">
      <h2 className="text-[19px]">Editions</h2>
      <p className="soft mt-1 mb-3">
        To split documents differently, or to use another embedder, build another edition. Nothing
        changes for your users until you switch, and you can switch back.
      </p>
      <div className="sheet overflow-x-auto">
        <table className="table">
          <thead>
            <tr>
              {["Edition", "State", "Splitting", "Embedder", "Passages", "Made", ""].map((name) => (
                <th key={name}>{name || <span className="sr-only">Actions</span>}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {editions.map((edition) => (
              <tr key={edition.id}>
                <td className="tabular-nums">{edition.number}</td>
                <td>
                  <EditionState edition={edition} />
                </td>
                <td>{splittingText(edition.splitting)}</td>
                <td>
                  {edition.embedder ?? "none"}
                  <Cost edition={edition} />
                </td>
                <td className="tabular-nums">
                  {count(edition.passages)}
                  {edition.recall != null && (
                    <span
                      className="soft block"
                      title="Share of the ten nearest vectors that are found, measured when the index was clustered"
                    >
                      {(100 * edition.recall).toFixed(1)}% found
                    </span>
                  )}
                </td>
                <td className="whitespace-nowrap">
                  <Ago at={edition.created_at} />
                </td>
                <td className="text-right whitespace-nowrap">
                  {edition.state === "ready" && (
                    <a
                      className="btn btn-sm mr-2"
                      href={`${API}${api}/editions/${edition.number}/pack`}
                    >
                      Export
                    </a>
                  )}
                  {mayEdit && !edition.active && (
                    <>
                      {trial && edition.state === "ready" && (
                        <Link className="btn btn-sm mr-2" to={`${trial}&edition=${edition.number}`}>
                          Try
                        </Link>
                      )}
                      <Pausing edition={edition} api={api} act={act} />
                      <button
                        type="button"
                        className="btn btn-sm mr-2"
                        disabled={edition.state !== "ready"}
                        onClick={() =>
                          void act(send("POST", `${api}/editions/${edition.number}/activate`))
                        }
                      >
                        Switch
                      </button>
                      <button
                        type="button"
                        className="btn btn-sm"
                        aria-label={`Delete edition ${edition.number}`}
                        onClick={() => {
                          if (confirm(`Delete edition ${edition.number}?`))
                            void act(send("DELETE", `${api}/editions/${edition.number}`));
                        }}
                      >
                        Drop
                      </button>
                    </>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {mayEdit && (
        <form
          className="mt-4 flex flex-wrap items-end gap-4"
          onSubmit={(event) => {
            event.preventDefault();
            void act(
              send("POST", `${api}/editions`, {
                splitting: chosen,
                embedder,
                budget: budget ? Number(budget) : null,
              }),
            );
          }}
        >
          <SplittingFields splitting={chosen} onChange={setChosen} />
          <EmbedderChoice value={embedder} onChange={setEmbedder} kb={api} />
          {embedder && (
            <label className="flex flex-col gap-1">
              Pause at a cost of
              <input
                className="input w-32"
                type="number"
                min="0"
                step="any"
                placeholder="no limit"
                value={budget}
                onChange={(event) => setBudget(event.target.value)}
              />
            </label>
          )}
          <button type="submit" className="btn">
            Build an edition
          </button>
        </form>
      )}
      <Failure message={error} />
    </section>
  );
}

/** What embedding an edition cost so far, and its budget. */
function Cost({ edition }: { edition: Edition }) {
  if (!edition.cost && edition.budget == null) return null;
  return (
    <span className="soft block">
      {money(edition.cost)}
      {edition.budget != null && ` of ${money(edition.budget)}`} {edition.currency}
    </span>
  );
}

/** Pauses or resumes the build of an edition; a used-up budget is raised first. */
function Pausing({
  edition,
  api,
  act,
}: {
  edition: Edition;
  api: string;
  act: (call: Promise<unknown>) => unknown;
}) {
  const [budget, setBudget] = useState("");
  const path = `${api}/editions/${edition.number}`;
  if (edition.state === "building")
    return (
      <button
        type="button"
        className="btn btn-sm mr-2"
        onClick={() => act(send("POST", `${path}/pause`))}
      >
        Pause
      </button>
    );
  if (edition.state !== "paused") return null;
  return (
    <>
      {edition.paused_by === "budget" && (
        <input
          className="input input-sm mr-2 w-28"
          type="number"
          min="0"
          step="any"
          aria-label={`New budget of edition ${edition.number}`}
          placeholder="New budget"
          value={budget}
          onChange={(event) => setBudget(event.target.value)}
        />
      )}
      <button
        type="button"
        className="btn btn-sm mr-2"
        disabled={edition.paused_by === "budget" && !budget}
        onClick={() =>
          act(send("POST", `${path}/resume`, { budget: budget ? Number(budget) : null }))
        }
      >
        Resume
      </button>
    </>
  );
}

function EditionState({ edition }: { edition: Edition }) {
  if (edition.state !== "ready") {
    const left =
      edition.seconds_left == null ? "" : `, about ${Math.ceil(edition.seconds_left)} s left`;
    const paused = edition.paused_by === "budget" ? "Paused, budget used up: " : "Paused: ";
    return (
      <span className="flex flex-col gap-1">
        <span>
          {edition.state === "paused" && paused}
          {edition.done} of {edition.total} documents{left}
          {edition.replaces_active && "; then replaces the active one"}
        </span>
        <progress
          className="progress progress-primary w-36"
          value={edition.done + edition.failed}
          max={edition.total}
          aria-label={`Edition ${edition.number}`}
        />
      </span>
    );
  }
  return (
    <>
      {edition.active ? <b>active</b> : "ready"}
      {edition.outdated && ", outdated"}
      {edition.failed > 0 && `, ${edition.failed} failed`}
    </>
  );
}
