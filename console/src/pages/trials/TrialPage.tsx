import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Ago, count, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { API } from "../../root";
import {
  Interval,
  isOpen,
  RESULTS,
  type Result,
  ResultWord,
  shareText,
  type Trial,
  TrialStateText,
} from "./parts";

/** A trial: its progress, figures and answers. */
export function TrialPage() {
  const { trial: id = "" } = useParams();
  const team = useTeam();
  const navigate = useNavigate();
  const base = `/t/${team.slug}/trials`;
  const api = `${team.api}/trials/${id}`;
  const { data: trial, error, reload } = useResource<Trial>(api, { busy: isOpen });
  const results = useResource<Schemas["Page_TrialResultOut_"]>(trial ? `${api}/results` : null, {
    version: trial?.asked,
  });
  const [failure, setFailure] = useState<string | null>(null);
  if (!trial) return <Failure message={error} />;
  const act = (method: string, path: string, body?: unknown) =>
    send(method, `${api}${path}`, body)
      .then(() => {
        setFailure(null);
        if (method === "DELETE") void navigate(base);
        else reload();
      })
      .catch((problem: Error) => setFailure(problem.message));
  const resume = () => {
    const budget = trial.max_tokens && prompt("Maximum tokens", String(trial.max_tokens * 2));
    if (trial.max_tokens === null || budget)
      void act("POST", "/resume", { max_tokens: budget ? Number(budget) : null });
  };
  return (
    <>
      <p className="mb-3">
        <Link className="link-hover soft" to={base}>
          Trials
        </Link>
      </p>
      <div className="flex flex-wrap items-baseline gap-x-5 gap-y-2">
        <h1 className="text-[27px] leading-tight">{trial.label}</h1>
        <span className="soft">
          <Link className="link-hover" to={`${base}/sets/${trial.question_set}`}>
            {trial.set_name}
          </Link>
          {" · "}
          {trial.author} · <Ago at={trial.created_at} />
        </span>
        <span className="ml-auto flex flex-wrap gap-2.5">
          {isOpen(trial) && (
            <button type="button" className="btn btn-sm" onClick={() => void act("POST", "/stop")}>
              Stop
            </button>
          )}
          {(trial.state === "paused" || trial.state === "stopped") && (
            <button type="button" className="btn btn-primary btn-sm" onClick={resume}>
              Resume
            </button>
          )}
          <a className="btn btn-sm" href={`${API}${api}/export`} download>
            Export
          </a>
          <button
            type="button"
            className="btn btn-sm"
            onClick={() =>
              confirm("Delete this trial and the records of its answers?") && void act("DELETE", "")
            }
          >
            Delete
          </button>
        </span>
      </div>
      <Failure message={failure ?? error} />
      {trial.note && <p className="text-warning mt-2">{trial.note}</p>}
      {trial.state !== "done" && (
        <p className="mt-3" role="status">
          <TrialStateText trial={trial} />
        </p>
      )}
      <Figures trial={trial} />
      <CompareChoice trial={trial} base={base} />
      <Answers results={results.data?.items ?? []} answers={`/t/${team.slug}/answers`} />
    </>
  );
}

function Figures({ trial }: { trial: Trial }) {
  const { figures } = trial;
  const rows: [string, Schemas["ShareOut"]][] = [
    ["Right", figures.right],
    ["Answers that cite what was expected", figures.cited],
    ["Declined rightly", figures.declined_rightly],
    ["Declined although the documents answer", figures.declined_wrongly],
  ];
  const groups = (items: Schemas["TrialGroup"][]) =>
    items.length > 1 || items[0]?.name
      ? items.map((one): [string, Schemas["ShareOut"]] => [one.name || "others", one.right])
      : [];
  const seconds = (value: number | null) => (value === null ? "–" : `${value.toFixed(2)} s`);
  return (
    <section className="mt-4 grid gap-5 min-[900px]:grid-cols-2" aria-label="Figures">
      <div className="sheet p-4">
        <Shares rows={rows} />
        <p className="soft mt-3 flex flex-wrap gap-x-5 text-[13px]">
          <span>{seconds(figures.median_seconds)} in the median</span>
          <span>{seconds(figures.p95_seconds)} at the 95th percentile</span>
          <span>{count(figures.tokens)} tokens</span>
          {figures.cost > 0 && <span>cost {figures.cost.toFixed(4)}</span>}
          {figures.doubtful > 0 && <span>{figures.doubtful} statements not supported</span>}
          {figures.failed > 0 && <span>{figures.failed} failed</span>}
        </p>
      </div>
      <div className="sheet max-h-72 overflow-y-auto p-4">
        <Shares title="By kind" rows={groups(figures.kinds)} />
        <Shares title="By expected document" rows={groups(figures.documents)} />
      </div>
    </section>
  );
}

function Shares({ title, rows }: { title?: string; rows: [string, Schemas["ShareOut"]][] }) {
  if (rows.length === 0) return null;
  return (
    <>
      {title && <h2 className="mb-1 text-[15px]">{title}</h2>}
      <dl className="mb-3 space-y-1">
        {rows.map(([name, share]) => (
          <div key={name} className="flex flex-wrap items-center gap-x-3">
            <dt className="min-w-44 flex-1">{name}</dt>
            <dd className="w-26 text-right whitespace-nowrap tabular-nums">{shareText(share)}</dd>
            <dd className="w-40">
              <Interval share={share} />
            </dd>
          </div>
        ))}
      </dl>
    </>
  );
}

/** The other finished trials of the set, to compare with. */
function CompareChoice({ trial, base }: { trial: Trial; base: string }) {
  const team = useTeam();
  const navigate = useNavigate();
  const { data } = useResource<Schemas["Page_TrialOut_"]>(
    `${team.api}/trials?question_set=${trial.question_set}`,
    { busy: (page) => page.items.some(isOpen) },
  );
  const others = data?.items.filter((one) => one.id !== trial.id && one.asked > 0) ?? [];
  const [chosen, setChosen] = useState("");
  if (others.length === 0 || trial.asked === 0) return null;
  const before = chosen || trial.compare_with || others[0]!.id;
  return (
    <form
      className="mt-5 flex flex-wrap items-center gap-2.5"
      aria-label="Compare"
      onSubmit={(event) => {
        event.preventDefault();
        void navigate(`${base}/${before}/compare/${trial.id}`);
      }}
    >
      <label className="flex items-center gap-2.5">
        Compare with
        <select
          className="select select-sm w-auto max-w-80"
          value={before}
          onChange={(event) => setChosen(event.target.value)}
        >
          {others.map((one) => (
            <option key={one.id} value={one.id}>
              {one.label}, {new Date(one.created_at).toLocaleString()}
            </option>
          ))}
        </select>
      </label>
      <button type="submit" className="btn btn-sm">
        Compare
      </button>
    </form>
  );
}

function Answers({ results, answers }: { results: Result[]; answers: string }) {
  const [chosen, setChosen] = useState("");
  const found = Object.keys(RESULTS).filter((name) => results.some((one) => one.result === name));
  const shown = results.filter((one) => one.result && (!chosen || one.result === chosen));
  if (found.length === 0) return null;
  return (
    <section className="mt-6" aria-label="Answers">
      <label className="mb-2 flex items-center gap-2.5">
        Answers
        <select
          className="select select-sm w-auto"
          value={chosen}
          onChange={(event) => setChosen(event.target.value)}
        >
          <option value="">all ({results.filter((one) => one.result).length})</option>
          {found.map((name) => (
            <option key={name} value={name}>
              {RESULTS[name as keyof typeof RESULTS].word} (
              {results.filter((one) => one.result === name).length})
            </option>
          ))}
        </select>
      </label>
      <ul className="sheet divide-base-300 divide-y">
        {shown.map((one) => (
          <li key={one.question_id} className="px-4 py-3">
            <div className="flex flex-wrap items-baseline gap-x-4">
              {one.answer_id ? (
                <Link
                  className="link-hover font-serif text-[16px]"
                  to={`${answers}/${one.answer_id}`}
                >
                  {one.question}
                </Link>
              ) : (
                <span className="font-serif text-[16px]">{one.question}</span>
              )}
              <span className="ml-auto">
                <ResultWord result={one.result} />
              </span>
            </div>
            {one.reason && <p className="text-[13px]">{one.reason}</p>}
            <p className="soft mt-0.5 line-clamp-2 text-[13px]">{one.text}</p>
          </li>
        ))}
      </ul>
    </section>
  );
}
