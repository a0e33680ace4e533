import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { CheckBox } from "../../components/forms";
import { Ago, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { useDesk } from "./DeskPage";
import { asker, OUTCOMES, REASONS } from "./words";

/** The questions of the desk, with feedback. */
export function AnswersTab() {
  const team = useTeam();
  const { api } = useDesk();
  const [outcome, setOutcome] = useState("");
  const [unhelpful, setUnhelpful] = useState(false);
  const [text, setText] = useState("");
  const query = new URLSearchParams({
    ...(outcome && { outcome }),
    ...(unhelpful && { helpful: "false" }),
    ...(text && { text }),
  });
  const { data, error } = useResource<Schemas["Page_AnswerSummary_"]>(`${api}/answers?${query}`);
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <input
          className="input w-64"
          type="search"
          placeholder="Find in questions and answers"
          aria-label="Find in questions and answers"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <select
          className="select w-auto"
          aria-label="Outcome"
          value={outcome}
          onChange={(e) => setOutcome(e.target.value)}
        >
          <option value="">any outcome</option>
          {Object.entries(OUTCOMES).map(([value, label]) => (
            <option key={value} value={value}>
              {label}
            </option>
          ))}
        </select>
        <CheckBox checked={unhelpful} onChange={setUnhelpful}>
          marked unhelpful
        </CheckBox>
      </div>
      <Failure message={error} />
      <ul className="sheet divide-base-300 divide-y">
        {data?.items.map((row) => (
          <li key={row.id} className="px-4 py-3">
            <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1">
              <Link
                className="link-hover font-serif text-[16px]"
                to={`/t/${team.slug}/answers/${row.id}`}
              >
                {row.question}
              </Link>
              <span className="soft ml-auto flex gap-4 text-[13px]">
                <span>
                  {row.state === "done" ? OUTCOMES[row.outcome] : row.state.replace("_", " ")}
                </span>
                {row.weak > 0 && <span className="text-warning">{row.weak} to doubt</span>}
                <span>{row.composer}</span>
                <span>{row.desk_version == null ? "draft" : `version ${row.desk_version}`}</span>
                <span>{asker(row.asker)}</span>
                <Ago at={row.created_at} />
              </span>
            </div>
            {row.feedback.map((given) => (
              <p key={given.citation} className="mt-1 flex gap-2 text-[13px]">
                <span
                  className={`mt-1 inline-block size-2 shrink-0 rounded-full ${given.helpful ? "bg-success" : "bg-error"}`}
                  aria-hidden
                />
                {given.helpful ? "helpful" : "not helpful"}
                {given.citation > 0 && ` (citation ${given.citation})`}
                {given.reason &&
                  `: ${REASONS.find(([reason]) => reason === given.reason)?.[1].toLowerCase()}`}
                {given.comment && <span className="font-serif">“{given.comment}”</span>}
              </p>
            ))}
          </li>
        ))}
        {data?.items.length === 0 && (
          <li className="soft p-5">
            No questions match. Questions appear as soon as they are asked.
          </li>
        )}
      </ul>
    </>
  );
}
