import { type FormEvent, useState } from "react";
import { Link, useNavigate } from "react-router";
import { type Kb, type Schemas, send, upload } from "../../api/client";
import { Ago, count, Failure } from "../../components/text";
import { useLoad } from "../../hooks/useLoad";
import { useTeam } from "../../hooks/useSession";
import { DEFAULT_SPLITTING, SplittingFields } from "../kb/Splitting";

export function KbsPage() {
  const team = useTeam();
  const { data, error } = useLoad<Schemas["Page_KbOut_"]>(`${team.api}/kbs`);
  const [creating, setCreating] = useState(false);
  const lasting = data?.items.filter((kb) => !kb.expires_at) ?? [];
  const tried = data?.items.filter((kb) => kb.expires_at) ?? [];
  return (
    <>
      <div className="mb-5 flex flex-wrap items-center gap-4">
        <h1 className="text-[27px]">Knowledge bases</h1>
        {team.mayEdit && !creating && lasting.length > 0 && (
          <button type="button" className="btn btn-primary ml-auto" onClick={() => setCreating(true)}>
            Create a knowledge base
          </button>
        )}
      </div>
      <Failure message={error} />
      {creating && <CreateKb onCancel={() => setCreating(false)} />}
      {data && lasting.length === 0 && !creating && (
        <div className="sheet p-8 text-center">
          <p className="text-lg">{team.name} has no knowledge base yet.</p>
          <p className="soft mt-1 mb-5">A knowledge base holds documents that belong together, and answers from them alone.</p>
          {team.mayEdit && (
            <button type="button" className="btn btn-primary" onClick={() => setCreating(true)}>
              Create a knowledge base
            </button>
          )}
        </div>
      )}
      <ul className="grid gap-4 md:grid-cols-2">
        {lasting.map((kb) => (
          <li key={kb.id}>
            <KbCard kb={kb} team={team.slug} />
          </li>
        ))}
      </ul>
      {team.mayEdit && <TryDocument />}
      {tried.length > 0 && (
        <section className="mt-6">
          <h2 className="mb-2 text-lg">Documents being tried</h2>
          <ul className="sheet divide-base-300 divide-y">
            {tried.map((kb) => (
              <li key={kb.id} className="flex flex-wrap gap-x-4 px-4 py-2.5">
                <Link className="link-hover font-medium" to={`/t/${team.slug}/kbs/${kb.slug}/ask`}>
                  {kb.name}
                </Link>
                <span className="soft ml-auto">goes away {new Date(kb.expires_at!).toLocaleString()}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  );
}

function KbCard({ kb, team }: { kb: Kb; team: string }) {
  const dot = kb.failed ? "bg-error" : kb.pending ? "bg-primary" : "bg-success";
  const word = kb.documents === 0 ? "empty" : kb.pending ? `${kb.pending} being indexed` : kb.failed ? `${kb.failed} failed` : "ready";
  return (
    <Link to={`/t/${team}/kbs/${kb.slug}`} className="sheet hover:border-primary block p-5">
      <span className="font-serif text-xl font-semibold">{kb.name}</span>
      {kb.description && <p className="soft mt-0.5">{kb.description}</p>}
      <p className="mt-3 flex flex-wrap items-center gap-x-4">
        <span className="flex items-center gap-2">
          <span className={`size-2 rounded-full ${dot}`} aria-hidden /> {word}
        </span>
        <span className="soft">
          {count(kb.documents)} documents · {count(kb.passages)} passages
        </span>
        <span className="soft ml-auto">
          changed <Ago at={kb.changed_at ?? kb.created_at} />
        </span>
      </p>
    </Link>
  );
}

function CreateKb({ onCancel }: { onCancel: () => void }) {
  const team = useTeam();
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [description, setDescription] = useState("");
  const [splitting, setSplitting] = useState(DEFAULT_SPLITTING);
  const [error, setError] = useState<string | null>(null);
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    try {
      const kb = await send<Kb>("POST", `${team.api}/kbs`, { name, description, splitting });
      navigate(`/t/${team.slug}/kbs/${kb.slug}`);
    } catch (problem) {
      setError((problem as Error).message);
    }
  };
  return (
    <form className="sheet mb-5 grid gap-4 p-5 md:grid-cols-[1fr_1.5fr_auto_auto] md:items-end" onSubmit={submit}>
      <label className="flex flex-col gap-1">
        Name
        <input className="input w-full" autoFocus required maxLength={120} value={name} onChange={(e) => setName(e.target.value)} />
      </label>
      <label className="flex flex-col gap-1">
        What it holds
        <input className="input w-full" maxLength={500} value={description} onChange={(e) => setDescription(e.target.value)} />
      </label>
      <button className="btn btn-primary">Create</button>
      <button type="button" className="btn" onClick={onCancel}>
        Cancel
      </button>
      <details className="md:col-span-4">
        <summary className="soft cursor-pointer">How documents are cut into passages</summary>
        <div className="mt-3">
          <SplittingFields splitting={splitting} onChange={setSplitting} />
        </div>
      </details>
      <Failure message={error} />
    </form>
  );
}

/** One file asked at once, in a knowledge base that vanishes after a day. */
function TryDocument() {
  const team = useTeam();
  const navigate = useNavigate();
  const [share, setShare] = useState<number | null>(null);
  const [error, setError] = useState<string | null>(null);
  const choose = async (file: File | undefined) => {
    if (!file) return;
    setError(null);
    setShare(0);
    try {
      const name = `Try ${file.name.slice(0, 80)} ${new Date().toLocaleTimeString()}`;
      const kb = await send<Kb>("POST", `${team.api}/kbs`, { name, throwaway: true });
      await upload(`${team.api}/kbs/${kb.slug}/documents`, file, setShare);
      navigate(`/t/${team.slug}/kbs/${kb.slug}/ask`);
    } catch (problem) {
      setError((problem as Error).message);
      setShare(null);
    }
  };
  return (
    <section
      className="border-base-300 rounded-box mt-6 flex flex-wrap items-center gap-x-5 gap-y-3 border border-dashed p-5"
      onDragOver={(event) => event.preventDefault()}
      onDrop={(event) => {
        event.preventDefault();
        void choose(event.dataTransfer.files[0]);
      }}
    >
      <div>
        <h2 className="text-lg">Try a document</h2>
        <p className="soft">Ask one file at once, before building anything. It vanishes by itself after a day.</p>
      </div>
      <label className="btn ml-auto">
        {share === null ? "Choose a file" : "Sending…"}
        <input type="file" className="sr-only" disabled={share !== null} onChange={(e) => void choose(e.target.files?.[0])} />
      </label>
      <Failure message={error} />
    </section>
  );
}
