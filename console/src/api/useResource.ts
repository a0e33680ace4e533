import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { get } from "./client";

interface Options<T> {
  /** Headers to send, such as a guest's. They must be the same object between renders. */
  headers?: Record<string, string>;
  /** Whether something is in progress, so that the resource is reloaded soon. */
  busy?: (data: T) => boolean;
  /** Milliseconds between reloads while nothing is in progress; null: no reloads. */
  idle?: number | null;
  /** Whether the resource never changes while the page is open: then it is loaded once. */
  constant?: boolean;
  /** The resource is loaded again when this changes. */
  version?: number;
}

/** Milliseconds between reloads while something is in progress. */
const BUSY = 700;
/** Milliseconds between reloads of data that others may change. */
export const IDLE = 4000;

/**
 * Load a path of the API, and again when it changes, when `reload` is called, or by the clock.
 * The earlier data stays until the new has arrived. A path of null loads nothing.
 */
export function useResource<T>(path: string | null, options: Options<T> = {}) {
  const { headers, busy, idle = null, constant = false, version } = options;
  const client = useQueryClient();
  const key = [path, headers, version];
  const query = useQuery({
    queryKey: key,
    queryFn: () => get<T>(path ?? "", headers),
    enabled: path !== null,
    staleTime: constant ? Number.POSITIVE_INFINITY : 0,
    placeholderData: keepPreviousData,
    refetchInterval: (state) => {
      const data = state.state.data as T | undefined;
      if (busy && data !== undefined && busy(data)) return BUSY;
      return idle ?? false;
    },
  });
  const { refetch } = query;
  const reload = useCallback(() => {
    // A first load under way is not awaited: what it read may be older than the change.
    const queryKey = [path, headers, version];
    void client.cancelQueries({ queryKey, exact: true }).then(() => refetch());
  }, [client, path, headers, version, refetch]);
  const setData = (data: T) => client.setQueryData(key, data);
  return {
    data: (query.data ?? null) as T | null,
    error: query.error ? query.error.message : null,
    reload,
    setData,
  };
}
