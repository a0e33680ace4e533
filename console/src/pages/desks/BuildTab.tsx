import { type FormEvent, useEffect, useState } from "react";
import { Link } from "react-router";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { useDesk } from "./DeskPage";
import { publishAfterAsking } from "./publishing";
import { SettingsForm } from "./SettingsForm";
import { TryPanel } from "./TryPanel";
import type { Settings } from "./words";

/** The draft's settings, with a panel to try it, unsaved changes included. */
export function BuildTab() {
  const team = useTeam();
  const { desk, api, reload } = useDesk();
  const kbs = useResource<Schemas["Page_KbOut_"]>(`${team.api}/kbs`);
  const models = useResource<Schemas["Page_ModelName_"]>(`${team.api}/models`);
  const sets = useResource<Schemas["Page_SetOut_"]>(`${team.api}/sets`);
  const [settings, setSettings] = useState<Settings>(desk.draft);
  const [note, setNote] = useState("");
  const [error, setError] = useState<string | null>(null);
  useEffect(() => setSettings(desk.draft), [desk.draft]);
  const unsaved = JSON.stringify(settings) !== JSON.stringify(desk.draft);

  const save = async () => {
    setError(null);
    await send("PATCH", api, { settings }, { "If-Match": `"${desk.version}"` });
  };
  const attempt = (work: () => Promise<unknown>) =>
    work()
      .then(() => {
        setError(null);
        reload();
      })
      .catch((problem: Error) => setError(problem.message));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    void attempt(save);
  };
  const publish = () =>
    attempt(async () => {
      if (unsaved) await save();
      await publishAfterAsking((close_links) =>
        send("POST", `${api}/publish`, { note, close_links }),
      );
      setNote("");
    });
  return (
    <div className="grid gap-7 min-[1000px]:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
      <form onSubmit={submit} aria-label="Draft settings" className="[&_:focus]:scroll-mb-24">
        <SettingsForm
          settings={settings}
          onChange={setSettings}
          kbs={kbs.data?.items.filter((kb) => !kb.expires_at) ?? []}
          models={models.data?.items ?? []}
          sets={sets.data?.items ?? []}
        />
        <Failure message={error} />
        {settings.trial_set && (
          <p className="soft mb-2">
            Before it is published, the draft has to pass its question set.{" "}
            <Link
              className="link"
              to={`/t/${team.slug}/trials/new?desk=${desk.slug}&set=${settings.trial_set}`}
            >
              Run a trial
            </Link>
          </p>
        )}
        <div className="bg-base-200 border-base-300 sticky bottom-0 mt-5 flex flex-wrap items-center gap-2.5 border-t py-3">
          <button type="submit" className="btn" disabled={!unsaved}>
            Save draft
          </button>
          <input
            className="input min-w-40 flex-1"
            placeholder="Describe the changes, for the list of versions"
            aria-label="What changed"
            maxLength={500}
            value={note}
            onChange={(e) => setNote(e.target.value)}
          />
          <button
            type="button"
            className="btn btn-primary"
            disabled={!unsaved && !desk.changed}
            onClick={() => void publish()}
          >
            Publish
          </button>
        </div>
      </form>
      <TryPanel settings={settings} />
    </div>
  );
}
