import { useCallback, useEffect, useState } from "react";
import { get } from "../api/client";

/**
 * Load a path, again whenever it changes or `reload` is called. What was there stays until the new is. `ended` is the number of
 * loads that have ended, well or not.
 */
export function useLoad<T>(path: string | null, headers?: Record<string, string>) {
  const [data, setData] = useState<T | null>(null);
  const [error, setError] = useState<string | null>(null);
  const [turn, setTurn] = useState(0);
  const [ended, setEnded] = useState(0);
  useEffect(() => {
    if (path === null) return;
    let current = true;
    get<T>(path, headers)
      .then((found) => current && (setData(found), setError(null)))
      .catch((problem: Error) => current && setError(problem.message))
      .finally(() => current && setEnded((n) => n + 1));
    return () => {
      current = false;
    };
  }, [path, turn, headers]);
  const reload = useCallback(() => setTurn((n) => n + 1), []);
  return { data, error, reload, setData, ended };
}
