import { type FormEvent, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { type Kb, type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { CheckBox, LabelledInput } from "../../components/forms";
import { count, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { API } from "../../root";
import { TrialGate } from "../trials/TrialGate";
import { Editions } from "./Editions";
import { useKb } from "./KbPage";
import { BUILT_IN, ModelChoice } from "./ModelChoice";
import { Pictures } from "./Pictures";
import { splittingText } from "./Splitting";

function describedText({ described, waiting, failed, error, model }: Schemas["DescribingOut"]) {
  const parts = [
    `${count(described)} by ${model}`,
    waiting > 0 && `${count(waiting)} waiting`,
    failed > 0 && `${count(failed)} failed`,
  ];
  return parts.filter(Boolean).join(", ") + (error ? `: ${error}` : "");
}

export function SettingsTab() {
  const team = useTeam();
  const { kb, api } = useKb();
  const navigate = useNavigate();
  const [name, setName] = useState(kb.name);
  const [description, setDescription] = useState(kb.description);
  const [outdated, setOutdated] = useState(kb.outdated);
  const [proposes, setProposes] = useState(kb.proposes_questions);
  const [accepts, setAccepts] = useState(kb.accepts_proposed_documents);
  const [describer, setDescriber] = useState(kb.describing?.model ?? BUILT_IN);
  const [proposer, setProposer] = useState(kb.proposer ?? BUILT_IN);
  const [viewer, setViewer] = useState(kb.viewing?.model ?? BUILT_IN);
  const [maxPictures, setMaxPictures] = useState(kb.max_pictures);
  const [transcriber, setTranscriber] = useState(kb.transcriber ?? BUILT_IN);
  const [spoken, setSpoken] = useState(kb.spoken ?? "");
  const [trialSet, setTrialSet] = useState(kb.trial_set ?? "");
  const [losses, setLosses] = useState(kb.max_losses);
  const sets = useResource<Schemas["Page_SetOut_"]>(team.mayEdit ? `${team.api}/sets` : null);
  const models = useResource<Schemas["Page_ModelName_"]>(
    team.mayEdit ? `${team.api}/models` : null,
  );
  const transcribers = useResource<Schemas["Page_TranscriberName_"]>(
    team.mayEdit ? `${team.api}/transcribers` : null,
  );
  /** The version after the last change here: the event that brings it may come later. */
  const saved = useRef(0);
  const [message, setMessage] = useState<string | null>(null);
  const [error, setError] = useState<string | null>(null);
  const attempt = (call: Promise<unknown>, then: () => void) =>
    call
      .then(() => {
        setError(null);
        then();
      })
      .catch((problem: Error) => setError(problem.message));
  const save = (event: FormEvent) => {
    event.preventDefault();
    void attempt(
      send<Kb>(
        "PATCH",
        api,
        {
          name,
          description,
          describer,
          outdated,
          proposes_questions: proposes,
          accepts_proposed_documents: accepts,
          proposer,
          viewer,
          max_pictures: maxPictures,
          transcriber: transcriber === BUILT_IN ? "" : transcriber,
          spoken,
          // Left out where nothing changes: it needs a key of the whole team.
          ...(trialSet !== (kb.trial_set ?? "") && { trial_set: trialSet }),
          max_losses: losses,
        },
        { "If-Match": `"${Math.max(kb.version, saved.current)}"` },
      ).then((changed) => {
        saved.current = changed.version;
      }),
      () => setMessage("Saved."),
    );
  };
  const remove = () => {
    if (confirm(`Delete ${kb.name} with its ${kb.documents} documents? This cannot be undone.`)) {
      void attempt(send("DELETE", api), () => navigate(`/t/${team.slug}/kbs`));
    }
  };
  return (
    <div>
      <div className="max-w-xl">
        <form className="sheet flex flex-col gap-4 p-5" onSubmit={save}>
          <LabelledInput label="Name" required maxLength={120} value={name} onChange={setName} />
          <LabelledInput
            label="Description"
            maxLength={500}
            value={description}
            onChange={setDescription}
          />
          <ModelChoice
            label="Document descriptions"
            builtIn="built in: the most informative sentences"
            hint="The model receives the start of each document and its headings. Statements that the document does not support are dropped."
            value={describer}
            onChange={setDescriber}
            usable={models.data?.items ?? []}
          />
          <label className="flex flex-col gap-1">
            Documents that are not in force
            <select
              className="select w-full"
              value={outdated}
              onChange={(e) => setOutdated(e.target.value as Kb["outdated"])}
            >
              <option value="lower">rank lower than documents that are in force</option>
              <option value="equal">rank like any other</option>
              <option value="exclude">are excluded from searches and answers</option>
            </select>
            <span className="soft text-[13px]">
              Documents that say that they are replaced, withdrawn or expired, and those that an
              editor marks. Answers that quote one say so.
            </span>
          </label>
          <CheckBox checked={proposes} onChange={setProposes}>
            Propose the questions that its documents answer, for approval
          </CheckBox>
          <ModelChoice
            label="Proposed questions"
            builtIn="built in: made from the text by rules"
            hint="The model receives the passages of each document. Questions that the passage does not answer are dropped."
            value={proposer}
            onChange={setProposer}
            usable={models.data?.items ?? []}
          />
          <CheckBox checked={accepts} onChange={setAccepts}>
            Let programs propose documents, for editors to accept or dismiss
          </CheckBox>
          <Pictures
            api={api}
            viewer={viewer}
            onViewer={setViewer}
            most={maxPictures}
            onMost={setMaxPictures}
            models={models.data?.items ?? []}
          />
          {(transcribers.data?.items.length || kb.transcriber) && (
            <>
              <ModelChoice
                label="Recordings without subtitles"
                builtIn="wait for a transcript"
                hint="The transcriber receives their sound, part by part."
                value={transcriber}
                onChange={setTranscriber}
                kind="transcriber"
                usable={transcribers.data?.items ?? []}
              />
              <LabelledInput
                label="Language of recordings"
                maxLength={3}
                pattern="[a-z]{2,3}"
                placeholder="the transcriber finds out"
                value={spoken}
                onChange={setSpoken}
              />
            </>
          )}
          <fieldset className="flex flex-col gap-4">
            <legend className="sr-only">Before another edition is activated</legend>
            <TrialGate
              sets={sets.data?.items ?? []}
              chosen={trialSet}
              losses={losses}
              onChange={(chosen, number) => {
                setTrialSet(chosen);
                setLosses(number);
              }}
              plain
              hint="Another edition is compared with the active one, question by question, before it is activated."
            />
          </fieldset>
          <Failure message={error} />
          <div className="flex items-center gap-4">
            <button type="submit" className="btn btn-primary">
              Save
            </button>
            <span className="soft" role="status">
              {message}
            </span>
          </div>
        </form>
        <dl className="soft mt-5 grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
          <dt>Id</dt>
          <dd className="font-mono">{kb.id}</dd>
          <dt>Slug</dt>
          <dd className="font-mono">{kb.slug}</dd>
          <dt>Feed</dt>
          <dd>
            <a className="link" href={`${API}${team.api}/kbs/${kb.slug}/feed`}>
              changed documents (Atom)
            </a>
          </dd>
          <dt>Splitting</dt>
          <dd>{splittingText(kb.splitting)}</dd>
          <dt>Embedder</dt>
          <dd>
            {kb.embedder ?? "none: keyword search only"}
            {kb.embedder_error && (
              <span className="text-warning block">
                {`It gives no vectors: ${kb.embedder_error}. Searches use keywords only, and new documents wait.`}
              </span>
            )}
          </dd>
          {kb.viewing && (
            <>
              <dt>Pictures</dt>
              <dd>{describedText(kb.viewing)}</dd>
            </>
          )}
          {kb.describing && (
            <>
              <dt>Descriptions</dt>
              <dd>{describedText(kb.describing)}</dd>
            </>
          )}
        </dl>
      </div>
      <Editions
        api={api}
        splitting={kb.splitting}
        mayEdit={team.mayEdit}
        trial={kb.trial_set && `/t/${team.slug}/trials/new?kb=${kb.slug}&set=${kb.trial_set}`}
      />
      <button type="button" className="btn text-error mt-8" onClick={remove}>
        Delete this knowledge base
      </button>
    </div>
  );
}
