import type { Schemas } from "./client";
import { useResource } from "./useResource";

/** Defaults and limits of the service; null until they are loaded. */
export function useFacts(): Schemas["FactsOut"] | null {
  return useResource<Schemas["FactsOut"]>("/facts", { constant: true }).data;
}
