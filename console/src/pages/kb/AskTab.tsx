import { type FormEvent, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { AnswerView } from "../../components/AnswerView";
import { Conversations } from "../../components/Conversations";
import { AskOrStop } from "../../components/forms";
import { Failure } from "../../components/text";
import { useConversation } from "../../hooks/useConversation";
import { useTeam } from "../../hooks/useSession";
import { useKb } from "./KbPage";

export function AskTab() {
  const { api, path, kb } = useKb();
  const team = useTeam();
  const [address, setAddress] = useSearchParams();
  const conversation = address.get("conversation");
  const [question, setQuestion] = useState("");
  const { turns, busy, coming, error, ask, stop } = useConversation(api, conversation, (id) =>
    setAddress({ conversation: id }, { replace: true }),
  );
  const end = useRef<HTMLDivElement>(null);

  const submit = async (asked: string) => {
    if (busy || coming) return;
    await ask(asked);
    end.current?.scrollIntoView({ block: "nearest" });
  };
  const askIt = (event: FormEvent) => {
    event.preventDefault();
    const asked = question.trim();
    if (!asked || busy || coming) return;
    setQuestion("");
    void submit(asked);
  };

  return (
    <>
      <p className="border-base-300 flex items-center gap-3 border-b border-dashed pb-3">
        <span className="sheet rounded-full px-3 py-0.5">
          <span
            className={`mr-2 inline-block size-2 rounded-full ${kb.pending ? "bg-primary" : "bg-success"}`}
            aria-hidden
          />
          {kb.name} ·{" "}
          {kb.pending ? `${kb.pending} documents being indexed` : `${kb.documents} documents`}
        </span>
        {turns.length > 0 && (
          <button
            type="button"
            className="link-hover text-primary ml-auto cursor-pointer"
            disabled={busy}
            onClick={() => setAddress({})}
          >
            New conversation
          </button>
        )}
      </p>
      {turns.length === 0 && !busy && (
        <p className="soft mt-10 max-w-[66ch] text-lg">
          {kb.documents === 0
            ? "There are no documents to answer from yet. You can still ask."
            : "Ask a question. The answer cites a source for each statement."}
        </p>
      )}
      {turns.map((turn, index) => (
        <AnswerView
          key={index}
          turn={turn}
          pathOf={() => path}
          live={turn.state === "answering"}
          record={team.mayEdit ? `/t/${team.slug}/answers` : undefined}
          approve={({ id }) => (team.mayEdit && id ? `${path}/approved/new?answer=${id}` : null)}
          onAsk={(choice) => void submit(choice)}
        />
      ))}
      <Failure message={error} />
      <form className="sheet mt-7 flex max-w-165 items-center gap-3 p-3" onSubmit={askIt}>
        <input
          className="input-ghost flex-1 bg-transparent px-2 py-1.5 text-base outline-none"
          aria-label="Question"
          placeholder={turns.length ? "Ask a follow-up…" : "Ask a question…"}
          maxLength={2000}
          value={question}
          onChange={(e) => setQuestion(e.target.value)}
        />
        <AskOrStop busy={busy} onStop={stop} />
      </form>
      <div ref={end} />
      {turns.length === 0 && !busy && (
        <section className="mt-10">
          <h2 className="mb-2 text-lg">Earlier conversations</h2>
          <Conversations
            api={api}
            current={conversation}
            onOpen={(id) => setAddress(id ? { conversation: id } : {})}
          />
        </section>
      )}
    </>
  );
}
