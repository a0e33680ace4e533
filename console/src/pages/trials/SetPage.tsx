import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type Schemas, send } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { FileTransfer } from "../../components/FileTransfer";
import { Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { isOpen, TrialTable } from "./parts";
import { type Question, QuestionForm, type QuestionValues } from "./QuestionForm";

type Set = Schemas["SetOut"];

/** A question set: its questions, its schedule and its trials. */
export function SetPage() {
  const { set: slug = "" } = useParams();
  const team = useTeam();
  const navigate = useNavigate();
  const base = `/t/${team.slug}/trials`;
  const api = `${team.api}/sets/${slug}`;
  const { data: set, error, reload } = useResource<Set>(api);
  const questions = useResource<Schemas["Page_SetQuestionOut_"]>(`${api}/questions?limit=1000`);
  const trials = useResource<Schemas["Page_TrialOut_"]>(`${team.api}/trials?question_set=${slug}`, {
    busy: (page) => page.items.some(isOpen),
    idle: IDLE,
  });
  const desks = useResource<Schemas["Page_DeskOut_"]>(`${team.api}/desks`);
  const [failure, setFailure] = useState<string | null>(null);
  // The page waits until everything is loaded: a late part would move the others.
  if (!set || !questions.data || !desks.data)
    return <Failure message={error ?? questions.error ?? desks.error} />;
  const changed = () => {
    reload();
    questions.reload();
  };
  const act = (work: Promise<unknown>) =>
    work
      .then(() => {
        setFailure(null);
        changed();
      })
      .catch((problem: Error) => setFailure(problem.message));
  return (
    <>
      <p className="mb-3">
        <Link className="link-hover soft" to={base}>
          Trials
        </Link>
      </p>
      <div className="flex flex-wrap items-baseline gap-x-5 gap-y-2">
        <h1 className="text-[27px] leading-tight">{set.name}</h1>
        <span className="soft">{set.about}</span>
        <span className="ml-auto flex gap-2.5">
          {set.questions > 0 && (
            <Link className="btn btn-primary btn-sm" to={`${base}/new?set=${set.slug}`}>
              Run a trial
            </Link>
          )}
          <button
            type="button"
            className="btn btn-sm"
            onClick={() =>
              confirm(`Delete ${set.name} with its questions and trials?`) &&
              void act(send("DELETE", api).then(() => navigate(base)))
            }
          >
            Delete
          </button>
        </span>
      </div>
      <Failure message={failure ?? error} />
      <Schedule
        set={set}
        desks={desks.data.items}
        onChange={(change) => void act(send("PATCH", api, change))}
      />
      <Questions
        items={questions.data.items}
        onSave={(question, values) =>
          act(
            question
              ? send("PUT", `${api}/questions/${question.id}`, values)
              : send("POST", `${api}/questions`, { questions: [values] }),
          )
        }
        onRemove={(question) => void act(send("DELETE", `${api}/questions/${question.id}`))}
      />
      <Collect onCollect={(body) => void act(send("POST", `${api}/collect`, body))} />
      {trials.data && trials.data.items.length > 0 && (
        <section className="mt-8" aria-label="Trials of this set">
          <h2 className="mb-2 text-[19px]">Trials</h2>
          <TrialTable trials={trials.data.items} base={base} />
        </section>
      )}
      <FileTransfer<Schemas["SetImport"]>
        base={api}
        what="questions"
        hint="Questions are added at the end."
        mayEdit
        total={set.questions}
        onImported={changed}
        summary={(done) => `${done.added} questions added.`}
      />
    </>
  );
}

/** When the set is asked of a desk without anybody starting it. */
function Schedule({
  set,
  desks,
  onChange,
}: {
  set: Set;
  desks: Schemas["DeskOut"][];
  onChange: (change: Schemas["SetChange"]) => void;
}) {
  const published = desks.filter((desk) => desk.published);
  if (published.length === 0) return null;
  const desk = set.desk_id ?? published[0]!.id;
  return (
    <p className="mt-4 flex flex-wrap items-center gap-2.5">
      <label className="flex items-center gap-2.5">
        Asked automatically
        <select
          className="select select-sm w-auto"
          value={set.schedule}
          onChange={(event) => onChange({ desk, schedule: event.target.value as Set["schedule"] })}
        >
          <option value="never">never</option>
          <option value="nightly">each night</option>
          <option value="after_sync">after a source changed documents</option>
        </select>
      </label>
      {set.schedule !== "never" && (
        <label className="flex items-center gap-2.5">
          of the desk
          <select
            className="select select-sm w-auto"
            value={desk}
            onChange={(event) => onChange({ desk: event.target.value })}
          >
            {published.map((one) => (
              <option key={one.id} value={one.id}>
                {one.name}
              </option>
            ))}
          </select>
        </label>
      )}
    </p>
  );
}

function Questions({
  items,
  onSave,
  onRemove,
}: {
  items: Question[];
  onSave: (question: Question | null, values: QuestionValues) => Promise<unknown>;
  onRemove: (question: Question) => void;
}) {
  const [open, setOpen] = useState<string | null>(null);
  const save = (question: Question | null) => (values: QuestionValues) =>
    void onSave(question, values).then(() => setOpen(null));
  const form = (question: Question | null) => (
    <QuestionForm question={question} onSave={save(question)} onCancel={() => setOpen(null)} />
  );
  return (
    <section className="mt-5" aria-label="Questions">
      <div className="mb-2 flex items-baseline">
        <h2 className="text-[19px]">Questions</h2>
        <button
          type="button"
          className="btn btn-sm ml-auto"
          onClick={() => setOpen(open === "new" ? null : "new")}
        >
          Add a question
        </button>
      </div>
      {open === "new" && <div className="sheet mb-4">{form(null)}</div>}
      {items.length === 0 ? (
        <p className="sheet soft p-5">
          No questions yet. Add them by hand, import a file, or take over what was asked.
        </p>
      ) : (
        <ol className="sheet divide-base-300 divide-y">
          {items.map((one) => (
            <li key={one.id}>
              {open === one.id ? (
                form(one)
              ) : (
                <div className="flex flex-wrap items-baseline gap-x-4 px-4 py-2.5">
                  <div className="min-w-60 flex-1">
                    {(one.history ?? []).map((earlier) => (
                      <p key={earlier} className="soft text-[13px]">
                        after: {earlier}
                      </p>
                    ))}
                    <p className="font-serif text-[16px]">{one.question}</p>
                    <p className="soft text-[13px]">{expected(one)}</p>
                  </div>
                  <span className="soft text-[13px]">{one.kind}</span>
                  <button
                    type="button"
                    className="link soft cursor-pointer"
                    onClick={() => setOpen(one.id)}
                  >
                    Edit
                  </button>
                  <button
                    type="button"
                    className="link soft cursor-pointer"
                    onClick={() => onRemove(one)}
                  >
                    Remove
                  </button>
                </div>
              )}
            </li>
          ))}
        </ol>
      )}
    </section>
  );
}

/** What is expected of an answer, in a line. */
function expected(one: Question): string {
  if (one.must_decline) return "must be declined";
  const quoted = (texts: string[]) => texts.map((text) => `“${text}”`).join(" and ");
  const parts = [];
  if (one.contains?.length) parts.push(`contains ${quoted(one.contains)}`);
  if (one.documents?.length) parts.push(`cites ${one.documents.join(" or ")}`);
  if (one.quotes?.length)
    parts.push(
      one.quotes.length === 1 ? "cites a quote" : `cites one of ${one.quotes.length} quotes`,
    );
  return parts.join(", ") || "not judged";
}

/** Takes over the approved or the proposed questions of a knowledge base. */
function Collect({ onCollect }: { onCollect: (body: Schemas["SetCollectIn"]) => void }) {
  const team = useTeam();
  const kbs = useResource<Schemas["Page_KbOut_"]>(`${team.api}/kbs`);
  const [kb, setKb] = useState("");
  const [kind, setKind] = useState<"approved_of" | "proposed_of">("approved_of");
  const items = kbs.data?.items ?? [];
  if (items.length === 0) return null;
  const chosen = kb || items[0]!.slug;
  return (
    <p className="mt-3 flex flex-wrap items-center gap-2.5">
      <label className="flex items-center gap-2.5">
        Take over the
        <select
          className="select select-sm w-auto"
          value={kind}
          onChange={(event) => setKind(event.target.value as typeof kind)}
        >
          <option value="approved_of">approved questions</option>
          <option value="proposed_of">proposed questions</option>
        </select>
      </label>
      <label className="flex items-center gap-2.5">
        of
        <select
          className="select select-sm w-auto"
          value={chosen}
          onChange={(event) => setKb(event.target.value)}
        >
          {items.map((one) => (
            <option key={one.id} value={one.slug}>
              {one.name}
            </option>
          ))}
        </select>
      </label>
      <button
        type="button"
        className="btn btn-sm"
        onClick={() => onCollect({ answers: [], gaps: [], [kind]: chosen, phrasings: true })}
      >
        Take over
      </button>
      <span className="soft">
        Answers that were given, and gaps, are taken over on their own pages.
      </span>
    </p>
  );
}
