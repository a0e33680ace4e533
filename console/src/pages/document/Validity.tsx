import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { type Doc, type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Failure, outdatedText } from "../../components/text";
import type { PartProps } from "./Tags";

type Mark = Schemas["ValidityIn"]["mark"];

const FROM_TEXT = "";
const CHOICES: [Mark | typeof FROM_TEXT, string][] = [
  [FROM_TEXT, "as its text says"],
  ["current", "in force"],
  ["withdrawn", "withdrawn"],
  ["replaced", "replaced by another document"],
];

/** What replaces a document, or why else it is not in force, above its text. */
export function OutdatedNotice({ document, path }: { document: Doc; path: string }) {
  const outdated = document.validity?.outdated;
  if (!outdated) return null;
  return (
    <p className="text-warning mb-4 font-sans">
      {outdated.reason === "replaced" && outdated.replaced_by_id ? (
        <>
          This document has been replaced by{" "}
          <Link className="link" to={`${path}/${outdated.replaced_by_id}`}>
            {outdated.replaced_by}
          </Link>
          .
        </>
      ) : (
        `This document is not in force: ${outdatedText(outdated)}.`
      )}
    </p>
  );
}

/** Whether a document is in force, for editors to decide. */
export function Validity({ document, api, mayEdit, onChange }: PartProps) {
  const validity = document.validity;
  if (!mayEdit && !validity) return null;
  const facts = [
    validity?.in_force_from && `in force from ${validity.in_force_from}`,
    validity?.in_force_until && `in force until ${validity.in_force_until}`,
    (validity?.replaces ?? []).length > 0 && `replaces ${validity!.replaces!.join(", ")}`,
  ].filter(Boolean);
  return (
    <div className="border-base-300 flex flex-col gap-2 border-t p-4">
      {validity?.outdated && <p className="text-warning">{outdatedText(validity.outdated)}</p>}
      {facts.length > 0 && <p>{facts.join("; ")}</p>}
      {(validity?.statements ?? []).map((statement) => (
        <p key={`${statement.kind} ${statement.start}`} className="font-serif text-[14.5px]">
          {statement.end > 0 ? (
            <Link className="link-hover" to={`?from=${statement.start}&to=${statement.end}`}>
              “{statement.quote}”
            </Link>
          ) : (
            `“${statement.quote}”`
          )}
        </p>
      ))}
      {mayEdit && <Decision document={document} api={api} onChange={onChange} />}
      {validity?.mark && <p className="soft text-[13px]">Decided by {validity.marked_by}.</p>}
    </div>
  );
}

function Decision({
  document,
  api,
  onChange,
}: {
  document: Doc;
  api: string;
  onChange: (document: Doc) => void;
}) {
  const decided = document.validity?.mark ?? FROM_TEXT;
  const [mark, setMark] = useState<Mark | typeof FROM_TEXT>(decided);
  const [replacement, setReplacement] = useState("");
  const [error, setError] = useState<string | null>(null);
  const decide = (event: FormEvent) => {
    event.preventDefault();
    const body = { mark, replaced_by: mark === "replaced" ? replacement : null };
    (mark ? send<Doc>("PUT", `${api}/validity`, body) : send<Doc>("DELETE", `${api}/validity`))
      .then((changed) => {
        onChange(changed);
        setError(null);
      })
      .catch((problem: Error) => setError(problem.message));
  };
  return (
    <form className="flex flex-col gap-2" onSubmit={decide}>
      <label className="flex flex-col gap-1">
        In force
        <span className="flex gap-2">
          <select
            className="select select-sm w-full"
            value={mark}
            onChange={(event) => setMark(event.target.value as Mark | typeof FROM_TEXT)}
          >
            {CHOICES.map(([value, text]) => (
              <option key={value} value={value}>
                {text}
              </option>
            ))}
          </select>
          <button
            type="submit"
            className="btn btn-sm"
            disabled={mark === decided && mark !== "replaced"}
          >
            Decide
          </button>
        </span>
      </label>
      {mark === "replaced" && (
        <Replacement
          documents={api.replace(/\/[^/]+$/, "")}
          without={document.id}
          name={replacement}
          onName={setReplacement}
        />
      )}
      <Failure message={error} />
    </form>
  );
}

/** Names the document that replaces another. */
function Replacement({
  documents,
  without,
  name,
  onName,
}: {
  documents: string;
  without: string;
  name: string;
  onName: (name: string) => void;
}) {
  const found = useResource<Schemas["Page_DocumentOut_"]>(
    `${documents}?limit=20&name=${encodeURIComponent(name)}`,
  );
  return (
    <>
      <input
        className="input input-sm w-full"
        aria-label="Name of the replacement"
        placeholder="Name of the replacement"
        list="replacements"
        required
        value={name}
        onChange={(event) => onName(event.target.value)}
      />
      <datalist id="replacements">
        {found.data?.items
          .filter((item) => item.id !== without)
          .map((item) => (
            <option key={item.id} value={item.name}>
              {item.title}
            </option>
          ))}
      </datalist>
    </>
  );
}
