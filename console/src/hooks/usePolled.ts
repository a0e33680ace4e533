import { useEffect } from "react";
import { useLoad } from "./useLoad";

/**
 * As useLoad, and again every so often: soon while `busy` says that something goes on, else at ease, or never when `idle` is null.
 * The pause begins when a load has ended: however slow the line is, each is waited for.
 */
export function usePolled<T>(path: string | null, busy: (data: T) => boolean, idle: number | null = 4000) {
  const loaded = useLoad<T>(path);
  const { data, reload, ended } = loaded;
  const soon = data !== null && busy(data);
  useEffect(() => {
    const pause = soon ? 700 : idle;
    if (pause === null || ended === 0) return;
    const timer = setInterval(() => {
      if (document.visibilityState !== "visible") return;
      clearInterval(timer);
      reload();
    }, pause);
    return () => clearInterval(timer);
  }, [reload, soon, idle, ended]);
  return loaded;
}
