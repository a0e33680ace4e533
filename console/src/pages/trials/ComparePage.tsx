import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { CheckBox } from "../../components/forms";
import { Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { Interval, ResultWord, shareText, type Trial } from "./parts";

type Compared = Schemas["ComparedAnswer"];

const CHANGES: Record<Compared["change"], string> = {
  won: "text-success",
  lost: "text-error",
  changed: "",
  same: "soft",
};

/** Two trials of a set, question by question. */
export function ComparePage() {
  const { trial = "", other = "" } = useParams();
  const team = useTeam();
  const base = `/t/${team.slug}/trials`;
  const { data, error } = useResource<Schemas["TrialComparison"]>(
    `${team.api}/trials/${trial}/compare/${other}`,
  );
  const [all, setAll] = useState(false);
  if (!data) return <Failure message={error} />;
  const shown = data.answers.filter((one) => all || one.change !== "same");
  return (
    <>
      <p className="mb-3">
        <Link className="link-hover soft" to={base}>
          Trials
        </Link>
      </p>
      <h1 className="text-[27px] leading-tight">Two trials of {data.before.set_name}</h1>
      <dl className="sheet mt-4 space-y-2 p-4" aria-label="Both trials">
        <Head name="Before" trial={data.before} base={base} />
        <Head name="After" trial={data.after} base={base} />
      </dl>
      <p className="mt-4" role="status">
        <b>{data.won}</b> won, <b>{data.lost}</b> lost, <b>{data.changed}</b> changed,{" "}
        <b>{data.same}</b> the same.{" "}
        {data.won + data.lost > 0 && (
          <span className="soft">
            {data.probability > 0.05
              ? "The difference may be chance"
              : "The difference is hardly chance"}{" "}
            (sign test, p = {data.probability.toFixed(3)}).
          </span>
        )}
      </p>
      {data.same > 0 && (
        <CheckBox className="mt-3" checked={all} onChange={setAll}>
          Show answers that are the same
        </CheckBox>
      )}
      <ul className="sheet divide-base-300 mt-3 divide-y" aria-label="Answers">
        {shown.map((one) => (
          <li key={one.question_id} className="px-4 py-3">
            <p className="flex flex-wrap items-baseline gap-x-4">
              <b className={`w-18 ${CHANGES[one.change]}`}>{one.change}</b>
              <span className="flex-1 font-serif text-[16px]">{one.question}</span>
            </p>
            <div className="mt-1.5 grid gap-4 min-[800px]:grid-cols-2">
              <Side result={one.before} answers={`/t/${team.slug}/answers`} />
              <Side result={one.after} answers={`/t/${team.slug}/answers`} />
            </div>
          </li>
        ))}
        {shown.length === 0 && <li className="soft p-5">Every answer is the same.</li>}
      </ul>
    </>
  );
}

function Head({ name, trial, base }: { name: string; trial: Trial; base: string }) {
  return (
    <div className="flex flex-wrap items-center gap-x-4">
      <dt className="soft w-14">{name}</dt>
      <dd className="flex-1">
        <Link className="link-hover font-medium" to={`${base}/${trial.id}`}>
          {trial.label}
        </Link>
      </dd>
      <dd className="tabular-nums">{shareText(trial.figures.right)} right</dd>
      <dd>
        <Interval share={trial.figures.right} />
      </dd>
    </div>
  );
}

function Side({ result, answers }: { result: Compared["before"]; answers: string }) {
  return (
    <div className="border-base-300 border-l-2 pl-3 text-[13px]">
      <p className="flex items-baseline gap-4">
        <ResultWord result={result.result} />
        {result.answer_id && (
          <Link className="link soft ml-auto" to={`${answers}/${result.answer_id}`}>
            Record
          </Link>
        )}
      </p>
      {result.reason && <p>{result.reason}</p>}
      <p className="soft line-clamp-4 whitespace-pre-line">{result.text}</p>
    </div>
  );
}
