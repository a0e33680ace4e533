import { useEffect, useRef, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { type Doc, type Schemas, send } from "../../api/client";
import { Missing } from "../../App";
import { Ago, count, Failure, size, State } from "../../components/text";
import { useLoad } from "../../hooks/useLoad";
import { useTeam } from "../../hooks/useSession";
import { DocumentText } from "./DocumentText";

/** One document: its text by block, the cited words marked, its passages, its tags, its original. */
export function DocumentPage() {
  const team = useTeam();
  const { kb = "", document: id = "" } = useParams();
  const [address] = useSearchParams();
  const api = `${team.api}/kbs/${kb}/documents/${id}`;
  const wanted = address.get("revision");
  const { data: document, error, setData } = useLoad<Doc>(api);
  const readable = document?.serving_revision ? `${api}/text${wanted ? `?revision=${wanted}` : ""}` : null;
  const text = useLoad<Schemas["DocumentTextOut"]>(readable);
  const passages = useLoad<Schemas["Page_PassageOut_"]>(document?.serving_revision ? `${api}/passages?limit=500` : null);
  const [outlined, setOutlined] = useState(false);
  const from = Number(address.get("from") ?? -1);
  const to = Number(address.get("to") ?? -1);
  const sheet = useRef<HTMLDivElement>(null);

  useEffect(() => {
    if (text.data && from >= 0) sheet.current?.querySelector("mark")?.scrollIntoView({ block: "center" });
  }, [text.data, from]);

  if (error) return <Missing />;
  if (!document) return null;
  const shown = text.data?.revision;
  const older = shown && shown.id !== document.serving_revision;
  const page = text.data && from >= 0 ? pageAt(text.data.blocks, from) : null;
  return (
    <>
      <p className="mb-2">
        <Link className="link-hover soft" to={`/t/${team.slug}/kbs/${kb}/documents`}>
          ← All documents
        </Link>
      </p>
      <h1 className="text-[27px] leading-tight">{document.title}</h1>
      <p className="soft mt-1">{document.name}</p>
      <div className="mt-5 grid gap-6 min-[900px]:grid-cols-[minmax(0,1fr)_290px]">
        <div className="min-[900px]:order-2">
          <div className="sheet min-[900px]:sticky min-[900px]:top-4">
            <Facts document={document} />
            <Tags document={document} api={api} mayEdit={team.mayEdit} onChange={setData} />
            <div className="border-base-300 flex flex-wrap gap-2 border-t p-4">
              <a className="btn btn-primary btn-sm" href={`/api/v1${api}/original${page ? `#page=${page}` : ""}`} target="_blank" rel="noreferrer">
                Open the original
              </a>
              <a className="btn btn-sm" href={`/api/v1${api}/original?download=true`}>
                Download
              </a>
            </div>
            <label className="border-base-300 flex cursor-pointer items-center gap-2 border-t p-4">
              <input type="checkbox" className="toggle toggle-sm" checked={outlined} onChange={(e) => setOutlined(e.target.checked)} />
              Show the {count(passages.data?.items.length)} passages
            </label>
          </div>
        </div>
        <article className="sheet px-6 py-7 min-[900px]:px-10" ref={sheet}>
          {older && <p className="text-warning mb-4">This is revision {shown.number}; a newer one is in use by now.</p>}
          {document.state === "failed" && <Failure message={document.error} />}
          {!document.serving_revision && document.state !== "failed" && <p className="soft">The document is being read…</p>}
          <Failure message={text.error} />
          {text.data && <DocumentText text={text.data} from={from} to={to} passages={outlined && !older ? (passages.data?.items ?? []) : []} />}
        </article>
      </div>
    </>
  );
}

function pageAt(blocks: Schemas["BlockOut"][], position: number): number | null {
  return blocks.find((block) => block.start <= position && position < block.end)?.page ?? null;
}

function Facts({ document }: { document: Doc }) {
  const { revision } = document;
  const seconds = Object.entries(revision.seconds).map(([stage, value]) => `${stage} ${value.toFixed(2)} s`);
  const facts: [string, React.ReactNode][] = [
    ["State", <State key="s" document={document} />],
    ["Pages", count(revision.pages)],
    ["Passages", count(revision.passages)],
    ["Tokens", count(revision.tokens)],
    ["Size", size(revision.size)],
    ["Language", revision.language ?? "–"],
    ["Revision", revision.number],
    ["Added", <Ago key="a" at={revision.created_at} />],
    ["Time", seconds.join(", ") || "–"],
  ];
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 p-4">
      {facts.map(([name, value]) => (
        <div key={name} className="contents">
          <dt className="soft">{name}</dt>
          <dd className="tabular-nums">{value}</dd>
        </div>
      ))}
      {revision.warnings.map((warning) => (
        <dd key={warning} className="text-warning col-span-2">
          {warning}
        </dd>
      ))}
    </dl>
  );
}

function Tags({ document, api, mayEdit, onChange }: { document: Doc; api: string; mayEdit: boolean; onChange: (document: Doc) => void }) {
  const [adding, setAdding] = useState("");
  const [error, setError] = useState<string | null>(null);
  const save = (tags: Record<string, string>) =>
    send<Doc>("PATCH", api, { tags }, { "If-Match": `"${document.version}"` })
      .then((changed) => (onChange(changed), setAdding(""), setError(null)))
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
              <button type="button" className="soft ml-1.5 cursor-pointer" aria-label={`Remove the tag ${tag}`} onClick={() => void save(Object.fromEntries(entries.filter(([key]) => key !== tag)))}>
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
            if (!key || value.length === 0) return setError("Write a tag as key=value.");
            void save({ ...document.tags, [key.trim()]: value.join("=").trim() });
          }}
        >
          <input className="input input-sm w-full" aria-label="New tag" placeholder="key=value" value={adding} onChange={(e) => setAdding(e.target.value)} />
          <button className="btn btn-sm">Add tag</button>
        </form>
      )}
      <Failure message={error} />
    </div>
  );
}
