import { useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { type Doc, type Schemas, upload } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { useThrottled } from "../../hooks/useThrottled";
import { BulkActions, DocumentRow } from "./DocumentRows";
import { Folders } from "./Folders";
import { useKb } from "./KbPage";

interface Sending {
  name: string;
  share: number;
  error?: string;
}

/** Uploads files two at a time and reports their progress. */
function useSending(api: string) {
  const [sending, setSending] = useState<Sending[]>([]);
  const add = async (files: File[]) => {
    const queue = [...files];
    setSending((before) => [
      ...before.filter((item) => item.error),
      ...files.map((file) => ({ name: file.name, share: 0 })),
    ]);
    const update = (name: string, change: Partial<Sending> | null) =>
      setSending((before) =>
        before.flatMap((item) =>
          item.name !== name ? [item] : change === null ? [] : [{ ...item, ...change }],
        ),
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
  const { kb, documents, more, api, path } = useKb();
  const { sending, add } = useSending(api);
  const [nameFilter, setNameFilter] = useState("");
  const [state, setState] = useState("all");
  const [tag, setTag] = useState("");
  const [address, setAddress] = useSearchParams();
  const source = address.get("source") ?? "";
  const folder = address.get("folder") ?? "";
  const narrow = (name: string, value: string) =>
    setAddress((before) => {
      before.delete(name);
      if (value) before.set(name, value);
      return before;
    });
  const { data: sources } = useResource<Schemas["Page_SourceOut_"]>(`${api}/sources`);
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  // The service applies the filters: this list may only have the first of many documents.
  const asked = [
    source && `source=${source}`,
    folder && `folder=${encodeURIComponent(folder)}`,
    nameFilter.length > 1 && `name=${encodeURIComponent(nameFilter)}`,
    tag.includes("=") && `tag=${encodeURIComponent(tag)}`,
    ["indexed", "failed", "removed"].includes(state) && `state=${state}`,
    state === "warned" && "warnings=true",
    state === "outdated" && "outdated=true",
  ].filter(Boolean);
  const mark = useThrottled(`${kb.documents}.${kb.pending}`);
  const narrowed = useResource<Schemas["Page_DocumentOut_"]>(
    asked.length ? `${api}/documents?limit=500&${asked.join("&")}&turn=${mark}` : null,
  );
  const [over, setOver] = useState(false);
  const picker = useRef<HTMLInputElement>(null);
  const known = new Map((documents ?? []).map((document) => [document.id, document]));
  const shown = asked.length
    ? (narrowed.data?.items ?? [])
        .map((document) => known.get(document.id) ?? document)
        .filter((document) => fits(document, state))
    : (documents ?? []).filter((document) => fits(document, state));
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
      className={
        over ? "outline-primary rounded-box outline-2 outline-offset-8 outline-dashed" : ""
      }
    >
      <input
        ref={picker}
        type="file"
        multiple
        className="sr-only"
        aria-label="Files to add"
        onChange={(e) => void add([...(e.target.files ?? [])])}
      />
      {documents?.length === 0 ? (
        <div className="sheet p-10 text-center">
          <p className="text-lg">No documents yet.</p>
          <p className="soft mt-1 mb-5">
            {team.mayEdit
              ? "Drop files here, or choose them: PDF, office documents, slides, sheets, web pages, books, mail, pictures, archives."
              : "An editor of the team can add documents."}
          </p>
          {team.mayEdit && (
            <span className="flex justify-center gap-3">
              {addButton}
              <Link to={`${path}/write`} className="btn">
                Write a document
              </Link>
              <Link to={`${path}/sources`} className="btn">
                Connect a source
              </Link>
            </span>
          )}
        </div>
      ) : (
        <>
          <div className="mb-3 flex flex-wrap gap-2.5">
            <input
              className="input w-full max-w-65"
              placeholder="Find a document…"
              aria-label="Search documents"
              value={nameFilter}
              onChange={(e) => setNameFilter(e.target.value)}
            />
            <select
              className="select w-auto"
              aria-label="State"
              value={state}
              onChange={(e) => setState(e.target.value)}
            >
              <option value="all">State: all</option>
              <option value="indexed">Indexed</option>
              <option value="pending">Being indexed</option>
              <option value="failed">Failed</option>
              <option value="warned">With warnings</option>
              <option value="outdated">Not in force</option>
              <option value="removed">Removed at source</option>
            </select>
            {sources && sources.items.length > 0 && (
              <select
                className="select w-auto"
                aria-label="Source"
                value={source}
                onChange={(event) => narrow("source", event.target.value)}
              >
                <option value="">Source: all</option>
                <option value="none">Added by people</option>
                {sources.items.map((item) => (
                  <option key={item.id} value={item.id}>
                    {item.name}
                  </option>
                ))}
              </select>
            )}
            <input
              className="input w-36"
              placeholder="tag=value"
              aria-label="Tag"
              value={tag}
              onChange={(event) => setTag(event.target.value)}
            />
            {team.mayEdit && (
              <span className="ml-auto flex gap-2.5">
                <Link to={`${path}/write`} className="btn">
                  Write
                </Link>
                {addButton}
              </span>
            )}
          </div>
          {picked.size > 0 && (
            <BulkActions api={api} picked={picked} onDone={() => setPicked(new Set())} />
          )}
          <div className="flex flex-col gap-5 min-[900px]:flex-row">
            <div className="shrink-0 empty:hidden min-[900px]:w-48">
              <Folders
                api={api}
                chosen={folder}
                mark={kb.documents}
                onChoose={(value) => narrow("folder", value)}
              />
            </div>
            <div className="sheet min-w-0 flex-1 overflow-x-auto">
              <table className="table">
                <thead>
                  <tr>
                    {team.mayEdit && (
                      <th className="w-8">
                        <input
                          type="checkbox"
                          className="checkbox checkbox-sm"
                          aria-label="Select all shown"
                          checked={
                            shown.length > 0 && shown.every((document) => picked.has(document.id))
                          }
                          onChange={(event) =>
                            setPicked(
                              new Set(
                                event.target.checked ? shown.map((document) => document.id) : [],
                              ),
                            )
                          }
                        />
                      </th>
                    )}
                    <th>Document</th>
                    <th>State</th>
                    <th className="hidden text-right sm:table-cell">Pages</th>
                    <th className="hidden text-right sm:table-cell">Passages</th>
                    <th className="hidden text-right sm:table-cell">Tokens</th>
                    <th className="hidden text-right sm:table-cell">Size</th>
                    <th className="hidden sm:table-cell">Changed</th>
                    {team.mayEdit && (
                      <th>
                        <span className="sr-only">Actions</span>
                      </th>
                    )}
                  </tr>
                </thead>
                <tbody>
                  {shown.map((document) => (
                    <DocumentRow
                      key={document.id}
                      document={document}
                      api={api}
                      path={path}
                      mayEdit={team.mayEdit}
                      picked={picked.has(document.id)}
                      onPick={(on) =>
                        setPicked(
                          new Set(
                            on
                              ? [...picked, document.id]
                              : [...picked].filter((key) => key !== document.id),
                          ),
                        )
                      }
                    />
                  ))}
                </tbody>
              </table>
              {documents && shown.length === 0 && (
                <p className="soft p-6 text-center">No documents match.</p>
              )}
            </div>
          </div>
          {more && asked.length === 0 && (
            <button type="button" className="btn mt-3" onClick={() => void more()}>
              Show more
            </button>
          )}
        </>
      )}
      <ul className="mt-4" aria-label="Uploading">
        {sending.map((item) => (
          <li key={item.name} className="flex items-center gap-3 py-1">
            {item.error ? (
              <Failure message={`${item.name}: ${item.error}`} />
            ) : (
              <>
                <progress className="progress progress-primary w-24" value={item.share} max={1} />{" "}
                sending {item.name}
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
  if (state === "warned") return document.revision.warnings.length > 0;
  return state === "outdated" ? document.validity?.outdated != null : document.state === state;
}
