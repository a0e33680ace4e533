import { describe, expect, it } from "vitest";
import type { Doc } from "../api/client";
import { merge } from "./useDocuments";

const document = (name: string, changed = 0) =>
  ({ id: name, name, changed_at: new Date(changed).toISOString() }) as Doc;
const names = (list: { documents: Doc[] }) => list.documents.map((item) => item.name);

describe("merging events into a list", () => {
  it("adds, replaces and removes, in the order of names", () => {
    const list = { documents: [document("b"), document("d")], next: null };
    const merged = merge(list, [
      ["c", document("c")],
      ["b", null],
      ["d", document("d", 5)],
    ]);
    expect(names(merged)).toEqual(["c", "d"]);
    expect(merged.documents[1]?.changed_at).toBe(new Date(5).toISOString());
  });

  it("keeps the most recent changes past the end of a partly loaded list", () => {
    const events = Array.from({ length: 150 }, (_, i): [string, Doc] => {
      const name = `z${String(i).padStart(3, "0")}`;
      return [name, document(name, i)];
    });
    const merged = merge({ documents: [document("a")], next: "m" }, events);
    expect(merged.documents).toHaveLength(101);
    expect(names(merged).at(1)).toBe("z050");
  });
});
