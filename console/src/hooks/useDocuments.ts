import { useCallback, useEffect, useState } from "react";
import { type Doc, get, type Kb, type Schemas } from "../api/client";

/** A knowledge base and its documents, kept current by the service's event stream. */
export function useDocuments(base: string) {
  const [kb, setKb] = useState<Kb | null>(null);
  const [documents, setDocuments] = useState<Doc[] | null>(null);
  const [next, setNext] = useState<string | null>(null);
  const [error, setError] = useState<string | null>(null);

  const load = useCallback(
    async (cursor: string | null) => {
      const query = cursor === null ? "" : `&cursor=${encodeURIComponent(cursor)}`;
      const page = await get<Schemas["Page_DocumentOut_"]>(`${base}/documents?limit=200${query}`);
      setDocuments((before) => merge(cursor === null ? [] : (before ?? []), page.items));
      setNext(page.next ?? null);
    },
    [base],
  );

  useEffect(() => {
    setDocuments(null);
    get<Kb>(base).then(setKb, (problem: Error) => setError(problem.message));
    load(null).catch((problem: Error) => setError(problem.message));
    const source = new EventSource(`/api/v1${base}/events`);
    source.addEventListener("document", (event) => {
      const moved = JSON.parse(event.data) as Doc;
      // What left its source leaves the list too.
      setDocuments((before) =>
        moved.state === "removed" ? (before ?? []).filter((document) => document.id !== moved.id) : merge(before ?? [], [moved]),
      );
    });
    source.addEventListener("removed", (event) => {
      const { id } = JSON.parse(event.data) as { id: string };
      setDocuments((before) => (before ?? []).filter((document) => document.id !== id));
    });
    source.addEventListener("kb", (event) => setKb(JSON.parse(event.data) as Kb));
    return () => source.close();
  }, [base, load]);

  return { kb, documents, error, more: next === null ? null : () => load(next) };
}

function merge(before: Doc[], moved: Doc[]): Doc[] {
  const byId = new Map(before.map((document) => [document.id, document]));
  for (const document of moved) byId.set(document.id, document);
  return [...byId.values()].sort((a, b) => (a.name < b.name ? -1 : 1));
}
