import type { Doc } from "../api/client";
import { useFacts } from "../api/useFacts";

/** A test of whether a document is still being processed. */
export function useInProgress(): (document: Doc) => boolean {
  const settled = useFacts()?.settled_states;
  return (document) => !settled?.includes(document.state);
}
