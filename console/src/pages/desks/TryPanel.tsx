import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import type { Evidence } from "../../api/client";
import { Failure, percent, place } from "../../components/text";
import { type Draft, isDoubtful, useAsking } from "../../hooks/useAsking";
import { useTeam } from "../../hooks/useSession";
import { useDesk } from "./DeskPage";
import type { Settings } from "./words";

/** Ask the draft in the form, and the published version next to it. */
export function TryPanel({ settings }: { settings: Settings }) {
  const { desk, api } = useDesk();
  const [question, setQuestion] = useState("");
  const [compared, setCompared] = useState(false);
  const draft = useAsking(`${api}/ask`);
  const published = useAsking(`${api}/ask`);
  const ask = (event: FormEvent) => {
    event.preventDefault();
    const asked = question.trim();
    if (!asked || draft.busy) return;
    void draft.submit({ question: asked, conversation_id: null, draft: true, settings }, []);
    if (compared && desk.published)
      void published.submit({ question: asked, conversation_id: null }, []);
    else published.setTurns([]);
  };
  return (
    <section
      aria-label="Try the draft"
      className="min-[1000px]:sticky min-[1000px]:top-4 min-[1000px]:self-start"
    >
      <form className="sheet flex items-center gap-3 p-3" onSubmit={ask}>
        <input
          className="flex-1 bg-transparent px-2 py-1.5 text-base outline-none"
          aria-label="Question to try"
          placeholder="Try a question…"
          maxLength={2000}
          value={question}
          onChange={(e) => setQuestion(e.target.value)}
        />
        <button type="submit" className="btn" disabled={draft.busy}>
          Try
        </button>
      </form>
      <div className="mt-2 flex flex-wrap gap-x-5 gap-y-1">
        <label className="soft flex items-center gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={compared}
            disabled={!desk.published}
            onChange={(e) => setCompared(e.target.checked)}
          />
          next to the published version
        </label>
        {draft.turns.length === 0 &&
          (settings.first_questions ?? []).slice(0, 3).map((first) => (
            <button
              key={first}
              type="button"
              className="link-hover text-primary cursor-pointer text-left"
              onClick={() => setQuestion(first)}
            >
              {first}
            </button>
          ))}
      </div>
      <Failure message={draft.error ?? published.error} />
      <div className={published.turns.length ? "grid gap-4 sm:grid-cols-2" : ""}>
        {draft.turns.map((turn, index) => (
          <Tried key={index} turn={turn} title={published.turns.length ? "Draft" : null} />
        ))}
        {published.turns.map((turn, index) => (
          <Tried key={index} turn={turn} title={`Version ${desk.published?.number}`} />
        ))}
      </div>
      {draft.turns.length === 0 && (
        <p className="soft mt-6">
          Unsaved changes are included. The passages that an answer used are listed below it.
        </p>
      )}
    </section>
  );
}

/** An answer with its passages, in little space. */
function Tried({ turn, title }: { turn: Draft; title: string | null }) {
  const team = useTeam();
  const isCited = (passage: Evidence) =>
    turn.citations.some(
      (citation) =>
        citation.revision_id === passage.revision_id &&
        citation.start >= passage.start &&
        citation.end <= passage.end,
    );
  const doubtful = turn.statements.filter(isDoubtful);
  return (
    <article className="sheet mt-4 min-w-0 p-4" aria-busy={turn.state === "answering"}>
      {title && <h3 className="soft mb-1 text-[13px] font-semibold">{title}</h3>}
      <div
        className="font-serif text-[16px] leading-relaxed whitespace-pre-line"
        data-outcome={turn.outcome ?? "coming"}
      >
        {turn.text || <span className="soft">Searching the documents…</span>}
      </div>
      {turn.note && (
        <p className="border-warning soft mt-2 border-l-2 pl-3 text-[13px]">{turn.note}</p>
      )}
      {turn.outcome && (
        <p className="soft mt-2 text-[13px]">
          {turn.outcome} · by {turn.composer} · {turn.citations.length} citations
          {doubtful.length > 0 && ` · ${doubtful.length} to doubt`}
          {turn.id && (
            <>
              {" · "}
              <Link className="link-hover text-primary" to={`/t/${team.slug}/answers/${turn.id}`}>
                how this answer was made
              </Link>
            </>
          )}
        </p>
      )}
      {turn.evidence.length > 0 && (
        <ol
          className="border-base-300 mt-3 space-y-1 border-t pt-2.5 text-[13px]"
          aria-label="Passages used"
        >
          {turn.evidence.map((passage) => (
            <li key={passage.passage_id} className="flex gap-3">
              <span className="w-11 shrink-0 text-right tabular-nums">
                {percent(passage.match)}
              </span>
              <span className={isCited(passage) ? "font-medium" : "soft"}>
                {passage.title}{" "}
                <span className="soft font-normal">{place(passage.title, passage.locator)}</span>
              </span>
            </li>
          ))}
        </ol>
      )}
    </article>
  );
}
