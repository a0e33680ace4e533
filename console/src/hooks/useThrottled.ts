import { useEffect, useRef, useState } from "react";

/** A frequently changing value, updated at most once per `pause` milliseconds. */
export function useThrottled<T>(value: T, pause = 2000): T {
  const [shown, setShown] = useState(value);
  const since = useRef(0);
  useEffect(() => {
    const timer = setTimeout(
      () => {
        since.current = Date.now();
        setShown(value);
      },
      Math.max(0, since.current + pause - Date.now()),
    );
    return () => clearTimeout(timer);
  }, [value, pause]);
  return shown;
}
