import { useEffect, useRef, useState } from "react";

/** A value that changes often, as it was at most so many milliseconds ago: what is asked for its sake has time to be answered. */
export function usePaced<T>(value: T, pause = 2000): T {
  const [shown, setShown] = useState(value);
  const since = useRef(0);
  useEffect(() => {
    const timer = setTimeout(() => {
      since.current = Date.now();
      setShown(value);
    }, Math.max(0, since.current + pause - Date.now()));
    return () => clearTimeout(timer);
  }, [value, pause]);
  return shown;
}
