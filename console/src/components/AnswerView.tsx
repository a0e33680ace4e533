import { type ReactNode, useRef, useState } from "react";
import { Link } from "react-router";
import type { Citation } from "../api/client";
import { type Draft, isDoubtful } from "../hooks/useAsking";
import { AnswerText } from "./AnswerText";
import { type ForReaders, Nearest, NoteSheet, Notes } from "./Notes";
import { place } from "./text";

const WIDE = "(min-width: 900px)";

interface Props extends ForReaders {
  turn: Draft;
  live: boolean;
  /** The path of records of answers, for editors. */
  record?: string;
  /** The page on which an answer is approved, for editors. */
  approve?: (turn: Draft) => string | null;
  /** Asks one of the choices that are offered. */
  onAsk?: (question: string) => void;
  children?: ReactNode;
}

const STATES: Partial<Record<Draft["state"], string>> = {
  stopped: "Stopped before it was finished.",
  interrupted: "The service was stopped before this was finished. Ask again.",
  failed: "This answer failed.",
};

/** A turn: the question, the answer, and its citations as margin notes next to their lines. */
export function AnswerView({
  turn,
  pathOf,
  live,
  onContext,
  record,
  approve,
  onAsk,
  children,
}: Props) {
  const [lit, setLit] = useState<number | null>(null);
  const [opened, setOpened] = useState<Citation | null>(null);
  const text = useRef<HTMLDivElement>(null);
  const light = (number: number | null) => setLit(number);
  const open = (citation: Citation) => {
    light(citation.number);
    if (!matchMedia(WIDE).matches) setOpened(citation);
    else if (onContext) onContext(citation);
  };
  const checked = turn.statements.filter((statement) => statement.verdict !== "none");
  const supported = checked.filter((statement) => statement.verdict === "supported").length;
  const approvePath = approve?.(turn);
  const doubts = turn.statements.filter(isDoubtful);
  return (
    <section
      className="grid gap-x-11 pt-7 min-[900px]:grid-cols-[minmax(0,660px)_minmax(0,1fr)]"
      aria-busy={live}
    >
      <div className="min-w-0">
        <h2 className="text-[21px] leading-snug">{turn.question}</h2>
        {turn.standalone !== turn.question && (
          <p className="soft mt-1">Understood as: {turn.standalone}</p>
        )}
        <div
          ref={text}
          className="set mt-3"
          aria-live="polite"
          data-outcome={turn.outcome ?? "coming"}
        >
          <AnswerText turn={turn} lit={lit} onLight={light} onOpen={open} />
          {live && turn.text === "" && <p className="soft">Searching the documents…</p>}
        </div>
        {!live && STATES[turn.state] && <p className="soft mt-2">{STATES[turn.state]}</p>}
        {turn.approval && <Approval approval={turn.approval} />}
        {turn.note && (
          <p className="border-warning soft mt-3 border-l-2 pl-3" role="note">
            {turn.note}
          </p>
        )}
        {turn.choices.length > 0 && <Choices turn={turn} onAsk={onAsk} />}
        {doubts.length > 0 && <Doubts turn={turn} doubts={doubts} />}
        {turn.links.length > 0 && (
          <p className="mt-3 flex flex-wrap gap-x-5 gap-y-1">
            {turn.links.map((link) => (
              <a
                key={link.url}
                className="link text-primary"
                href={link.url}
                target="_blank"
                rel="noreferrer noopener"
              >
                {link.title}
              </a>
            ))}
          </p>
        )}
        {turn.state === "done" && turn.outcome && turn.outcome !== "small_talk" && (
          <div className="border-base-300 soft mt-4 flex flex-wrap items-center gap-x-5 gap-y-1 border-t pt-2.5 text-[13px]">
            {turn.outcome === "answered" && (
              <>
                {!turn.approval && (
                  <span>
                    {supported} of {checked.length}{" "}
                    {checked.length === 1 ? "statement is" : "statements are"} supported by the
                    cited passages
                  </span>
                )}
                <CopyButton turn={turn} />
              </>
            )}
            {record && turn.id && (
              <Link className="link-hover" to={`${record}/${turn.id}`}>
                How this answer was made
              </Link>
            )}
            {approvePath && !turn.approval && (
              <Link className="link-hover" to={approvePath}>
                Approve this answer
              </Link>
            )}
            {children}
          </div>
        )}
      </div>
      {turn.outcome === "declined" ? (
        <Nearest evidence={turn.evidence} pathOf={pathOf} />
      ) : (
        <Notes
          turn={turn}
          pathOf={pathOf}
          onContext={onContext}
          lit={lit}
          onLight={light}
          text={text}
        />
      )}
      {opened && (
        <NoteSheet
          citation={opened}
          path={pathOf(opened)}
          onContext={onContext}
          onClose={() => setOpened(null)}
        />
      )}
    </section>
  );
}

/** Who approved the answer, and when. */
function Approval({ approval }: { approval: NonNullable<Draft["approval"]> }) {
  return (
    <p className="border-success soft mt-3 border-l-2 pl-3">
      Approved{approval.approved_by && ` by ${approval.approved_by}`}
      {approval.approved_at && ` on ${new Date(approval.approved_at).toLocaleDateString()}`} as the
      answer to “{approval.question}”
      {approval.flag && (
        <span className="text-warning block">
          Its source text has changed since ({approval.flag}).
        </span>
      )}
    </p>
  );
}

/** Approved questions that may have been meant. */
function Choices({ turn, onAsk }: { turn: Draft; onAsk?: (question: string) => void }) {
  return (
    <section className="mt-3" aria-label="Similar questions">
      <p className="soft text-[13px]">Did you mean one of these? They have an approved answer.</p>
      <ul className="mt-1 space-y-1">
        {turn.choices.map((choice) => (
          <li key={choice.id}>
            {onAsk ? (
              <button
                type="button"
                className="link text-primary cursor-pointer text-left"
                onClick={() => onAsk(choice.question)}
              >
                {choice.question}
              </button>
            ) : (
              choice.question
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The statements to doubt, and those that were removed. */
function Doubts({ turn, doubts }: { turn: Draft; doubts: Draft["statements"] }) {
  const removed = doubts.filter((statement) => statement.removed).length;
  const outdated = doubts.filter((statement) => statement.verdict === "outdated").length;
  const marked = doubts.length - removed - outdated;
  const counts = [
    marked > 0 &&
      `${marked} ${marked === 1 ? "statement is" : "statements are"} not supported by the cited passages`,
    outdated > 0 &&
      `${outdated} ${outdated === 1 ? "statement is" : "statements are"} only in documents not in force`,
    removed > 0 && `${removed} ${removed === 1 ? "was" : "were"} left out`,
  ];
  return (
    <details className="border-warning mt-3 border-l-2 pl-3 text-[13px]">
      <summary className="cursor-pointer">{counts.filter(Boolean).join("; ")}</summary>
      <ul className="mt-1.5 space-y-1.5">
        {doubts.map((statement, index) => (
          <li key={index}>
            <span className="font-serif">
              “{statement.removed || turn.text.slice(statement.start, statement.end)}”
            </span>
            <span className="soft block">{statement.reason}</span>
          </li>
        ))}
      </ul>
    </details>
  );
}

function CopyButton({ turn }: { turn: Draft }) {
  const [done, setDone] = useState(false);
  const copy = async () => {
    const sources = turn.citations.map(
      (c) => `[${c.number}] ${c.title}, ${place(c.title, c.locator)}: “${c.quote}”`,
    );
    await navigator.clipboard.writeText([turn.text, "", ...sources].join("\n"));
    setDone(true);
  };
  return (
    <button type="button" className="link-hover cursor-pointer" onClick={() => void copy()}>
      {done ? "Copied" : "Copy with sources"}
    </button>
  );
}
