import { useState } from "react";
import { Link } from "react-router";
import { type Doc, send } from "../../api/client";
import { Ago, count, Failure, Outdated, State, size } from "../../components/text";

/** Changes to several documents at once. */
export function BulkActions({
  api,
  picked,
  onDone,
}: {
  api: string;
  picked: ReadonlySet<string>;
  onDone: () => void;
}) {
  const [message, setMessage] = useState<string | null>(null);
  const [tags, setTags] = useState("");
  const act = (action: string, more: object = {}) =>
    send("POST", `${api}/documents/bulk`, {
      action,
      chosen: { documents: [...picked] },
      ...more,
    }).then(onDone, (problem: Error) => setMessage(problem.message));
  const pairs = tags
    .split(",")
    .map((part) => part.trim())
    .filter((part) => part.includes("="));
  return (
    <div
      className="sheet mb-3 flex flex-wrap items-center gap-3 px-4 py-2.5"
      role="toolbar"
      aria-label="DocumentSelection documents"
    >
      <b>{count(picked.size)} chosen</b>
      <button type="button" className="btn btn-sm" onClick={() => void act("reread")}>
        Read again
      </button>
      <button
        type="button"
        className="btn btn-sm"
        onClick={() => confirm(`Delete ${picked.size} documents?`) && void act("delete")}
      >
        Delete
      </button>
      <input
        className="input input-sm w-48"
        placeholder="year=2026, area=port"
        aria-label="Tags to add"
        value={tags}
        onChange={(event) => setTags(event.target.value)}
      />
      <button
        type="button"
        className="btn btn-sm"
        disabled={pairs.length === 0}
        onClick={() =>
          void act("tag", {
            set_tags: Object.fromEntries(pairs.map((pair) => pair.split(/=(.*)/s).slice(0, 2))),
          })
        }
      >
        Tag
      </button>
      <button type="button" className="btn btn-sm btn-ghost" onClick={onDone}>
        Leave
      </button>
      <Failure message={message} />
    </div>
  );
}

export function DocumentRow({
  document,
  api,
  path,
  mayEdit,
  picked,
  onPick,
}: {
  document: Doc;
  api: string;
  path: string;
  mayEdit: boolean;
  picked: boolean;
  onPick: (on: boolean) => void;
}) {
  const [error, setError] = useState<string | null>(null);
  const { revision } = document;
  const act = (call: Promise<unknown>) => call.catch((problem: Error) => setError(problem.message));
  const remove = () => {
    if (confirm(`Delete ${document.name}? It disappears from answers at once.`))
      void act(send("DELETE", `${api}/documents/${document.id}`));
  };
  return (
    <tr>
      {mayEdit && (
        <td>
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            aria-label={`Select ${document.name}`}
            checked={picked}
            onChange={(event) => onPick(event.target.checked)}
          />
        </td>
      )}
      <td>
        <Link to={`${path}/documents/${document.id}`} className="link-hover font-medium">
          {document.title}
        </Link>
        {document.description && (
          <p className="line-clamp-1 max-w-xl text-[13px]">{document.description}</p>
        )}
        <div className="soft text-[12.5px]">
          {document.name}
          {Object.entries(document.tags).map(([tag, value]) => (
            <span
              key={tag}
              className="border-base-300 ml-2 rounded-full border px-2 whitespace-nowrap"
            >
              {tag}: {value}
            </span>
          ))}
        </div>
        <Failure message={error} />
      </td>
      <td>
        <State document={document} />
        <Outdated outdated={document.validity?.outdated} />
        {revision.warnings.length > 0 && (
          <span className="text-warning text-[12.5px]" title={revision.warnings.join("\n")}>
            {count(revision.warnings.length)}{" "}
            {revision.warnings.length === 1 ? "warning" : "warnings"}
          </span>
        )}
      </td>
      <td className="hidden text-right sm:table-cell">{count(revision.pages)}</td>
      <td className="hidden text-right sm:table-cell">{count(revision.passages)}</td>
      <td className="hidden text-right sm:table-cell">{count(revision.tokens)}</td>
      <td className="hidden text-right whitespace-nowrap sm:table-cell">{size(revision.size)}</td>
      <td className="hidden whitespace-nowrap sm:table-cell">
        <Ago at={document.changed_at} />
      </td>
      {mayEdit && (
        <td className="text-right whitespace-nowrap">
          {document.state === "failed" && (
            <button
              type="button"
              className="link-hover text-primary mr-3 cursor-pointer"
              onClick={() => void act(send("POST", `${api}/documents/${document.id}/retry`))}
            >
              Retry
            </button>
          )}
          <button
            type="button"
            className="link-hover soft cursor-pointer"
            aria-label={`Delete ${document.name}`}
            onClick={remove}
          >
            Delete
          </button>
        </td>
      )}
    </tr>
  );
}
