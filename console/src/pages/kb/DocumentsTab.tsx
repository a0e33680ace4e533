import { useRef, useState } from "react";
import { Link } from "react-router";
import { type Doc, send, upload } from "../../api/client";
import { Ago, count, Failure, size, State } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { useKb } from "./KbPage";

interface Sending {
  name: string;
  share: number;
  error?: string;
}

/** Sends files two at a time and reports how far each is. */
function useSending(api: string) {
  const [sending, setSending] = useState<Sending[]>([]);
  const add = async (files: File[]) => {
    const queue = [...files];
    setSending((before) => [...before.filter((item) => item.error), ...files.map((file) => ({ name: file.name, share: 0 }))]);
    const update = (name: string, change: Partial<Sending> | null) =>
      setSending((before) =>
        before.flatMap((item) => (item.name !== name ? [item] : change === null ? [] : [{ ...item, ...change }])),
      );
    const work = async () => {
      for (let file = queue.shift(); file; file = queue.shift()) {
        const { name } = file;
        try {
          await upload(`${api}/documents`, file, (share) => update(name, { share }));
          update(name, null);
        } catch (problem) {
          update(name, { error: (problem as Error).message });
        }
      }
    };
    await Promise.all([work(), work()]);
  };
  return { sending, add };
}

export function DocumentsTab() {
  const team = useTeam();
  const { documents, more, api, path } = useKb();
  const { sending, add } = useSending(api);
  const [wanted, setWanted] = useState("");
  const [state, setState] = useState("all");
  const [over, setOver] = useState(false);
  const picker = useRef<HTMLInputElement>(null);
  const shown = (documents ?? []).filter(
    (document) =>
      fits(document, state) &&
      `${document.title} ${document.name} ${document.description}`.toLowerCase().includes(wanted.toLowerCase()),
  );
  const addButton = (
    <button type="button" className="btn btn-primary" onClick={() => picker.current?.click()}>
      Add files
    </button>
  );
  return (
    <div
      onDragOver={(event) => {
        event.preventDefault();
        setOver(team.mayEdit);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        event.preventDefault();
        setOver(false);
        if (team.mayEdit) void add([...event.dataTransfer.files]);
      }}
      className={over ? "outline-primary rounded-box outline-2 outline-offset-8 outline-dashed" : ""}
    >
      <input ref={picker} type="file" multiple className="sr-only" aria-label="Files to add" onChange={(e) => void add([...(e.target.files ?? [])])} />
      {documents?.length === 0 ? (
        <div className="sheet p-10 text-center">
          <p className="text-lg">No documents yet.</p>
          <p className="soft mt-1 mb-5">
            {team.mayEdit ? "Drop files here, or choose them: PDF, office documents, slides, sheets, web pages, books, mail, pictures, archives." : "An editor of the team can add some."}
          </p>
          {team.mayEdit && addButton}
        </div>
      ) : (
        <>
          <div className="mb-3 flex flex-wrap gap-2.5">
            <input className="input w-full max-w-65" placeholder="Find a document…" aria-label="Find a document" value={wanted} onChange={(e) => setWanted(e.target.value)} />
            <select className="select w-auto" aria-label="State" value={state} onChange={(e) => setState(e.target.value)}>
              <option value="all">State: all</option>
              <option value="indexed">Indexed</option>
              <option value="pending">Being indexed</option>
              <option value="failed">Failed</option>
              <option value="warned">With warnings</option>
            </select>
            {team.mayEdit && <span className="ml-auto">{addButton}</span>}
          </div>
          <div className="sheet overflow-x-auto">
            <table className="table">
              <thead>
                <tr>
                  <th>Document</th>
                  <th>State</th>
                  <th className="text-right">Pages</th>
                  <th className="text-right">Passages</th>
                  <th className="text-right">Tokens</th>
                  <th className="text-right">Size</th>
                  <th>Changed</th>
                  {team.mayEdit && <th>
                    <span className="sr-only">Actions</span>
                  </th>}
                </tr>
              </thead>
              <tbody>
                {shown.map((document) => (
                  <Row key={document.id} document={document} api={api} path={path} mayEdit={team.mayEdit} />
                ))}
              </tbody>
            </table>
            {documents && shown.length === 0 && <p className="soft p-6 text-center">No document fits.</p>}
          </div>
          {more && (
            <button type="button" className="btn mt-3" onClick={() => void more()}>
              Show more
            </button>
          )}
        </>
      )}
      <ul className="mt-4" aria-label="Being sent">
        {sending.map((item) => (
          <li key={item.name} className="flex items-center gap-3 py-1">
            {item.error ? (
              <Failure message={`${item.name}: ${item.error}`} />
            ) : (
              <>
                <progress className="progress progress-primary w-24" value={item.share} max={1} /> sending {item.name}
              </>
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}

function fits(document: Doc, state: string): boolean {
  if (state === "all") return true;
  if (state === "pending") return !["indexed", "failed"].includes(document.state);
  return state === "warned" ? document.revision.warnings.length > 0 : document.state === state;
}

function Row({ document, api, path, mayEdit }: { document: Doc; api: string; path: string; mayEdit: boolean }) {
  const [error, setError] = useState<string | null>(null);
  const { revision } = document;
  const act = (call: Promise<unknown>) => call.catch((problem: Error) => setError(problem.message));
  const remove = () => {
    if (confirm(`Delete ${document.name}? It leaves answers at once.`)) void act(send("DELETE", `${api}/documents/${document.id}`));
  };
  return (
    <tr>
      <td>
        <Link to={`${path}/documents/${document.id}`} className="link-hover font-medium">
          {document.title}
        </Link>
        {document.description && <p className="line-clamp-1 max-w-xl text-[13px]">{document.description}</p>}
        <div className="soft text-[12.5px]">
          {document.name}
          {Object.entries(document.tags).map(([tag, value]) => (
            <span key={tag} className="border-base-300 ml-2 rounded-full border px-2">
              {tag}: {value}
            </span>
          ))}
        </div>
        <Failure message={error} />
      </td>
      <td>
        <State document={document} />
        {revision.warnings.length > 0 && (
          <span className="text-warning text-[12.5px]" title={revision.warnings.join("\n")}>
            {count(revision.warnings.length)} {revision.warnings.length === 1 ? "warning" : "warnings"}
          </span>
        )}
      </td>
      <td className="text-right">{count(revision.pages)}</td>
      <td className="text-right">{count(revision.passages)}</td>
      <td className="text-right">{count(revision.tokens)}</td>
      <td className="text-right whitespace-nowrap">{size(revision.size)}</td>
      <td className="whitespace-nowrap">
        <Ago at={document.changed_at} />
      </td>
      {mayEdit && (
        <td className="text-right whitespace-nowrap">
          {document.state === "failed" && (
            <button type="button" className="link-hover text-primary mr-3 cursor-pointer" onClick={() => void act(send("POST", `${api}/documents/${document.id}/retry`))}>
              Retry
            </button>
          )}
          <button type="button" className="link-hover soft cursor-pointer" aria-label={`Delete ${document.name}`} onClick={remove}>
            Delete
          </button>
        </td>
      )}
    </tr>
  );
}
