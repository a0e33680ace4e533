import { type FormEvent, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import type { Citation } from "../../api/client";
import { get, type Schemas, send } from "../../api/client";
import { AnswerView } from "../../components/AnswerView";
import { Conversations } from "../../components/Conversations";
import { AskOrStop } from "../../components/forms";
import { Failure } from "../../components/text";
import type { Draft } from "../../hooks/useAsking";
import { useConversation } from "../../hooks/useConversation";
import { Sign } from "../desks/words";
import { ContextSheet } from "./ContextSheet";
import { Follow } from "./Follow";
import { Helpful } from "./Helpful";
import { guestOfAddress, inPanel, sayToSite, usePanel } from "./panel";

type Face = Schemas["PublicDesk"];
type Headers = Record<string, string>;

/** A guest's own secret, stored in this browser for each link. */
function guestSecret(link: string): string {
  const name = `guest ${link.slice(0, 8)}`;
  try {
    const kept = localStorage.getItem(name);
    if (kept) return kept;
    const made = crypto.randomUUID() + crypto.randomUUID();
    localStorage.setItem(name, made);
    return made;
  } catch {
    return crypto.randomUUID(); // a frame without storage: the conversation lasts as long as the page
  }
}

/**
 * The chat page: for members who are signed in, and for guests with the secret in the link's
 * fragment. In a panel on another site, that site may say who the guest is.
 */
export function ChatPage() {
  const { desk = "" } = useParams();
  const guest = useMemo(guestOfAddress, []);
  const visitor = usePanel(guest?.visitor ?? null);
  const headers = useMemo<Headers | undefined>(
    () =>
      guest
        ? {
            Authorization: `Bearer ${guest.secret}`,
            "X-Fontanel-Guest": guestSecret(guest.secret),
            ...(visitor ? { "X-Fontanel-Visitor": visitor } : {}),
          }
        : undefined,
    [guest, visitor],
  );
  const [face, setFace] = useState<Face | null>(null);
  const [error, setError] = useState<string | null>(null);
  useEffect(() => {
    get<Face>(`/chat/${encodeURIComponent(desk)}`, headers)
      .then((found) => {
        setFace(found);
        setError(null);
        document.title = found.name;
      })
      .catch((problem: Error) => {
        setError(problem.message);
        if (headers?.["X-Fontanel-Visitor"]) sayToSite("fontanel:visitor-expired");
      });
  }, [desk, headers]);
  if (error) {
    return (
      <main className="mx-auto max-w-165 px-4 py-20 text-center">
        <h1 className="text-2xl">This chat is not open to you</h1>
        <p className="soft mt-2">{error}</p>
      </main>
    );
  }
  return face ? <Chat face={face} headers={headers} /> : null;
}

function Chat({ face, headers }: { face: Face; headers?: Headers }) {
  const api = `/teams/${face.team}/desks/${face.id}`;
  const [address] = useSearchParams();
  const navigate = useNavigate();
  const conversation = address.get("conversation");
  const [question, setQuestion] = useState("");
  const [context, setContext] = useState<{ turn: string; citation: Citation } | null>(null);
  const [listed, setListed] = useState(false);
  const field = useRef<HTMLTextAreaElement>(null);
  const end = useRef<HTMLDivElement>(null);

  // Keep the fragment: it contains the guest's secret.
  const move = useCallback(
    (id: string | null, replace: boolean) =>
      void navigate({ search: id ? `?conversation=${id}` : "", hash: location.hash }, { replace }),
    [navigate],
  );
  const {
    turns,
    busy,
    coming,
    error,
    ask: askHere,
    stop,
  } = useConversation(api, conversation, (id) => move(id, true), headers);

  const ask = async (text: string, kept: Draft[] = turns) => {
    const asked = text.trim();
    if (!asked || busy || coming) return;
    setQuestion("");
    setTimeout(() => end.current?.scrollIntoView({ block: "end", behavior: "smooth" }));
    await askHere(asked, kept);
    field.current?.focus();
  };
  const onSubmit = (event: FormEvent) => {
    event.preventDefault();
    void ask(question);
  };
  const pathOf = (cited: { kb_id?: string }) =>
    headers || !cited.kb_id ? null : `/t/${face.team}/kbs/${cited.kb_id}`;
  return (
    <div className="flex min-h-dvh flex-col">
      <header className="bg-base-100 border-base-300 sticky top-0 z-10 border-b">
        <div className="mx-auto flex max-w-[1148px] items-center gap-3 px-4 py-2.5">
          {!inPanel() && <Sign {...face} />}
          <h1 className={inPanel() ? "sr-only" : "min-w-0 truncate text-[18px]"}>{face.name}</h1>
          <div className="ml-auto flex gap-4 whitespace-nowrap">
            <button
              type="button"
              className="link-hover text-primary cursor-pointer"
              aria-expanded={listed}
              onClick={() => setListed(!listed)}
            >
              Conversations
            </button>
            {turns.length > 0 && (
              <button
                type="button"
                className="link-hover text-primary cursor-pointer"
                disabled={busy}
                onClick={() => {
                  setListed(false);
                  move(null, false);
                }}
              >
                New
              </button>
            )}
          </div>
        </div>
      </header>
      {listed && (
        <section className="bg-base-100 border-base-300 border-b" aria-label="Conversations">
          <div className="mx-auto max-w-[1148px] px-4 py-4">
            <Conversations
              api={api}
              headers={headers}
              current={conversation}
              focus
              onOpen={(id) => {
                setListed(false);
                move(id, false);
              }}
            />
          </div>
        </section>
      )}
      <main className="mx-auto w-full max-w-[1148px] flex-1 px-4 pb-6">
        {turns.length === 0 && !busy && (
          <section className="max-w-165 pt-9">
            <p className="font-serif text-[21px]">
              {face.greeting || `Ask ${face.name} a question.`}
            </p>
            {face.purpose && <p className="soft mt-1.5">{face.purpose}</p>}
            <ul className="mt-5 space-y-2">
              {face.first_questions.map((first) => (
                <li key={first}>
                  <button
                    type="button"
                    className="sheet hover:border-primary cursor-pointer px-4 py-2.5 text-left"
                    onClick={() => void ask(first)}
                  >
                    {first}
                  </button>
                </li>
              ))}
            </ul>
          </section>
        )}
        {turns.map((turn, index) => (
          <AnswerView
            key={turn.id ?? index}
            turn={turn}
            pathOf={pathOf}
            live={turn.state === "answering"}
            onContext={(citation) => turn.id && setContext({ turn: turn.id, citation })}
            onAsk={(choice) => void ask(choice)}
          >
            {turn.id && (
              <>
                <Helpful
                  api={api}
                  headers={headers}
                  turn={turn.id}
                  given={turn.feedback.find((one) => one.citation === 0)}
                />
                <Follow api={api} headers={headers} turn={turn.id} />
              </>
            )}
          </AnswerView>
        ))}
        {turns.length > 0 && !busy && !coming && turns.at(-1)!.state !== "done" && (
          <button
            type="button"
            className="btn mt-3"
            onClick={() => void ask(turns.at(-1)!.question)}
          >
            Ask again
          </button>
        )}
        <Failure message={error} />
      </main>
      <form
        aria-label="Ask"
        className="bg-base-200 border-base-300 sticky bottom-0 border-t"
        onSubmit={onSubmit}
      >
        <div className="mx-auto max-w-[1148px] px-4 py-3">
          <div className="sheet flex max-w-165 items-end gap-2 p-2">
            <textarea
              ref={field}
              rows={1}
              className="field-sizing-content max-h-40 min-h-10 flex-1 resize-none bg-transparent px-2 py-2 text-base outline-none"
              aria-label="Question"
              placeholder={turns.length ? "Ask a follow-up…" : "Ask a question…"}
              maxLength={2000}
              value={question}
              onChange={(e) => setQuestion(e.target.value)}
              onKeyDown={(e) => {
                if (e.key !== "Enter" || e.shiftKey || e.nativeEvent.isComposing) return;
                e.preventDefault();
                void ask(question);
              }}
            />
            <AskOrStop busy={busy} onStop={stop} />
          </div>
        </div>
        <div ref={end} />
      </form>
      {context && (
        <ContextSheet
          path={`${api}/turns/${context.turn}/citations/${context.citation.number}`}
          headers={headers}
          onClose={() => setContext(null)}
          onSay={(right) =>
            send(
              "PUT",
              `${api}/turns/${context.turn}/feedback`,
              {
                helpful: right,
                citation: context.citation.number,
                reason: right ? "" : "wrong_source",
              },
              headers,
            )
          }
        />
      )}
    </div>
  );
}
