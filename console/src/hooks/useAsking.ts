import { useCallback, useEffect, useRef, useState } from "react";
import { type Answer, ask, type Citation, type Evidence, type Schemas } from "../api/client";

/** A turn in progress: its text, citations and checks grow until there is an outcome. */
export interface Draft {
  id: string | null;
  question: string;
  standalone: string;
  text: string;
  citations: Citation[];
  evidence: Evidence[];
  statements: Schemas["StatementOut"][];
  links: Schemas["OfferedLink"][];
  feedback: Schemas["FeedbackOut"][];
  note: string;
  composer: string;
  approval: Schemas["ApprovalOut"] | null;
  choices: Schemas["ChoiceOut"][];
  state: Schemas["TurnOut"]["state"];
  outcome: Answer["outcome"] | null;
}

/** Returns whether a reader should doubt a statement. */
export const isDoubtful = ({ verdict }: Schemas["StatementOut"]) =>
  verdict === "weak" || verdict === "uncited" || verdict === "outdated";

const EMPTY = {
  standalone: "",
  text: "",
  citations: [],
  evidence: [],
  statements: [],
  links: [],
  feedback: [],
  note: "",
  composer: "",
  approval: null,
  choices: [],
};
const begun = (question: string): Draft => ({
  ...EMPTY,
  id: null,
  question,
  standalone: question,
  state: "answering",
  outcome: null,
});

export const ofTurn = (turn: Schemas["TurnOut"]): Draft => ({
  ...turn,
  state: turn.state ?? "done",
  outcome: turn.outcome === "unfinished" ? null : (turn.outcome as Answer["outcome"]),
  statements: turn.statements ?? [],
  links: turn.links ?? [],
  feedback: turn.feedback ?? [],
  note: turn.note ?? "",
  approval: turn.approval ?? null,
  choices: turn.choices ?? [],
});

const ofAnswer = (answer: Answer): Partial<Draft> => ({
  ...answer,
  id: answer.turn_id,
  note: answer.note ?? "",
  statements: answer.statements ?? [],
  links: answer.links ?? [],
  approval: answer.approval ?? null,
  choices: answer.choices ?? [],
  state: "done",
});

/** Asks questions and keeps the turns of one conversation as they progress. */
export function useAsking(path: string, headers?: Record<string, string>) {
  const [turns, setTurns] = useState<Draft[]>([]);
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState<string | null>(null);
  const stopper = useRef<AbortController | null>(null);
  useEffect(() => () => stopper.current?.abort(), []);

  const submit = useCallback(
    async (
      body: { question: string; conversation_id: string | null } & Record<string, unknown>,
      kept: Draft[],
      onStart?: (conversation: string) => void,
    ) => {
      setError(null);
      setBusy(true);
      let draft = begun(body.question);
      const show = (change: Partial<Draft>) => {
        draft = { ...draft, ...change };
        setTurns([...kept, draft]);
      };
      show({});
      stopper.current = new AbortController();
      try {
        await ask(
          path,
          body,
          (event) => {
            if (event.event === "start") {
              onStart?.(event.conversation_id);
              show({ id: event.turn_id, standalone: event.standalone });
            } else if (event.event === "evidence") show({ evidence: event.passages });
            else if (event.event === "piece") show({ text: draft.text + event.text });
            else if (event.event === "citation")
              show({ citations: [...draft.citations, event.citation] });
            else if (event.event === "check")
              show({ statements: [...draft.statements, event.statement] });
            else if (event.event === "restart")
              show({ text: "", citations: [], statements: [], note: event.reason });
            else if (event.event === "finish") show(ofAnswer(event.answer));
          },
          stopper.current.signal,
          headers,
        );
      } catch (problem) {
        if ((problem as Error).name === "AbortError") show({ state: "stopped" });
        else {
          show({ state: "failed" });
          setError((problem as Error).message);
        }
      } finally {
        setBusy(false);
      }
    },
    [path, headers],
  );
  const stop = useCallback(() => stopper.current?.abort(), []);
  return { turns, setTurns, busy, error, setError, submit, stop };
}
