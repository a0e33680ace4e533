import { type FormEvent, useState } from "react";
import { Link, useParams } from "react-router";
import { Missing } from "../../App";
import { type Schemas, send } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { Ago, Failure, percent, place } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { AddToSet } from "../answers/AddToSet";
import { Assignee, kinds, RESOLUTIONS, SUGGESTIONS, Weeks } from "./parts";

type Detail = Schemas["GapDetail"];

/** One gap: its questions, what came nearest, and what is done about it. */
export function GapPage() {
  const team = useTeam();
  const { gap: id = "" } = useParams();
  const api = `${team.api}/gaps/${id}`;
  const { data: gap, error, setData } = useResource<Detail>(api, { idle: IDLE });
  const [failure, setFailure] = useState<string | null>(null);
  if (error) return <Missing />;
  if (!gap) return null;
  const act = (method: string, path: string, body?: unknown) =>
    send<Detail>(method, `${api}${path}`, body)
      .then((changed) => {
        setFailure(null);
        if (changed.id === gap.id) setData(changed);
      })
      .catch((problem: Error) => setFailure(problem.message));
  return (
    <>
      <p className="mb-3">
        <Link className="link-hover soft" to={`/t/${team.slug}/gaps/questions`}>
          All gaps
        </Link>
      </p>
      <h2 className="text-[22px]">{gap.question}</h2>
      <p className="soft mt-1 flex flex-wrap items-center gap-x-5">
        <span>
          asked {gap.count} {gap.count === 1 ? "time" : "times"}: {kinds(gap)}
        </span>
        <Weeks weeks={gap.weeks} />
        <span>{gap.desks.map((one) => `${one.name} (${one.count})`).join(", ")}</span>
      </p>
      <Failure message={failure} />
      {gap.answer && <Answered gap={gap} />}
      <Closing gap={gap} onChange={(change) => void act("PATCH", "", change)} />
      <Questions
        gap={gap}
        onTakeOut={(answer) => void act("POST", `/questions/${answer}/take-out`)}
      />
      <AddToSet
        questions={{ gaps: [gap.id] }}
        hint={
          gap.answer
            ? "The citations of its answer are what is expected."
            : "Say in the set what is expected."
        }
      />
      <Nearest gap={gap} />
      <Remarks gap={gap} onAdd={(text) => act("POST", "/comments", { text })} />
    </>
  );
}

/** What would close it, and how it was closed. */
function Closing({
  gap,
  onChange,
}: {
  gap: Detail;
  onChange: (change: Schemas["GapChange"]) => void;
}) {
  const team = useTeam();
  const kbs = useResource<Schemas["Page_KbOut_"]>(`${team.api}/kbs`);
  const [resolution, setResolution] = useState("not_needed");
  const kb = gap.passages[0]?.kb_id ?? kbs.data?.items[0]?.id;
  return (
    <section className="sheet mt-4 p-4" aria-label="What to do">
      {gap.state === "open" ? (
        <>
          <p>
            {SUGGESTIONS[gap.suggestion]} When documents change, it is asked again automatically.
          </p>
          <p className="mt-2.5 flex flex-wrap gap-2.5">
            {kb && (
              <>
                <Link
                  className="btn btn-primary btn-sm"
                  to={`/t/${team.slug}/kbs/${kb}/approved/new?question=${encodeURIComponent(gap.question)}`}
                >
                  Approve an answer
                </Link>
                <Link className="btn btn-sm" to={`/t/${team.slug}/kbs/${kb}/write`}>
                  Write a document
                </Link>
                <Link className="btn btn-sm" to={`/t/${team.slug}/kbs/${kb}/sources`}>
                  Connect a source
                </Link>
              </>
            )}
          </p>
          <div className="mt-3 flex flex-wrap items-center gap-x-6 gap-y-2.5">
            <Assignee value={gap.assignee} onChange={(assignee) => onChange({ assignee })} />
            <span className="flex items-center gap-2">
              <select
                className="select select-sm w-auto"
                aria-label="How it is resolved"
                value={resolution}
                onChange={(event) => setResolution(event.target.value)}
              >
                {Object.entries(RESOLUTIONS)
                  .filter(([name]) => name !== "answered")
                  .map(([name, text]) => (
                    <option key={name} value={name}>
                      {text}
                    </option>
                  ))}
              </select>
              <button
                type="button"
                className="btn btn-sm"
                onClick={() =>
                  onChange({
                    state: "resolved",
                    resolution: resolution as Detail["resolution"],
                  })
                }
              >
                Resolve
              </button>
            </span>
          </div>
        </>
      ) : (
        <p className="flex flex-wrap items-center gap-4">
          <span role="status">
            Resolved: {gap.resolution && RESOLUTIONS[gap.resolution]}
            {gap.resolved_by && `, by ${gap.resolved_by}`}
          </span>
          <button type="button" className="btn btn-sm" onClick={() => onChange({ state: "open" })}>
            Open again
          </button>
        </p>
      )}
    </section>
  );
}

function Answered({ gap }: { gap: Detail }) {
  const team = useTeam();
  const answer = gap.answer!;
  return (
    <section className="border-success mt-4 border-l-2 pl-4" aria-label="The answer by now">
      <p className="max-w-[75ch] font-serif whitespace-pre-line">{answer.text}</p>
      <ul className="soft mt-1 text-[13px]">
        {answer.citations.map((one) => (
          <li key={`${one.document_id} ${one.start}`}>
            <Link
              className="link"
              to={`/t/${team.slug}/kbs/${one.kb_id}/documents/${one.document_id}?revision=${one.revision_id}&from=${one.start}&to=${one.end}`}
            >
              {one.title}
            </Link>
            : “{one.quote}”
          </li>
        ))}
      </ul>
    </section>
  );
}

function Questions({ gap, onTakeOut }: { gap: Detail; onTakeOut: (answer: string) => void }) {
  const team = useTeam();
  return (
    <section className="mt-6" aria-label="Its questions">
      <h2 className="mb-2 text-[19px]">Questions</h2>
      <ul className="sheet divide-base-300 divide-y">
        {gap.questions.map((one) => (
          <li key={one.answer_id} className="flex flex-wrap items-baseline gap-x-4 px-4 py-2.5">
            <Link
              className="link-hover flex-1 font-serif text-[16px]"
              to={`/t/${team.slug}/answers/${one.answer_id}`}
            >
              {one.question}
            </Link>
            <span className="soft flex gap-4 text-[13px]">
              <span>{one.kind}</span>
              <span title="How likely the evidence was enough">{percent(one.sufficiency)}</span>
              {one.asker && <span>{one.asker}</span>}
              <Ago at={one.asked_at} />
              {gap.questions.length > 1 && (
                <button
                  type="button"
                  className="link cursor-pointer"
                  title="It asks for something else"
                  onClick={() => onTakeOut(one.answer_id)}
                >
                  Take out
                </button>
              )}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Nearest({ gap }: { gap: Detail }) {
  const team = useTeam();
  if (gap.passages.length === 0) return null;
  return (
    <section className="mt-6" aria-label="Nearest passages">
      <h2 className="mb-2 text-[19px]">Nearest passages</h2>
      <ul className="sheet divide-base-300 divide-y">
        {gap.passages.map((one, index) => (
          <li key={index} className="px-4 py-2.5">
            <p className="flex gap-4">
              <Link
                className="link-hover font-medium"
                to={`/t/${team.slug}/kbs/${one.kb_id}/documents/${one.document_id}`}
              >
                {one.title}
              </Link>
              <span className="soft">{place(one.title, one.locator)}</span>
              <span className="soft ml-auto tabular-nums">{percent(one.match)}</span>
            </p>
            <p className="soft line-clamp-2 text-[13px]">{one.text}</p>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Remarks({ gap, onAdd }: { gap: Detail; onAdd: (text: string) => Promise<unknown> }) {
  const [text, setText] = useState("");
  const add = (event: FormEvent) => {
    event.preventDefault();
    void onAdd(text).then(() => setText(""));
  };
  return (
    <section className="mt-6" aria-label="Comments">
      <h2 className="mb-2 text-[19px]">Comments</h2>
      {gap.remarks.map((one, index) => (
        <p key={index} className="mb-2">
          <b className="font-medium">{one.author}</b>{" "}
          <span className="soft text-[13px]">
            <Ago at={one.at} />
          </span>
          <br />
          {one.text}
        </p>
      ))}
      <form className="flex flex-wrap gap-2.5" onSubmit={add}>
        <input
          className="input w-full max-w-130"
          aria-label="Comment"
          placeholder="Add a comment"
          required
          maxLength={4000}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <button type="submit" className="btn">
          Add
        </button>
      </form>
    </section>
  );
}
