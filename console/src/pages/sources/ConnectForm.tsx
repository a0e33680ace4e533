import { type FormEvent, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { LabelledInput } from "../../components/forms";
import {
  defaults,
  filled,
  type ObjectSchema,
  SchemaFields,
  type Values,
} from "../../components/SchemaForm";
import { count, Failure, size } from "../../components/text";

type Kind = Schemas["KindOut"];
type Trial = Schemas["SourceCheck"];

/** Choose a kind of source, fill in its form, preview it, connect it. */
export function ConnectForm({ api, onDone }: { api: string; onDone: () => void }) {
  const { data: kinds, error } = useResource<Kind[]>("/source-kinds");
  const [kind, setKind] = useState<Kind | null>(null);
  if (!kinds) return <Failure message={error} />;
  if (kind) return <KindForm api={api} kind={kind} onBack={() => setKind(null)} onDone={onDone} />;
  return (
    <>
      <div className="mb-4 flex items-baseline justify-between">
        <h2 className="text-[19px]">Where are the documents?</h2>
        <button type="button" className="btn btn-sm" onClick={onDone}>
          Cancel
        </button>
      </div>
      <ul className="grid gap-3 sm:grid-cols-2 lg:grid-cols-3">
        {kinds.map((item) => (
          <li key={item.name}>
            <button
              type="button"
              className="sheet hover:border-primary h-full w-full cursor-pointer p-4 text-left"
              onClick={() => setKind(item)}
            >
              <span className="font-semibold">{item.title}</span>
              <span className="soft mt-1 block">{item.description}</span>
            </button>
          </li>
        ))}
      </ul>
    </>
  );
}

function KindForm({
  api,
  kind,
  onBack,
  onDone,
}: {
  api: string;
  kind: Kind;
  onBack: () => void;
  onDone: () => void;
}) {
  const settingsSchema = kind.settings as ObjectSchema;
  const credentialSchema = kind.credentials as ObjectSchema;
  const [name, setName] = useState("");
  const [settings, setSettings] = useState<Values>(defaults(settingsSchema));
  const [credentials, setCredentials] = useState<Values>({});
  const [care, setCare] = useState<Care>({
    schedule: kind.watchable || kind.pushed ? "none" : "every",
    every: 15,
    cron: "",
    target: 15,
  });
  const [trial, setTrial] = useState<Trial | null>(null);
  const [looking, setLooking] = useState(false);
  const [error, setError] = useState<string | null>(null);
  const body = { kind: kind.name, settings: filled(settings), credentials: filled(credentials) };
  const look = async () => {
    setLooking(true);
    setError(null);
    setTrial(null);
    try {
      setTrial(await send<Trial>("POST", `${api}/sources/check`, body));
    } catch (problem) {
      setError((problem as Error).message);
    }
    setLooking(false);
  };
  const connect = (event: FormEvent) => {
    event.preventDefault();
    send("POST", `${api}/sources`, { name, ...body, ...careBody(care) })
      .then(onDone)
      .catch((problem: Error) => setError(problem.message));
  };
  const credentialNames = Object.keys(credentialSchema.properties ?? {});
  return (
    <form
      className="grid items-start gap-6 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]"
      onSubmit={connect}
    >
      <div className="sheet flex flex-col gap-4 p-5">
        <h2 className="text-[19px]">{kind.title}</h2>
        <LabelledInput
          label="Name"
          required
          maxLength={120}
          placeholder="A name your team will recognise"
          value={name}
          onChange={setName}
        />
        <SchemaFields schema={settingsSchema} values={settings} onChange={setSettings} />
        {credentialNames.length > 0 && (
          <fieldset className="border-base-300 rounded-box flex flex-col gap-4 border p-4">
            <legend className="soft px-1">Credentials: kept encrypted, never shown again</legend>
            <SchemaFields
              schema={credentialSchema}
              values={credentials}
              onChange={setCredentials}
              secret
            />
          </fieldset>
        )}
        {!kind.pushed && <CareFields care={care} watchable={kind.watchable} onChange={setCare} />}
        <Failure message={error} />
        <div className="flex flex-wrap gap-3">
          {!kind.pushed && (
            <button type="button" className="btn" disabled={looking} onClick={() => void look()}>
              {looking ? "Looking…" : "Preview"}
            </button>
          )}
          <button type="submit" className="btn btn-primary">
            Connect
          </button>
          <button type="button" className="btn btn-ghost" onClick={onBack}>
            Back
          </button>
        </div>
      </div>
      {trial && <TrialView trial={trial} />}
    </form>
  );
}

export interface Care {
  schedule: "none" | "every" | "cron";
  every: number;
  cron: string;
  target: number;
}

export function careBody(care: Care) {
  return {
    every_minutes: care.schedule === "every" ? care.every : null,
    cron: care.schedule === "cron" ? care.cron : null,
    target_minutes: care.target,
  };
}

/** When a source runs, and its freshness target. */
export function CareFields({
  care,
  watchable,
  onChange,
}: {
  care: Care;
  watchable: boolean;
  onChange: (care: Care) => void;
}) {
  return (
    <div className="flex flex-wrap items-end gap-4">
      <label className="flex flex-col gap-1">
        Runs
        <select
          className="select w-auto"
          value={care.schedule}
          onChange={(event) =>
            onChange({ ...care, schedule: event.target.value as Care["schedule"] })
          }
        >
          <option value="every">at an interval</option>
          <option value="cron">by a cron expression</option>
          <option value="none">{watchable ? "when something changes" : "by hand"}</option>
        </select>
      </label>
      {care.schedule === "every" && (
        <label className="flex flex-col gap-1">
          Every … minutes
          <input
            type="number"
            className="input w-28"
            min={1}
            value={care.every}
            onChange={(event) => onChange({ ...care, every: Number(event.target.value) })}
          />
        </label>
      )}
      {care.schedule === "cron" && (
        <label className="flex flex-col gap-1">
          Cron expression, in the team's time zone
          <input
            className="input w-48 font-mono"
            placeholder="15 6 * * 1-5"
            required
            value={care.cron}
            onChange={(event) => onChange({ ...care, cron: event.target.value })}
          />
        </label>
      )}
      <label className="flex flex-col gap-1">
        Freshness target in minutes
        <input
          type="number"
          className="input w-28"
          min={1}
          value={care.target}
          onChange={(event) => onChange({ ...care, target: Number(event.target.value) })}
        />
      </label>
    </div>
  );
}

/** The preview of a source. */
export function TrialView({ trial }: { trial: Trial }) {
  return (
    <section className="sheet p-5" aria-label="Documents that would be added">
      <h2 className="text-[19px]">
        {trial.complete ? "" : "At least "}
        {count(trial.taken)} would be added
      </h2>
      {trial.bytes != null && <p className="soft">{size(trial.bytes)}</p>}
      <ul className="mt-3">
        {trial.sample.map((item) => (
          <li key={item.id} className="border-base-300 flex gap-3 border-b py-1">
            <span className="min-w-0 flex-1 truncate" title={item.id}>
              {item.name}
            </span>
            {item.size != null && <span className="soft whitespace-nowrap">{size(item.size)}</span>}
          </li>
        ))}
        {trial.taken > trial.sample.length && (
          <li className="soft py-1">and {count(trial.taken - trial.sample.length)} more</li>
        )}
      </ul>
      {Object.keys(trial.skipped).length > 0 && (
        <>
          <h3 className="mt-4 font-semibold">Skipped</h3>
          <ul>
            {Object.entries(trial.skipped).map(([reason, number]) => (
              <li key={reason} className="py-1">
                {count(number)} {reason}
                <span className="soft block truncate text-[13px]">
                  {trial.skipped_sample.find((item) => item.reason === reason)?.id}
                </span>
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}
