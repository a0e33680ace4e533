import { type FormEvent, useState } from "react";
import { send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { LabelledInput } from "../../components/forms";
import {
  defaults,
  filled,
  type ObjectSchema,
  SchemaFields,
  type Values,
} from "../../components/SchemaForm";
import { Failure } from "../../components/text";
import type { Channel, Kind, Saved } from "./words";

/** Choose a kind of channel, fill in its form, add it to a desk. */
export function AddChannel({
  api,
  desk,
  onDone,
  onCancel,
}: {
  api: string;
  desk: string;
  onDone: (saved: Saved) => void;
  onCancel: () => void;
}) {
  const { data: kinds, error } = useResource<Kind[]>("/channel-kinds");
  const [kind, setKind] = useState<Kind | null>(null);
  if (!kinds) return <Failure message={error} />;
  if (kind) {
    return (
      <ChannelForm
        kind={kind}
        onSave={(body) => send<Saved>("POST", api, { ...body, kind: kind.name, desk })}
        onDone={onDone}
        onCancel={() => setKind(null)}
      />
    );
  }
  return (
    <>
      <div className="mb-4 flex items-baseline justify-between">
        <h2 className="text-[19px]">Where do people ask?</h2>
        <button type="button" className="btn btn-sm" onClick={onCancel}>
          Cancel
        </button>
      </div>
      <ul className="grid gap-3 sm:grid-cols-2">
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

interface Body {
  name: string;
  settings: Values;
  credentials?: Values;
}

/** The name, settings and credentials of a new or existing channel. */
export function ChannelForm({
  kind,
  channel,
  onSave,
  onDone,
  onCancel,
}: {
  kind: Kind;
  channel?: Channel;
  onSave: (body: Body) => Promise<Saved>;
  onDone: (saved: Saved) => void;
  onCancel: () => void;
}) {
  const schema = kind.settings as ObjectSchema;
  const [name, setName] = useState(channel?.name ?? "");
  const [settings, setSettings] = useState<Values>(channel?.settings ?? defaults(schema));
  const [credentials, setCredentials] = useState<Values>({});
  const [error, setError] = useState<string | null>(null);
  const save = (event: FormEvent) => {
    event.preventDefault();
    const entered = filled(credentials);
    const secrets = Object.keys(entered).length ? { credentials: entered } : {};
    onSave({ name, settings: filled(settings), ...secrets })
      .then(onDone)
      .catch((problem: Error) => setError(problem.message));
  };
  return (
    <form className="sheet mb-6 flex max-w-3xl flex-col gap-4 p-5" onSubmit={save}>
      <h2 className="text-[19px]">{kind.title}</h2>
      <LabelledInput
        label="Name"
        required
        maxLength={120}
        placeholder="A name your team will recognise"
        value={name}
        onChange={setName}
      />
      <SchemaFields schema={schema} values={settings} onChange={setSettings} />
      <fieldset className="border-base-300 rounded-box flex flex-col gap-4 border p-4">
        <legend className="soft px-1">Credentials: kept encrypted, never shown again</legend>
        <SchemaFields
          schema={kind.credentials as ObjectSchema}
          values={credentials}
          onChange={setCredentials}
          secret
          kept={channel?.credential_names}
        />
      </fieldset>
      <Failure message={error} />
      <div className="flex gap-3">
        <button type="submit" className="btn btn-primary">
          {channel ? "Save" : "Add channel"}
        </button>
        <button type="button" className="btn btn-ghost" onClick={onCancel}>
          {channel ? "Cancel" : "Back"}
        </button>
      </div>
    </form>
  );
}
