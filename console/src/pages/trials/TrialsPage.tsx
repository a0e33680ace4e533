import { type FormEvent, useState } from "react";
import { Link, useNavigate } from "react-router";
import { type Schemas, send } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { CreateByName } from "../../components/forms";
import { Ago, count, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { isOpen, TrialTable } from "./parts";

type Set = Schemas["SetOut"];

const SCHEDULES: Record<Set["schedule"], string> = {
  never: "",
  nightly: "asked each night",
  after_sync: "asked after each sync",
};

/** The team's question sets, and the trials of them. */
export function TrialsPage() {
  const team = useTeam();
  const navigate = useNavigate();
  const base = `/t/${team.slug}/trials`;
  const sets = useResource<Schemas["Page_SetOut_"]>(`${team.api}/sets`);
  const trials = useResource<Schemas["Page_TrialOut_"]>(`${team.api}/trials`, {
    busy: (page) => page.items.some(isOpen),
    idle: IDLE,
  });
  const [name, setName] = useState("");
  const [error, setError] = useState<string | null>(null);
  const create = (event: FormEvent) => {
    event.preventDefault();
    send<Set>("POST", `${team.api}/sets`, { name })
      .then((made) => navigate(`${base}/sets/${made.slug}`))
      .catch((problem: Error) => setError(problem.message));
  };
  const items = sets.data?.items ?? [];
  return (
    <>
      <h1 className="text-[27px] leading-tight">Trials</h1>
      <p className="soft mt-1 max-w-[75ch]">
        A question set has questions and what their answers should be. A trial asks them all, of a
        desk or a knowledge base, and counts what is right, before any chat user asks.
      </p>
      <Failure message={error ?? sets.error ?? trials.error} />
      <section className="mt-6" aria-label="Question sets">
        <h2 className="mb-2 text-[19px]">Question sets</h2>
        {sets.data && items.length === 0 ? (
          <p className="sheet soft p-5">
            No question sets yet. Create one, and add questions by hand, from a file, or from
            answers that were given.
          </p>
        ) : (
          <ul className="sheet divide-base-300 divide-y">
            {items.map((one) => (
              <li key={one.id} className="flex flex-wrap items-baseline gap-x-5 px-4 py-3">
                <Link className="link-hover font-medium" to={`${base}/sets/${one.slug}`}>
                  {one.name}
                </Link>
                <span className="soft">{one.about}</span>
                <span className="soft ml-auto flex gap-5">
                  {SCHEDULES[one.schedule] && <span>{SCHEDULES[one.schedule]}</span>}
                  <span>{count(one.questions)} questions</span>
                  <Ago at={one.changed_at} />
                </span>
              </li>
            ))}
          </ul>
        )}
        <CreateByName what="question set" name={name} onName={setName} onCreate={create} />
      </section>
      <section className="mt-8" aria-label="All trials">
        <div className="mb-2 flex items-baseline gap-4">
          <h2 className="text-[19px]">Trials</h2>
          {items.some((one) => one.questions > 0) && (
            <Link className="btn btn-primary btn-sm ml-auto" to={`${base}/new`}>
              New trial
            </Link>
          )}
        </div>
        {trials.data?.items.length === 0 ? (
          <p className="sheet soft p-5">No trials yet.</p>
        ) : (
          trials.data && <TrialTable trials={trials.data.items} base={base} />
        )}
      </section>
    </>
  );
}
