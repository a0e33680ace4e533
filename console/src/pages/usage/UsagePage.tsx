import { type FormEvent, useEffect, useState } from "react";
import { keep, type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { count, Failure, percent } from "../../components/text";
import { Wide } from "../../components/Wide";
import { useTeam } from "../../hooks/useSession";
import { TeamQuotas } from "./quotas";

type By = Schemas["UsageOut"]["by"];
type Row = Schemas["UsageRow"];
const WAYS: [By, string][] = [
  ["day", "by day"],
  ["desk", "by desk"],
  ["kb", "by knowledge base"],
  ["member", "by asker"],
  ["model", "by model"],
  ["source", "by source"],
];

/** The team's questions and usage in the last thirty days. */
export function UsagePage() {
  const team = useTeam();
  const [by, setBy] = useState<By>("day");
  const [desk, setDesk] = useState("");
  const desks = useResource<Schemas["Page_DeskOut_"]>(`${team.api}/desks`);
  const query = new URLSearchParams({ by, ...(desk && { desk }) });
  const { data, error, reload } = useResource<Schemas["UsageOut"]>(`${team.api}/usage?${query}`);
  const days = useResource<Schemas["UsageOut"]>(
    `${team.api}/usage?${new URLSearchParams({ by: "day", ...(desk && { desk }) })}`,
  );
  return (
    <>
      <h1 className="text-[27px]">Usage</h1>
      <p className="soft mt-1 mb-5">The last thirty days.</p>
      <Failure message={error} />
      {data && <Budget budget={data.budget} onChange={reload} />}
      <TeamQuotas />
      {days.data && days.data.rows.length > 0 && <Chart rows={days.data.rows} />}
      <div className="mt-7 mb-3 flex flex-wrap items-center gap-3">
        <select
          className="select w-auto"
          aria-label="Count"
          value={by}
          onChange={(e) => setBy(e.target.value as By)}
        >
          {WAYS.map(([value, label]) => (
            <option key={value} value={value}>
              {label}
            </option>
          ))}
        </select>
        <select
          className="select w-auto"
          aria-label="Desk"
          value={desk}
          onChange={(e) => setDesk(e.target.value)}
        >
          <option value="">all desks and knowledge bases</option>
          {desks.data?.items.map((item) => (
            <option key={item.id} value={item.id}>
              {item.name}
            </option>
          ))}
        </select>
        <button
          type="button"
          className="btn ml-auto"
          onClick={() => void keep(`${team.api}/usage/csv?${query}`, `usage-by-${by}.csv`)}
        >
          Download CSV
        </button>
      </div>
      {data && <Table data={data} />}
    </>
  );
}

function Budget({ budget, onChange }: { budget: Schemas["BudgetOut"]; onChange: () => void }) {
  const team = useTeam();
  const [most, setMost] = useState("");
  const [error, setError] = useState<string | null>(null);
  useEffect(
    () => setMost(budget.monthly_tokens == null ? "" : String(budget.monthly_tokens)),
    [budget.monthly_tokens],
  );
  const save = (event: FormEvent) => {
    event.preventDefault();
    send("PATCH", team.api, { monthly_tokens: most === "" ? null : Number(most) })
      .then(() => {
        setError(null);
        onChange();
      })
      .catch((problem: Error) => setError(problem.message));
  };
  const tone =
    budget.state === "spent"
      ? "progress-error"
      : budget.state === "low"
        ? "progress-warning"
        : "progress-primary";
  return (
    <section className="sheet p-4" aria-label="Budget">
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
        <b className="font-semibold">{count(budget.used)} tokens this month</b>
        {budget.limit != null && (
          <>
            <progress
              className={`progress w-44 ${tone}`}
              value={Math.min(budget.share ?? 0, 1)}
              max={1}
              aria-label="Share of the budget"
            />
            <span>
              {percent(budget.share ?? 0)} of {count(budget.limit)}
            </span>
          </>
        )}
        {team.mayOwn && (
          <form className="flex flex-wrap items-center gap-2 sm:ml-auto" onSubmit={save}>
            <label htmlFor="budget">Monthly budget</label>
            <input
              id="budget"
              type="number"
              min={0}
              className="input w-36"
              placeholder="no limit"
              value={most}
              onChange={(e) => setMost(e.target.value)}
            />
            <button type="submit" className="btn">
              Set budget
            </button>
          </form>
        )}
      </div>
      {budget.state === "low" && (
        <p className="text-warning mt-2">More than 80 % of this month's budget is used.</p>
      )}
      {budget.state === "spent" && (
        <p className="text-error mt-2">
          The budget is used up. Until next month, answers are composed without a model.
        </p>
      )}
      <Failure message={error} />
    </section>
  );
}

/** Questions per day: answered below, declined above; the table has the numbers too. */
function Chart({ rows }: { rows: Row[] }) {
  const shown = withQuietDays(rows);
  const most = Math.max(...rows.map((row) => row.questions), 1);
  const day = (key: string) =>
    new Date(`${key}T12:00`).toLocaleDateString(undefined, { day: "numeric", month: "short" });
  return (
    <figure className="sheet mt-4 overflow-hidden p-4">
      <figcaption className="mb-2 flex flex-wrap gap-x-5">
        <b className="font-semibold">Questions per day</b>
        <span className="soft flex items-center gap-1.5">
          <span className="bg-primary inline-block size-2.5" aria-hidden /> answered
        </span>
        <span className="soft flex items-center gap-1.5">
          <span className="bg-warning inline-block size-2.5" aria-hidden /> declined
        </span>
        <span className="soft flex items-center gap-1.5">
          <span className="bg-base-300 inline-block size-2.5" aria-hidden /> unfinished
        </span>
      </figcaption>
      <div
        className="flex h-40 items-end gap-1"
        role="img"
        aria-label={`Questions per day, at most ${most}`}
      >
        {shown.map((row) => {
          const unfinished = row.unfinished;
          const part = (value: number) => `${(100 * value) / most}%`;
          return (
            <div
              key={row.key}
              className="flex h-full min-w-2 flex-1 flex-col justify-end"
              title={`${day(row.key)}: ${row.questions} questions, ${row.declined} declined`}
            >
              <span className="soft text-center text-[12px] tabular-nums">
                {row.questions || ""}
              </span>
              <span className="bg-base-300" style={{ height: part(unfinished) }} />
              <span className="bg-warning" style={{ height: part(row.declined) }} />
              <span className="bg-primary" style={{ height: part(row.answered) }} />
            </div>
          );
        })}
      </div>
      <div className="soft mt-1 flex gap-1 text-[12px]">
        {shown.map((row, index) => (
          <span
            key={row.key}
            className="flex min-w-2 flex-1 justify-end overflow-visible whitespace-nowrap"
          >
            {(shown.length - 1 - index) % 5 === 0 ? day(row.key) : ""}
          </span>
        ))}
      </div>
    </figure>
  );
}

/** Add the days without questions, thirty in all. */
function withQuietDays(
  rows: Row[],
): Pick<Row, "key" | "questions" | "answered" | "declined" | "unfinished">[] {
  const known = new Map(rows.map((row) => [row.key, row]));
  const last = new Date(`${rows.at(-1)!.key}T12:00Z`).getTime();
  return Array.from({ length: 30 }, (_, n) => {
    const key = new Date(last - (29 - n) * 86_400_000).toISOString().slice(0, 10);
    return known.get(key) ?? { key, questions: 0, answered: 0, declined: 0, unfinished: 0 };
  });
}

function Table({ data }: { data: Schemas["UsageOut"] }) {
  const seconds = (value: number | null) => (value == null ? "–" : `${value.toFixed(2)} s`);
  const share = (row: Row) => (row.questions ? percent(row.declined / row.questions) : "–");
  const line = (row: Row, strong = false) => (
    <tr key={row.key || "total"} className={strong ? "font-semibold" : ""}>
      <td>{row.name}</td>
      {[
        count(row.questions),
        count(row.tool_calls),
        count(row.approved),
        share(row),
        count(row.unfinished),
        `${row.helpful} / ${row.not_helpful}`,
        count(row.tokens_read),
        count(row.tokens_written),
        row.cost.toFixed(4),
        seconds(row.median_seconds ?? null),
        seconds(row.p95_seconds ?? null),
      ].map((cell, index) => (
        <td key={index} className="text-right tabular-nums">
          {cell}
        </td>
      ))}
    </tr>
  );
  return (
    <Wide label="Questions and costs">
      <table className="table">
        <thead>
          <tr>
            <th>
              <span className="sr-only">Counted by</span>
            </th>
            {[
              "Questions",
              "Tool calls",
              "Approved",
              "Declined",
              "Unfinished",
              "Helpful / not",
              "Input tokens",
              "Output tokens",
              "Cost",
              "Median",
              "p95",
            ].map((name) => (
              <th key={name} className="text-right">
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {data.rows.map((row) => line(row))}
          {line(data.total, true)}
        </tbody>
      </table>
      {data.rows.length === 0 && <p className="soft p-5">No questions yet.</p>}
    </Wide>
  );
}
