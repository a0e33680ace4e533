import { type FormEvent, useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { ask, type Answer, type Citation, type Evidence, get, type Schemas, send } from "../../api/client";
import { AnswerView } from "../../components/AnswerView";
import { Ago, Failure } from "../../components/text";
import { useLoad } from "../../hooks/useLoad";
import { useKb } from "./KbPage";

/** A turn as it comes about: its text and citations grow until `done`. */
export interface Draft {
  question: string;
  standalone: string;
  text: string;
  citations: Citation[];
  evidence: Evidence[];
  outcome: Answer["outcome"] | null;
}

const begun = (question: string): Draft => ({ question, standalone: question, text: "", citations: [], evidence: [], outcome: null });

export function AskTab() {
  const { api, path, kb } = useKb();
  const [address, setAddress] = useSearchParams();
  const conversation = address.get("conversation");
  const [turns, setTurns] = useState<Draft[]>([]);
  const [question, setQuestion] = useState("");
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState<string | null>(null);
  const stopper = useRef<AbortController | null>(null);
  const here = useRef<string | null>(null);
  const end = useRef<HTMLDivElement>(null);
  const earlier = useLoad<Schemas["Page_ConversationOut_"]>(`${api}/conversations?limit=20`);

  useEffect(() => {
    if (conversation === here.current) return;
    here.current = conversation;
    setError(null);
    if (!conversation) return setTurns([]);
    get<Schemas["Page_TurnOut_"]>(`${api}/conversations/${conversation}`)
      .then((page) => setTurns(page.items))
      .catch((problem: Error) => setError(problem.message));
  }, [api, conversation]);

  useEffect(() => () => stopper.current?.abort(), []);

  const submit = async (event: FormEvent) => {
    event.preventDefault();
    const asked = question.trim();
    if (!asked || busy) return;
    setQuestion("");
    setError(null);
    setBusy(true);
    let draft = begun(asked);
    const kept = turns;
    const show = (change: Partial<Draft>) => {
      draft = { ...draft, ...change };
      setTurns([...kept, draft]);
    };
    show({});
    stopper.current = new AbortController();
    try {
      await ask(
        `${api}/ask`,
        { question: asked, conversation_id: conversation },
        (event) => {
          if (event.event === "start") {
            here.current = event.conversation_id;
            setAddress({ conversation: event.conversation_id }, { replace: true });
            show({ standalone: event.standalone });
          } else if (event.event === "evidence") show({ evidence: event.passages });
          else if (event.event === "piece") show({ text: draft.text + event.text });
          else if (event.event === "citation") show({ citations: [...draft.citations, event.citation] });
          else if (event.event === "finish") show(event.answer);
        },
        stopper.current.signal,
      );
      earlier.reload();
    } catch (problem) {
      if ((problem as Error).name !== "AbortError") setError((problem as Error).message);
    } finally {
      setBusy(false);
      end.current?.scrollIntoView({ block: "nearest" });
    }
  };

  const forget = async (id: string) => {
    await send("DELETE", `${api}/conversations/${id}`);
    if (id === conversation) setAddress({}, { replace: true });
    earlier.reload();
  };

  return (
    <>
      <p className="border-base-300 flex items-center gap-3 border-b border-dashed pb-3">
        <span className="sheet rounded-full px-3 py-0.5">
          <span className={`mr-2 inline-block size-2 rounded-full ${kb.pending ? "bg-primary" : "bg-success"}`} aria-hidden />
          {kb.name} · {kb.pending ? `${kb.pending} documents being indexed` : `${kb.documents} documents`}
        </span>
        {turns.length > 0 && (
          <button type="button" className="link-hover text-primary ml-auto cursor-pointer" disabled={busy} onClick={() => setAddress({})}>
            New conversation
          </button>
        )}
      </p>
      {turns.length === 0 && !busy && (
        <p className="soft mt-10 max-w-[66ch] text-lg">
          {kb.documents === 0 ? "There are no documents to answer from yet. You can ask all the same." : "Ask a question. The answer shows where each statement stands."}
        </p>
      )}
      {turns.map((turn, index) => (
        <AnswerView key={index} turn={turn} path={path} live={busy && index === turns.length - 1} />
      ))}
      <Failure message={error} />
      <form className="sheet mt-7 flex max-w-165 items-center gap-3 p-3" onSubmit={submit}>
        <input
          className="input-ghost flex-1 bg-transparent px-2 py-1.5 text-base outline-none"
          aria-label="Question"
          placeholder={turns.length ? "Ask a follow-up…" : "Ask a question…"}
          maxLength={2000}
          value={question}
          onChange={(e) => setQuestion(e.target.value)}
        />
        {busy ? (
          <button type="button" className="btn" onClick={() => stopper.current?.abort()}>
            Stop
          </button>
        ) : (
          <button className="btn btn-primary">Ask</button>
        )}
      </form>
      <div ref={end} />
      {turns.length === 0 && (earlier.data?.items.length ?? 0) > 0 && (
        <section className="mt-10 max-w-165">
          <h2 className="mb-1 text-lg">Earlier conversations</h2>
          <ul className="divide-base-300 divide-y">
            {earlier.data?.items.map((item) => (
              <li key={item.id} className="flex gap-4 py-2">
                <button type="button" className="link-hover cursor-pointer text-left" onClick={() => setAddress({ conversation: item.id })}>
                  {item.title}
                </button>
                <span className="soft ml-auto whitespace-nowrap">
                  <Ago at={item.changed_at} />
                </span>
                <button type="button" className="link-hover soft cursor-pointer" aria-label={`Delete ${item.title}`} onClick={() => void forget(item.id)}>
                  Delete
                </button>
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  );
}
