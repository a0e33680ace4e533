import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { percent } from "../../components/text";

type Proposal = Schemas["ProposalOut"];

/** A proposed question at the margin: chosen, edited, approved or dismissed. */
export function ProposalNote({
  proposal,
  chosen,
  onChoose,
  onLight,
  onDecide,
  onChange,
  approved,
}: {
  proposal: Proposal;
  chosen: boolean;
  onChoose: () => void;
  onLight: (on: boolean) => void;
  onDecide: (decision: Schemas["ProposalsDecision"]["decision"]) => void;
  onChange: (change: Schemas["ProposalChange"]) => Promise<unknown>;
  /** The page of the approved answer that was made of it. */
  approved: string;
}) {
  const [editing, setEditing] = useState(false);
  const [question, setQuestion] = useState(proposal.question);
  const [answer, setAnswer] = useState(proposal.answer);
  const save = (event: FormEvent) => {
    event.preventDefault();
    void onChange({ question, answer }).then(() => setEditing(false));
  };
  const link = "link soft cursor-pointer";
  if (editing)
    return (
      <li>
        <form
          className="border-primary space-y-2 border-l-2 pl-3"
          aria-label="Proposed question"
          onSubmit={save}
        >
          <input
            className="input input-sm w-full"
            aria-label="Question"
            required
            minLength={3}
            maxLength={500}
            value={question}
            onChange={(event) => setQuestion(event.target.value)}
          />
          <textarea
            className="textarea w-full text-[13px]"
            aria-label="Answer"
            rows={4}
            required
            maxLength={20_000}
            value={answer}
            onChange={(event) => setAnswer(event.target.value)}
          />
          <button type="submit" className="btn btn-primary btn-sm">
            Save
          </button>{" "}
          <button type="button" className="btn btn-sm" onClick={() => setEditing(false)}>
            Cancel
          </button>
        </form>
      </li>
    );
  return (
    <li
      className={`border-l-2 pl-3 ${
        proposal.state === "approved"
          ? "border-success"
          : proposal.state === "dismissed"
            ? "border-base-300 opacity-60"
            : "border-primary"
      }`}
      onMouseEnter={() => onLight(true)}
      onMouseLeave={() => onLight(false)}
    >
      {proposal.state === "open" ? (
        <label className="flex items-baseline gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-xs translate-y-0.5"
            checked={chosen}
            onChange={onChoose}
            onFocus={() => onLight(true)}
            onBlur={() => onLight(false)}
          />
          <span>{proposal.question}</span>
        </label>
      ) : (
        <p>{proposal.question}</p>
      )}
      <p className="soft flex flex-wrap gap-x-3 text-[12.5px]">
        {proposal.state === "approved" ? (
          <Link className="link" to={approved}>
            approved by {proposal.decided_by}
          </Link>
        ) : proposal.state === "dismissed" ? (
          <>
            <span>dismissed by {proposal.decided_by}</span>
            <button type="button" className={link} onClick={() => onDecide("open")}>
              Take back
            </button>
          </>
        ) : (
          <>
            <span title="How likely its text answers it">{percent(proposal.relevance)}</span>
            <button type="button" className={link} onClick={() => onDecide("approve")}>
              Approve
            </button>
            <button type="button" className={link} onClick={() => setEditing(true)}>
              Edit
            </button>
            <button type="button" className={link} onClick={() => onDecide("dismiss")}>
              Dismiss
            </button>
          </>
        )}
      </p>
    </li>
  );
}
