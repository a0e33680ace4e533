import { useEffect } from "react";
import { useLoad } from "./useLoad";

/** As useLoad, and again every so often: soon while `busy` says that something goes on, else at ease. */
export function usePolled<T>(path: string | null, busy: (data: T) => boolean) {
  const loaded = useLoad<T>(path);
  const { data, reload } = loaded;
  const soon = data !== null && busy(data);
  useEffect(() => {
    const timer = setInterval(() => document.visibilityState === "visible" && reload(), soon ? 700 : 4000);
    return () => clearInterval(timer);
  }, [reload, soon]);
  return loaded;
}
