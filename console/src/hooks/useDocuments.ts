import { useCallback, useEffect, useRef, useState } from "react";
import { type Doc, get, type Kb, type Schemas } from "../api/client";

/** Whether more is still to become of a document by itself. */
export const onItsWay = (document: Doc) => !["indexed", "failed", "removed"].includes(document.state);

/** How many documents past the end of a list that is not loaded whole are shown all the same: those that changed last. */
const KEPT = 100;

interface List {
  documents: Doc[];
  /** Where the list goes on; null: it is whole. It is the name of the last document that was listed. */
  next: string | null;
}

/**
 * A knowledge base and its documents, kept current by the service's event stream. The list is loaded at once, and again when a
 * stream has begun to listen: what changed before that, or while the line was down, is told by nobody.
 */
export function useDocuments(base: string) {
  const [kb, setKb] = useState<Kb | null>(null);
  const [list, setList] = useState<List | null>(null);
  const [error, setError] = useState<string | null>(null);
  /** What the stream tells while lists are on their way, null of a document that is gone: they may be older. */
  const told = useRef(new Map<string, Doc | null>());
  const coming = useRef(0);

  const load = useCallback(
    async (cursor: string | null) => {
      const query = cursor === null ? "" : `&cursor=${encodeURIComponent(cursor)}`;
      coming.current += 1;
      try {
        const page = await get<Schemas["Page_DocumentOut_"]>(`${base}/documents?limit=200${query}`);
        const moved = [...page.items.map((item): [string, Doc] => [item.id, item]), ...told.current];
        setList((before) => merge({ documents: (cursor !== null && before?.documents) || [], next: page.next ?? null }, moved));
      } finally {
        coming.current -= 1;
        if (coming.current === 0) told.current.clear();
      }
    },
    [base],
  );

  useEffect(() => {
    setKb(null);
    setList(null);
    // What the stream told first is newer.
    get<Kb>(base).then((found) => setKb((before) => before ?? found), (problem: Error) => setError(problem.message));
    const begin = () => load(null).catch((problem: Error) => setError(problem.message));
    void begin();
    const source = new EventSource(`/api/v1${base}/events`);
    let opened = false;
    let heard: [string, Doc | null][] = [];
    const hear = (id: string, document: Doc | null) => {
      if (coming.current) told.current.set(id, document);
      // Many come at once: they are shown together.
      if (heard.push([id, document]) > 1) return;
      setTimeout(() => {
        const moved = heard;
        heard = [];
        setList((before) => before && merge(before, moved));
      });
    };
    source.addEventListener("open", () => (opened = true));
    source.addEventListener("document", (event) => {
      const moved = JSON.parse(event.data) as Doc;
      // What left its source leaves the list too.
      hear(moved.id, moved.state === "removed" ? null : moved);
    });
    source.addEventListener("removed", (event) => hear((JSON.parse(event.data) as { id: string }).id, null));
    source.addEventListener("kb", (event) => {
      setKb(JSON.parse(event.data) as Kb);
      if (opened) void begin();
      opened = false;
    });
    return () => source.close();
  }, [base, load]);

  const next = list?.next ?? null;
  return { kb, documents: list?.documents ?? null, error, more: next === null ? null : () => load(next) };
}

/** A list with what became of some documents; null: it is gone. */
function merge({ documents, next }: List, moved: Iterable<[string, Doc | null]>): List {
  const byId = new Map(documents.map((document) => [document.id, document]));
  for (const [id, document] of moved) {
    if (document) byId.set(id, document);
    else byId.delete(id);
  }
  const all = [...byId.values()].sort((a, b) => (a.name < b.name ? -1 : 1));
  if (next === null) return { documents: all, next };
  const beyond = all.filter((document) => document.name > next).sort((a, b) => (a.changed_at > b.changed_at ? -1 : 1));
  const dropped = new Set(beyond.slice(KEPT).map((document) => document.id));
  return { documents: dropped.size ? all.filter((document) => !dropped.has(document.id)) : all, next };
}
