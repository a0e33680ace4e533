import { useCallback, useEffect, useRef } from "react";
import { get, type Schemas } from "../api/client";
import { type Draft, ofTurn, useAsking } from "./useAsking";

/**
 * The conversation in the address, loaded and continued; `onBegun` receives a new one's id. A turn
 * answered elsewhere (in another tab, or just stopped) is reloaded until it ends.
 */
export function useConversation(
  api: string,
  conversation: string | null,
  onBegun: (id: string) => void,
  headers?: Record<string, string>,
) {
  const { turns, setTurns, busy, error, setError, submit, stop } = useAsking(`${api}/ask`, headers);
  const here = useRef<string | null>(null);
  const load = useCallback(
    (id: string) =>
      get<Schemas["Page_TurnOut_"]>(`${api}/conversations/${id}`, headers)
        .then((page) => here.current === id && setTurns(page.items.map(ofTurn)))
        .catch((problem: Error) => here.current === id && setError(problem.message)),
    [api, headers, setError, setTurns],
  );
  useEffect(() => {
    if (conversation === here.current) return;
    here.current = conversation;
    setError(null);
    if (conversation) void load(conversation);
    else setTurns([]);
  }, [conversation, load, setError, setTurns]);

  const coming = !busy && turns.some((turn) => turn.state === "answering");
  useEffect(() => {
    if (!coming || !conversation) return;
    const timer = setInterval(() => void load(conversation), 700);
    return () => clearInterval(timer);
  }, [coming, conversation, load]);

  const ask = (question: string, kept: Draft[] = turns) =>
    submit({ question, conversation_id: conversation }, kept, (id) => {
      here.current = id;
      onBegun(id);
    });
  return { turns, busy, coming, error, ask, stop };
}
