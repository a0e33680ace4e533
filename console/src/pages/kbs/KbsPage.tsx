import { type FormEvent, useState } from "react";
import { Link, useNavigate } from "react-router";
import { type Kb, type Schemas, send, upload } from "../../api/client";
import { useFacts } from "../../api/useFacts";
import { useResource } from "../../api/useResource";
import { LabelledInput } from "../../components/forms";
import { Ago, count, Failure, Flagged } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { EmbedderChoice } from "../kb/EmbedderChoice";
import { type Splitting, SplittingFields } from "../kb/Splitting";
import { FreshWord, Strip } from "../sources/words";

type SourceFreshness = Schemas["SourceFreshness"];

export function KbsPage() {
  const team = useTeam();
  const { data, error } = useResource<Schemas["Page_KbOut_"]>(`${team.api}/kbs`);
  const { data: sources } = useResource<SourceFreshness[]>(`${team.api}/freshness`);
  const [creating, setCreating] = useState(false);
  const lasting = data?.items.filter((kb) => !kb.expires_at) ?? [];
  const tried = data?.items.filter((kb) => kb.expires_at) ?? [];
  return (
    <>
      <div className="mb-5 flex flex-wrap items-center gap-4">
        <h1 className="text-[27px]">Knowledge bases</h1>
        {team.mayEdit && !creating && lasting.length > 0 && (
          <button
            type="button"
            className="btn btn-primary ml-auto"
            onClick={() => setCreating(true)}
          >
            Create a knowledge base
          </button>
        )}
      </div>
      <Failure message={error} />
      {creating && <CreateKb onCancel={() => setCreating(false)} />}
      {data && lasting.length === 0 && !creating && (
        <div className="sheet p-8 text-center">
          <p className="text-lg">{team.name} has no knowledge base yet.</p>
          <p className="soft mt-1 mb-5">
            A knowledge base contains documents that belong together, and answers only from them.
          </p>
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
            <KbCard
              kb={kb}
              team={team.slug}
              sources={(sources ?? []).filter((source) => source.kb_id === kb.id)}
            />
          </li>
        ))}
      </ul>
      {team.mayEdit && <TryDocument />}
      {tried.length > 0 && (
        <section className="mt-6">
          <h2 className="mb-2 text-lg">Documents on trial</h2>
          <ul className="sheet divide-base-300 divide-y">
            {tried.map((kb) => (
              <li key={kb.id} className="flex flex-wrap gap-x-4 px-4 py-2.5">
                <Link className="link-hover font-medium" to={`/t/${team.slug}/kbs/${kb.slug}/ask`}>
                  {kb.name}
                </Link>
                <span className="soft ml-auto">
                  expires {new Date(kb.expires_at!).toLocaleString()}
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  );
}

/** Sources shown on a card; the rest are counted. */
const SHOWN = 3;

function KbCard({ kb, team, sources }: { kb: Kb; team: string; sources: SourceFreshness[] }) {
  const dot = kb.failed ? "bg-error" : kb.pending ? "bg-primary" : "bg-success";
  const word =
    kb.documents === 0
      ? "empty"
      : kb.pending
        ? `${kb.pending} being indexed`
        : kb.failed
          ? `${kb.failed} failed`
          : "ready";
  return (
    <div className="sheet hover:border-primary relative h-full p-5">
      <Link
        to={`/t/${team}/kbs/${kb.slug}`}
        className="font-serif text-xl font-semibold after:absolute after:inset-0"
      >
        {kb.name}
      </Link>
      {kb.description && <p className="soft mt-0.5">{kb.description}</p>}
      <p className="mt-3 flex flex-wrap items-center gap-x-4">
        <span className="flex items-center gap-2">
          <span className={`size-2 rounded-full ${dot}`} aria-hidden /> {word}
        </span>
        <span className="soft">
          {count(kb.documents)} documents · {count(kb.passages)} passages
        </span>
        <Flagged number={kb.flagged} />
        <span className="soft ml-auto">
          changed <Ago at={kb.changed_at ?? kb.created_at} />
        </span>
      </p>
      {sources.length > 0 && (
        <ul
          className="border-base-300 mt-3 grid gap-1.5 border-t pt-3"
          aria-label={`Sources of ${kb.name}`}
        >
          {sources.slice(0, SHOWN).map((source) => (
            <li key={source.source_id} className="flex items-center gap-4 text-[13.5px]">
              <span className="w-32 truncate">{source.source}</span>
              <FreshWord freshness={source.freshness} />
              <span className="relative ml-auto">
                <Strip
                  runs={source.recent}
                  path={`/t/${team}/kbs/${kb.slug}/sources/${source.source_id}`}
                />
              </span>
            </li>
          ))}
          {sources.length > SHOWN && (
            <li className="soft text-[13px]">and {sources.length - SHOWN} more sources</li>
          )}
        </ul>
      )}
    </div>
  );
}

function CreateKb({ onCancel }: { onCancel: () => void }) {
  const team = useTeam();
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [description, setDescription] = useState("");
  const defaults = useFacts()?.splitting;
  const [embedder, setEmbedder] = useState<string | null>(null);
  const [changed, setSplitting] = useState<Splitting>();
  const splitting = changed ?? defaults;
  const [error, setError] = useState<string | null>(null);
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    try {
      const kb = await send<Kb>("POST", `${team.api}/kbs`, {
        name,
        description,
        splitting,
        embedder,
      });
      navigate(`/t/${team.slug}/kbs/${kb.slug}`);
    } catch (problem) {
      setError((problem as Error).message);
    }
  };
  return (
    <form
      className="sheet mb-5 grid gap-4 p-5 md:grid-cols-[1fr_1.5fr_auto_auto] md:items-end"
      onSubmit={submit}
    >
      <LabelledInput
        label="Name"
        autoFocus
        required
        maxLength={120}
        value={name}
        onChange={setName}
      />
      <LabelledInput
        label="Description"
        maxLength={500}
        value={description}
        onChange={setDescription}
      />
      <button type="submit" className="btn btn-primary">
        Create
      </button>
      <button type="button" className="btn" onClick={onCancel}>
        Cancel
      </button>
      <details className="md:col-span-4">
        <summary className="soft cursor-pointer">How documents are split and embedded</summary>
        <div className="mt-3 flex flex-wrap items-end gap-4">
          {splitting && <SplittingFields splitting={splitting} onChange={setSplitting} />}
          <EmbedderChoice value={embedder} onChange={setEmbedder} />
        </div>
      </details>
      <Failure message={error} />
    </form>
  );
}

/** Ask one file at once, in a temporary knowledge base. */
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
      const kb = await send<Kb>("POST", `${team.api}/kbs`, { name, temporary: true });
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
        <p className="soft">
          Ask one file at once, before building anything. It is deleted after a day.
        </p>
      </div>
      <label className="btn ml-auto">
        {share === null ? "Choose a file" : "Sending…"}
        <input
          type="file"
          className="sr-only"
          disabled={share !== null}
          onChange={(e) => void choose(e.target.files?.[0])}
        />
      </label>
      <Failure message={error} />
    </section>
  );
}
