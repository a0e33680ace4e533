import { useCallback, useEffect, useRef, useState } from "react";
import { type Doc, get, type Kb, type Schemas } from "../api/client";
import { API } from "../root";

/** How many recently changed documents to show past the end of a partly loaded list. */
const KEPT = 100;

interface List {
  documents: Doc[];
  /** The name of the last document listed, from which the list continues; null at its end. */
  next: string | null;
}

/**
 * A knowledge base and its documents, kept current by the service's event stream.
 * The list is loaded at once, and again whenever a stream opens: the stream does not
 * repeat what changed before that or while the connection was down.
 */
export function useDocuments(base: string) {
  const [kb, setKb] = useState<Kb | null>(null);
  const [list, setList] = useState<List | null>(null);
  const [error, setError] = useState<string | null>(null);
  /** Events received while lists are loading, null for a removed document: the lists may be older. */
  const received = useRef(new Map<string, Doc | null>());
  const loading = useRef(0);

  const load = useCallback(
    async (cursor: string | null) => {
      const query = cursor === null ? "" : `&cursor=${encodeURIComponent(cursor)}`;
      loading.current += 1;
      try {
        const page = await get<Schemas["Page_DocumentOut_"]>(`${base}/documents?limit=200${query}`);
        const moved = [
          ...page.items.map((item): [string, Doc] => [item.id, item]),
          ...received.current,
        ];
        setList((before) =>
          merge(
            { documents: (cursor !== null && before?.documents) || [], next: page.next ?? null },
            moved,
          ),
        );
      } finally {
        loading.current -= 1;
        if (loading.current === 0) received.current.clear();
      }
    },
    [base],
  );

  useEffect(() => {
    setKb(null);
    setList(null);
    // An event that arrived earlier is newer.
    get<Kb>(base).then(
      (loaded) => setKb((before) => before ?? loaded),
      (problem: Error) => setError(problem.message),
    );
    const begin = () => load(null).catch((problem: Error) => setError(problem.message));
    void begin();
    const source = new EventSource(`${API}${base}/events`);
    let opened = false;
    let pending: [string, Doc | null][] = [];
    const receive = (id: string, document: Doc | null) => {
      if (loading.current) received.current.set(id, document);
      // Events arrive in bursts: show a burst at once.
      if (pending.push([id, document]) > 1) return;
      setTimeout(() => {
        const changes = pending;
        pending = [];
        setList((before) => before && merge(before, changes));
      });
    };
    source.addEventListener("open", () => (opened = true));
    source.addEventListener("document", (event) => {
      const moved = JSON.parse(event.data) as Doc;
      // A document removed from its source leaves the list too.
      receive(moved.id, moved.state === "removed" ? null : moved);
    });
    source.addEventListener("removed", (event) =>
      receive((JSON.parse(event.data) as { id: string }).id, null),
    );
    source.addEventListener("kb", (event) => {
      setKb(JSON.parse(event.data) as Kb);
      if (opened) void begin();
      opened = false;
    });
    return () => source.close();
  }, [base, load]);

  const next = list?.next ?? null;
  return {
    kb,
    documents: list?.documents ?? null,
    error,
    more: next === null ? null : () => load(next),
  };
}

/** Apply changes to a list; null removes a document. */
export function merge({ documents, next }: List, moved: Iterable<[string, Doc | null]>): List {
  const byId = new Map(documents.map((document) => [document.id, document]));
  for (const [id, document] of moved) {
    if (document) byId.set(id, document);
    else byId.delete(id);
  }
  const all = [...byId.values()].sort((a, b) => (a.name < b.name ? -1 : 1));
  if (next === null) return { documents: all, next };
  const beyond = all
    .filter((document) => document.name > next)
    .sort((a, b) => (a.changed_at > b.changed_at ? -1 : 1));
  const dropped = new Set(beyond.slice(KEPT).map((document) => document.id));
  return {
    documents: dropped.size ? all.filter((document) => !dropped.has(document.id)) : all,
    next,
  };
}
