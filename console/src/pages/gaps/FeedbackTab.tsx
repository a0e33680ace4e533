import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { type Schemas, send } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { CheckBox } from "../../components/forms";
import { Ago, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { REASONS } from "../desks/words";
import { Assignee } from "./parts";

type Item = Schemas["FeedbackItem"];

/** Answers that were marked as unhelpful, and what is done about them. */
export function FeedbackTab() {
  const team = useTeam();
  const [all, setAll] = useState(false);
  const [reason, setReason] = useState("");
  const [failure, setFailure] = useState<string | null>(null);
  const query = new URLSearchParams({
    limit: "100",
    ...(!all && { handled: "false" }),
    ...(reason && { reason }),
  });
  const { data, error, reload } = useResource<Schemas["Page_FeedbackItem_"]>(
    `${team.api}/feedback?${query}`,
    { idle: IDLE },
  );
  const change = (item: Item, body: Schemas["FeedbackChange"]) =>
    send("PATCH", `${team.api}/feedback/${item.id}`, body)
      .then(() => {
        setFailure(null);
        reload();
      })
      .catch((problem: Error) => setFailure(problem.message));
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-4">
        <select
          className="select select-sm w-auto"
          aria-label="Reason"
          value={reason}
          onChange={(event) => setReason(event.target.value)}
        >
          <option value="">any reason</option>
          {REASONS.map(([value, label]) => (
            <option key={value} value={value}>
              {label}
            </option>
          ))}
        </select>
        <CheckBox checked={all} onChange={setAll}>
          also what was handled
        </CheckBox>
      </div>
      <Failure message={failure ?? error} />
      {data?.items.length === 0 ? (
        <p className="sheet soft p-5">
          No feedback waits. Answers that chat users mark as unhelpful appear here.
        </p>
      ) : (
        <ul className="space-y-3" aria-label="Feedback">
          {data?.items.map((item) => (
            <Entry key={item.id} item={item} onChange={(body) => void change(item, body)} />
          ))}
        </ul>
      )}
    </>
  );
}

function Entry({
  item,
  onChange,
}: {
  item: Item;
  onChange: (change: Schemas["FeedbackChange"]) => void;
}) {
  const team = useTeam();
  const [reply, setReply] = useState("");
  const answer = (event: FormEvent) => {
    event.preventDefault();
    onChange({ reply, handled: true });
    setReply("");
  };
  const base = `/t/${team.slug}`;
  return (
    <li className="sheet p-4">
      <p className="flex flex-wrap items-baseline gap-x-4">
        <Link
          className="link-hover font-serif text-[16.5px]"
          to={`${base}/answers/${item.answer_id}`}
        >
          {item.question}
        </Link>
        <span className="soft ml-auto flex gap-4 text-[13px]">
          <span>{item.desk}</span>
          {item.asker && <span>{item.asker}</span>}
          <Ago at={item.created_at} />
        </span>
      </p>
      <p className="soft mt-1 line-clamp-3 max-w-[85ch] text-[13px] whitespace-pre-line">
        {item.text}
      </p>
      <p className="border-error mt-2 border-l-2 pl-3">
        {REASONS.find(([reason]) => reason === item.reason)?.[1] ?? "Not helpful"}
        {item.citation > 0 && ` (citation ${item.citation})`}
        {item.comment && <span className="font-serif"> “{item.comment}”</span>}
      </p>
      {item.reply && (
        <p className="mt-2">
          <b className="font-medium">{item.replied_by}</b>: {item.reply}
        </p>
      )}
      <div className="mt-3 flex flex-wrap items-center gap-x-5 gap-y-2">
        {item.kb_id && (
          <Link
            className="link"
            to={`${base}/kbs/${item.kb_id}/approved/new?answer=${item.answer_id}`}
          >
            Approve a better answer
          </Link>
        )}
        {item.gap_id && (
          <Link className="link" to={`${base}/gaps/questions/${item.gap_id}`}>
            Its gap
          </Link>
        )}
        <Link className="link" to={`${base}/answers/${item.answer_id}`}>
          Record and question sets
        </Link>
        <Assignee value={item.assignee} onChange={(assignee) => onChange({ assignee })} />
        <button
          type="button"
          className="btn btn-sm"
          onClick={() => onChange({ handled: !item.handled })}
        >
          {item.handled ? "Not handled after all" : "Mark as handled"}
        </button>
      </div>
      {!item.reply && (
        <form className="mt-2.5 flex flex-wrap gap-2.5" onSubmit={answer}>
          <input
            className="input input-sm w-full max-w-110"
            aria-label="Reply to the asker"
            placeholder="Reply to the asker"
            required
            maxLength={4000}
            value={reply}
            onChange={(event) => setReply(event.target.value)}
          />
          <button type="submit" className="btn btn-sm">
            Reply
          </button>
        </form>
      )}
    </li>
  );
}
