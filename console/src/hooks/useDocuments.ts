import { useCallback, useEffect, useRef, useState } from "react";
import { type Doc, get, type Kb, type Schemas } from "../api/client";

/** Whether more is still to become of a document by itself. */
export const onItsWay = (document: Doc) => !["indexed", "failed", "removed"].includes(document.state);

/**
 * A knowledge base and its documents, kept current by the service's event stream. The list is loaded at once, and again when a
 * stream has begun to listen: what changed before that, or while the line was down, is told by nobody.
 */
export function useDocuments(base: string) {
  const [kb, setKb] = useState<Kb | null>(null);
  const [documents, setDocuments] = useState<Doc[] | null>(null);
  const [next, setNext] = useState<string | null>(null);
  const [error, setError] = useState<string | null>(null);
  /** What the stream told of each document, null when it is gone: a list that was asked for earlier may come later. */
  const told = useRef(new Map<string, Doc | null>());

  const load = useCallback(
    async (cursor: string | null) => {
      const query = cursor === null ? "" : `&cursor=${encodeURIComponent(cursor)}`;
      const page = await get<Schemas["Page_DocumentOut_"]>(`${base}/documents?limit=200${query}`);
      setDocuments((before) => merge(merge(cursor === null ? [] : (before ?? []), page.items.map((item) => [item.id, item])), told.current));
      setNext(page.next ?? null);
    },
    [base],
  );

  useEffect(() => {
    setDocuments(null);
    told.current.clear();
    get<Kb>(base).then(setKb, (problem: Error) => setError(problem.message));
    const begin = () => load(null).catch((problem: Error) => setError(problem.message));
    void begin();
    const source = new EventSource(`/api/v1${base}/events`);
    let opened = false;
    const hear = (id: string, document: Doc | null) => {
      told.current.set(id, document);
      setDocuments((before) => before && merge(before, [[id, document]]));
    };
    source.addEventListener("open", () => {
      opened = true;
      told.current.clear();
    });
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

  return { kb, documents, error, more: next === null ? null : () => load(next) };
}

/** The documents with what became of some of them; null: it is gone. */
function merge(before: Doc[], moved: Iterable<[string, Doc | null]>): Doc[] {
  const byId = new Map(before.map((document) => [document.id, document]));
  for (const [id, document] of moved) {
    if (document) byId.set(id, document);
    else byId.delete(id);
  }
  return [...byId.values()].sort((a, b) => (a.name < b.name ? -1 : 1));
}
