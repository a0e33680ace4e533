import type { Kb } from "../../api/client";
import { count } from "../../components/text";
import { Group } from "./fields";
import type { Settings } from "./words";

/** The knowledge bases, each with a description of its use. */
export function KbChoice({
  settings,
  set,
  kbs,
}: {
  settings: Settings;
  set: (change: Partial<Settings>) => void;
  kbs: Kb[];
}) {
  const parts = settings.kbs ?? [];
  const change = (kb: string, next: Partial<(typeof parts)[number]>) =>
    set({ kbs: parts.map((part) => (part.kb === kb ? { ...part, ...next } : part)) });
  return (
    <Group
      title="Knowledge"
      hint="With several, describe what each one is for. A question is sent to those whose description is closest."
    >
      {kbs.map((kb) => {
        const part = parts.find((item) => item.kb === kb.id);
        return (
          <div key={kb.id}>
            <label className="flex items-center gap-2.5 font-medium">
              <input
                type="checkbox"
                className="checkbox checkbox-sm checkbox-primary"
                checked={part !== undefined}
                onChange={() =>
                  set({
                    kbs: part
                      ? parts.filter((item) => item.kb !== kb.id)
                      : [...parts, { kb: kb.id, use_for: "", tags: {} }],
                  })
                }
              />
              {kb.name} <span className="soft font-normal">{count(kb.documents)} documents</span>
            </label>
            {part && (
              <div className="mt-1.5 ml-7 grid gap-1.5 sm:grid-cols-[2fr_1fr]">
                <input
                  className="input w-full"
                  aria-label={`What ${kb.name} is used for`}
                  placeholder="Use this for…"
                  maxLength={300}
                  value={part.use_for ?? ""}
                  onChange={(e) => change(kb.id, { use_for: e.target.value })}
                />
                <input
                  className="input w-full"
                  aria-label={`Tags of ${kb.name}`}
                  placeholder="only tag=value"
                  defaultValue={Object.entries(part.tags ?? {})
                    .map(([tag, value]) => `${tag}=${value}`)
                    .join(", ")}
                  onBlur={(e) =>
                    change(kb.id, {
                      tags: Object.fromEntries(
                        e.target.value
                          .split(",")
                          .map((pair) => pair.split("=").map((side) => side.trim()))
                          .filter((pair) => pair.length === 2 && pair[0]),
                      ) as Record<string, string>,
                    })
                  }
                />
              </div>
            )}
          </div>
        );
      })}
      {kbs.length === 0 && (
        <p className="soft">The team has no knowledge base yet. Create one first.</p>
      )}
    </Group>
  );
}
