import { useState } from "react";
import { type Doc, send } from "../../api/client";
import { Failure } from "../../components/text";

/** What the parts of a document's sheet need: the document, and whether and how it may change. */
export interface PartProps {
  document: Doc;
  api: string;
  mayEdit: boolean;
  onChange: (document: Doc) => void;
}

/** A document's tags, for editors to change. */
export function Tags({ document, api, mayEdit, onChange }: PartProps) {
  const [adding, setAdding] = useState("");
  const [error, setError] = useState<string | null>(null);
  const save = (tags: Record<string, string>) =>
    send<Doc>("PATCH", api, { tags }, { "If-Match": `"${document.version}"` })
      .then((changed) => {
        onChange(changed);
        setAdding("");
        setError(null);
      })
      .catch((problem: Error) => setError(problem.message));
  const entries = Object.entries(document.tags);
  if (!mayEdit && entries.length === 0) return null;
  return (
    <div className="border-base-300 border-t p-4">
      <ul className="flex flex-wrap gap-2" aria-label="Tags">
        {entries.map(([tag, value]) => (
          <li key={tag} className="border-base-300 rounded-full border px-2.5">
            {tag}: {value}
            {mayEdit && (
              <button
                type="button"
                className="soft ml-1.5 cursor-pointer"
                aria-label={`Remove the tag ${tag}`}
                onClick={() =>
                  void save(Object.fromEntries(entries.filter(([key]) => key !== tag)))
                }
              >
                ×
              </button>
            )}
          </li>
        ))}
      </ul>
      {mayEdit && (
        <form
          className="mt-2 flex gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            const [key, ...value] = adding.split("=");
            if (!key || value.length === 0) return setError("Enter a tag as key=value.");
            void save({ ...document.tags, [key.trim()]: value.join("=").trim() });
          }}
        >
          <input
            className="input input-sm w-full"
            aria-label="New tag"
            placeholder="key=value"
            value={adding}
            onChange={(e) => setAdding(e.target.value)}
          />
          <button type="submit" className="btn btn-sm">
            Add tag
          </button>
        </form>
      )}
      <Failure message={error} />
    </div>
  );
}
