import { useState } from "react";

/** Runs requests: what one failed with is shown until the next succeeds; `then` follows each success. */
export function useAttempt(then: () => void) {
  const [failed, setFailed] = useState<string | null>(null);
  const attempt = (work: Promise<unknown>) =>
    work
      .then(() => {
        setFailed(null);
        then();
      })
      .catch((problem: Error) => setFailed(problem.message));
  return { failed, attempt };
}
