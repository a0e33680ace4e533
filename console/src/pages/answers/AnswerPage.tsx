import { useState } from "react";
import { Link, useParams } from "react-router";
import { Missing } from "../../App";
import { keep, type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { AnswerView } from "../../components/AnswerView";
import { Ago, Failure, percent, place } from "../../components/text";
import { ofTurn } from "../../hooks/useAsking";
import { useTeam } from "../../hooks/useSession";
import { asker, REASONS } from "../desks/words";
import { AddToSet } from "./AddToSet";

type Answer = Schemas["RecordOut"];

/** How an answer was made, from the question to each checked statement. */
export function AnswerPage() {
  const team = useTeam();
  const { answer: id = "" } = useParams();
  const { data: record, error } = useResource<Answer>(`${team.api}/answers/${id}`);
  if (error) return <Missing />;
  if (!record) return null;
  const pathOf = (cited: { kb_id?: string }) =>
    cited.kb_id ? `/t/${team.slug}/kbs/${cited.kb_id}` : null;
  return (
    <>
      <h1 className="sr-only">The record of an answer</h1>
      <p className="soft">
        {record.desk_id ? (
          <Link className="link-hover" to={`/t/${team.slug}/desks/${record.desk_id}/answers`}>
            Answers of the desk
          </Link>
        ) : (
          "Asked in a knowledge base directly"
        )}
        {record.desk_id &&
          ` · ${record.desk_version == null ? "draft" : `version ${record.desk_version}`}`}{" "}
        · {asker(record.asker)} · <Ago at={record.created_at} />
      </p>
      <AnswerView
        turn={ofTurn(record)}
        pathOf={pathOf}
        live={false}
        approve={() => {
          const kb = record.citations[0]?.kb_id || Object.keys(record.editions ?? {})[0];
          return team.mayEdit && kb
            ? `/t/${team.slug}/kbs/${kb}/approved/new?answer=${record.id}`
            : null;
        }}
      />
      {record.changed_since.length > 0 && (
        <p className="border-warning mt-4 border-l-2 pl-3" role="status">
          This answer cites text that has changed since:{" "}
          {record.changed_since
            .map((item) => `${item.title} (citation ${item.citation}, ${item.state})`)
            .join("; ")}
          . Ask again to see what it says now.
        </p>
      )}
      {record.feedback?.map((given) => (
        <p key={given.citation} className="sheet mt-4 max-w-165 p-3">
          {given.helpful ? "Marked helpful" : "Marked unhelpful"}
          {given.citation > 0 && `, citation ${given.citation}`}
          {given.reason && `: ${REASONS.find(([reason]) => reason === given.reason)?.[1]}`}
          {given.comment && <span className="mt-1 block font-serif">“{given.comment}”</span>}
        </p>
      ))}
      <Again api={team.api} id={record.id} />
      {record.state === "done" && <Receipt api={team.api} id={record.id} />}
      {team.mayEdit && (
        <AddToSet
          questions={{ answers: [record.id] }}
          hint={
            record.outcome === "declined"
              ? "It will have to be declined."
              : "Its citations are what is expected."
          }
        />
      )}
      <TimeLine record={record} />
      <Passages record={record} team={team.slug} />
      <Sent record={record} />
    </>
  );
}

/** The answer as a signed document, which can be verified without the service. */
function Receipt({ api, id }: { api: string; id: string }) {
  const [error, setError] = useState<string | null>(null);
  const save = () =>
    keep(`${api}/answers/${id}/receipt`, `receipt-${id}.json`).catch((problem: Error) =>
      setError(problem.message),
    );
  return (
    <p className="mt-4 flex flex-wrap items-center gap-3">
      <button type="button" className="btn btn-sm" onClick={() => void save()}>
        Download receipt
      </button>
      <span className="soft text-[14px]">
        A signed record of the question, the answer, and the exact texts it cites.
      </span>
      <Failure message={error} />
    </p>
  );
}

/** Each step: a bar on the time line, and its details. */
function TimeLine({ record }: { record: Answer }) {
  const whole = Math.max(
    record.seconds.total ?? 0,
    ...record.steps.map((step) => step.began + step.seconds),
    0.001,
  );
  const share = (seconds: number) => `${(100 * seconds) / whole}%`;
  return (
    <section className="mt-8" aria-label="Steps">
      <h2 className="mb-2 text-[19px]">
        How this answer was made{" "}
        <span className="soft font-sans text-[14.500px] font-normal">
          {(whole * 1000).toFixed(0)} ms in total
        </span>
      </h2>
      {record.record_deleted_at && (
        <p className="soft">
          The steps were deleted on {new Date(record.record_deleted_at).toLocaleDateString()}, as
          the team keeps records for a limited time.
        </p>
      )}
      <ol className="sheet divide-base-300 divide-y">
        {record.steps.map((step, index) => (
          <li
            key={index}
            className="grid gap-x-5 gap-y-1 px-4 py-2.5 sm:grid-cols-[11rem_9rem_5rem_1fr]"
          >
            <b className="font-medium">{step.name}</b>
            <span className="bg-base-200 relative mt-1.5 h-2 rounded-full" aria-hidden>
              <span
                className="bg-primary absolute h-2 min-w-0.5 rounded-full"
                style={{ left: share(step.began), width: share(step.seconds) }}
              />
            </span>
            <span className="text-right tabular-nums">
              {(step.seconds * 1000).toFixed(step.seconds < 0.01 ? 1 : 0)} ms
            </span>
            <Details details={step.details} />
          </li>
        ))}
      </ol>
      <p className="soft mt-2 text-[13px]">
        By {record.composer}
        {record.tokens_read > 0 &&
          ` · ${record.tokens_read} tokens read, ${record.tokens_written} written · cost ${record.cost.toFixed(5)}`}{" "}
        · request {record.request_id}
      </p>
    </section>
  );
}

/** The details of a step: plain values on a line, lists below. */
function Details({ details }: { details: Record<string, unknown> }) {
  const plain = Object.entries(details).filter(
    ([, value]) => typeof value !== "object" || value === null,
  );
  const listed = Object.entries(details).filter(
    ([, value]) => Array.isArray(value) && value.length > 0,
  ) as [string, Record<string, unknown>[]][];
  const say = (value: unknown) => (value === true ? "yes" : value === false ? "no" : String(value));
  return (
    <div className="soft min-w-0 text-[13px]">
      {plain.map(([name, value]) => `${name.replaceAll("_", " ")}: ${say(value)}`).join(" · ")}
      {listed.map(([name, items]) => (
        <details key={name}>
          <summary className="cursor-pointer">
            {items.length} {name.replaceAll("_", " ")}
          </summary>
          <ul className="mt-1 space-y-0.5">
            {items.map((item, index) => (
              <li key={index}>
                {Object.entries(item)
                  .filter(([key]) => !key.endsWith("_id"))
                  .map(([key, value]) => `${key}: ${say(value)}`)
                  .join(" · ")}
              </li>
            ))}
          </ul>
        </details>
      ))}
    </div>
  );
}

function Passages({ record, team }: { record: Answer; team: string }) {
  if (record.evidence.length === 0) return null;
  return (
    <section className="mt-8" aria-label="Passages">
      <h2 className="mb-2 text-[19px]">Passages</h2>
      <ul className="sheet divide-base-300 divide-y">
        {record.evidence.map((passage) => (
          <li key={passage.passage_id} className="px-4 py-2.5">
            <div className="flex flex-wrap gap-x-4">
              <span className="w-12 text-right tabular-nums">{percent(passage.match)}</span>
              <Link
                className="link-hover font-medium"
                to={`/t/${team}/kbs/${passage.kb_id}/documents/${passage.document_id}?revision=${passage.revision_id}&from=${passage.start}&to=${passage.end}`}
              >
                {passage.title}
              </Link>
              <span className="soft">{place(passage.title, passage.locator)}</span>
              <span className="soft ml-auto tabular-nums">
                {passage.similarity == null
                  ? "found by keywords"
                  : `cosine ${passage.similarity.toFixed(2)}`}
              </span>
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The exact prompt, the model's text, and the settings. */
function Sent({ record }: { record: Answer }) {
  const parts: [string, string][] = record.prompt.map((message) => [
    `Sent to the model (${message.role})`,
    message.content,
  ]);
  if (record.raw) parts.push(["Written by the model", record.raw]);
  if (record.settings) parts.push(["Desk settings", JSON.stringify(record.settings, null, 2)]);
  return (
    <section className="mt-8 space-y-2" aria-label="Messages">
      {parts.map(([title, text]) => (
        <details key={title} className="sheet">
          <summary className="cursor-pointer px-4 py-2.5 font-medium">{title}</summary>
          <pre className="border-base-300 max-h-120 overflow-auto border-t px-4 py-3 font-mono text-[13px] whitespace-pre-wrap">
            {text}
          </pre>
        </details>
      ))}
    </section>
  );
}

/** The same question asked again, and what differs. */
function Again({ api, id }: { api: string; id: string }) {
  const team = useTeam();
  const [found, setFound] = useState<Schemas["AgainOut"] | null>(null);
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState<string | null>(null);
  if (!team.mayEdit) return null;
  const ask = () => {
    setBusy(true);
    send<Schemas["AgainOut"]>("POST", `${api}/answers/${id}/again`)
      .then((again) => {
        setFound(again);
        setError(null);
      })
      .catch((problem: Error) => setError(problem.message))
      .finally(() => setBusy(false));
  };
  const lists: [string, string[]][] = found
    ? [
        ["No longer cited", found.citations_gone],
        ["Newly cited", found.citations_new],
        ["No longer found", found.evidence_gone],
        ["Newly found", found.evidence_new],
      ]
    : [];
  return (
    <section className="mt-6" aria-label="Asked again">
      <button type="button" className="btn" disabled={busy} onClick={ask}>
        {busy ? "Asking…" : "Ask again now"}
      </button>
      <Failure message={error} />
      {found && (
        <div className="sheet mt-3 p-4">
          {found.same_text && lists.every(([, items]) => items.length === 0) ? (
            "The answer is the same today, from the same passages."
          ) : (
            <>
              {found.same_text && (
                <p className="mb-2">The answer is the same; what it was found in differs.</p>
              )}
              {!found.same_text && (
                <div className="font-serif text-[16px]">
                  {found.lines.map(([sign, line], index) => (
                    <p
                      key={index}
                      className={
                        sign === "-"
                          ? "text-error line-through"
                          : sign === "+"
                            ? "text-success"
                            : ""
                      }
                    >
                      <span className="sr-only">
                        {sign === "-" ? "before: " : sign === "+" ? "now: " : ""}
                      </span>
                      {line}
                    </p>
                  ))}
                </div>
              )}
              {lists
                .filter(([, items]) => items.length > 0)
                .map(([title, items]) => (
                  <div key={title} className="mt-3 text-[13px]">
                    <b className="font-semibold">{title}</b>
                    {items.map((item) => (
                      <p key={item} className="soft">
                        {item}
                      </p>
                    ))}
                  </div>
                ))}
            </>
          )}
        </div>
      )}
    </section>
  );
}
