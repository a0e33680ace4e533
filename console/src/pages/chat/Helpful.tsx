import { type FormEvent, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { REASONS } from "../desks/words";

type Given = Schemas["FeedbackOut"];

/** Whether an answer helped, and if not, why. */
export function Helpful({
  api,
  headers,
  turn,
  given,
}: {
  api: string;
  headers?: Record<string, string>;
  turn: string;
  given?: Given;
}) {
  const [feedback, setFeedback] = useState<Given | null>(given ?? null);
  const [asking, setAsking] = useState(false);
  const [reason, setReason] = useState<string>("wrong");
  const [comment, setComment] = useState("");
  const [failed, setFailed] = useState<string | null>(null);
  const say = (body: Schemas["FeedbackIn"]) =>
    send<Given>("PUT", `${api}/turns/${turn}/feedback`, body, headers)
      .then((kept) => {
        setFeedback(kept);
        setFailed(null);
      })
      .catch((problem: Error) => setFailed(problem.message));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    setAsking(false);
    void say({
      helpful: false,
      citation: 0,
      reason: reason as Schemas["FeedbackIn"]["reason"],
      comment,
    });
  };
  const button = (helpful: boolean, label: string) => (
    <button
      type="button"
      aria-pressed={feedback?.helpful === helpful}
      className={`cursor-pointer ${feedback?.helpful === helpful ? "text-primary font-semibold" : "link-hover"}`}
      onClick={() => {
        setAsking(!helpful);
        void say({ helpful, citation: 0, reason: "", comment: "" });
      }}
    >
      {label}
    </button>
  );
  return (
    <>
      <span className="flex gap-3.5" role="group" aria-label="Did this help?">
        {button(true, "Helpful")}
        {button(false, "Not helpful")}
      </span>
      {feedback && !asking && <span role="status">Thank you.</span>}
      {feedback?.reply && (
        <span className="border-primary basis-full border-l-2 pl-3">
          {feedback.replied_by}: {feedback.reply}
        </span>
      )}
      {failed && <span className="text-error">{failed}</span>}
      {asking && (
        <form className="mt-1.5 flex basis-full flex-wrap gap-2" onSubmit={submit}>
          <select
            className="select select-sm w-auto"
            aria-label="Why"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          >
            {REASONS.map(([value, label]) => (
              <option key={value} value={value}>
                {label}
              </option>
            ))}
          </select>
          <input
            className="input input-sm min-w-40 flex-1"
            placeholder="What should the answer have been?"
            aria-label="Comment"
            maxLength={2000}
            value={comment}
            onChange={(e) => setComment(e.target.value)}
          />
          <button type="submit" className="btn btn-sm">
            Send
          </button>
        </form>
      )}
    </>
  );
}
