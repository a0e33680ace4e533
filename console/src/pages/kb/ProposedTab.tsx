import { useState } from "react";
import { Link } from "react-router";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { ChangeRows } from "../../components/ChangeRows";
import { Ago, Failure } from "../../components/text";
import { useKb } from "./KbPage";

type Proposed = Schemas["ProposedDocumentOut"];

/** Documents that programs propose: read, accepted or dismissed. */
export function ProposedTab() {
  const { kb, api, path } = useKb();
  const list = useResource<Schemas["Page_ProposedDocumentOut_"]>(
    `${api}/proposed-documents?turn=${kb.proposed_documents}`,
  );
  const [message, setMessage] = useState<string | null>(null);
  if (!list.data) return <Failure message={list.error} />;
  const done = (text: string) => {
    setMessage(text);
    list.reload();
  };
  return (
    <div className="max-w-4xl">
      <p className="soft mb-4">
        {kb.accepts_proposed_documents
          ? "Programs with an editor's key may propose documents here. Nothing is searched or cited until you accept it."
          : "No more documents are accepted for review; switch it on in the settings."}
      </p>
      <p role="status" className="mb-3 empty:hidden">
        {message}
      </p>
      {list.data.items.length === 0 ? (
        <p className="sheet p-8 text-center">No document waits for a decision.</p>
      ) : (
        <ul className="flex flex-col gap-4">
          {list.data.items.map((proposed) => (
            <Item
              key={proposed.id}
              proposed={proposed}
              api={`${api}/proposed-documents/${proposed.id}`}
              path={path}
              onDone={done}
            />
          ))}
        </ul>
      )}
    </div>
  );
}

function Item({
  proposed,
  api,
  path,
  onDone,
}: {
  proposed: Proposed;
  api: string;
  path: string;
  onDone: (message: string) => void;
}) {
  const { data } = useResource<Schemas["ProposedDocumentText"]>(api);
  const [note, setNote] = useState("");
  const [error, setError] = useState<string | null>(null);
  const decide = (action: "accept" | "dismiss", message: string) =>
    void send("POST", `${api}/${action}`, action === "dismiss" ? { note } : undefined).then(
      () => onDone(message),
      (problem: Error) => setError(problem.message),
    );
  return (
    <li className="sheet p-5">
      <h2 className="text-lg break-words">{proposed.name}</h2>
      <p className="soft text-[13px]">
        {proposed.replaces && proposed.document_id ? (
          <>
            another text for{" "}
            <Link className="link" to={`${path}/documents/${proposed.document_id}`}>
              this document
            </Link>
          </>
        ) : (
          "a new document"
        )}
        {` · proposed by ${proposed.proposed_by} `}
        <Ago at={proposed.created_at} />
      </p>
      {proposed.reason && <p className="mt-2 break-words">{proposed.reason}</p>}
      {data && (
        <section
          className="border-base-300 mt-3 max-h-96 overflow-auto border-y py-2"
          aria-label={`Text of ${proposed.name}`}
          // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by keyboard
          tabIndex={0}
        >
          {data.changes.length > 0 ? (
            <table className="set w-full max-w-none table-fixed text-[15px]">
              <thead className="font-sans text-[13px]">
                <tr>
                  <th className="w-1/2 px-5 py-2 text-left">Now</th>
                  <th className="px-5 py-2 text-left">Proposed</th>
                </tr>
              </thead>
              <tbody>
                <ChangeRows changes={data.changes} />
              </tbody>
            </table>
          ) : (
            <pre className="font-mono text-[13px] break-words whitespace-pre-wrap">{data.text}</pre>
          )}
        </section>
      )}
      <Failure message={error} />
      <div className="mt-4 flex flex-wrap items-center gap-3">
        <button
          type="button"
          className="btn btn-primary"
          onClick={() => decide("accept", `${proposed.name} was accepted; it is being indexed.`)}
        >
          Accept
        </button>
        <button
          type="button"
          className="btn"
          onClick={() => decide("dismiss", `${proposed.name} was dismissed.`)}
        >
          Dismiss
        </button>
        <input
          className="input min-w-40 flex-1"
          aria-label={`Note on ${proposed.name}`}
          placeholder="Note, if you dismiss it"
          maxLength={2000}
          value={note}
          onChange={(event) => setNote(event.target.value)}
        />
      </div>
    </li>
  );
}
