import { type FormEvent, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { type Kb, type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { CheckBox, LabelledInput } from "../../components/forms";
import { count, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { Editions } from "./Editions";
import { useKb } from "./KbPage";
import { splittingText } from "./Splitting";

const BUILT_IN = "built-in";

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
  const [describer, setDescriber] = useState(kb.describing?.model ?? BUILT_IN);
  const models = useResource<Schemas["Page_ModelName_"]>(
    team.mayEdit ? `${team.api}/models` : null,
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
        { name, description, describer, outdated, proposes_questions: proposes },
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
    <div className="max-w-4xl">
      <div className="max-w-xl">
        <form className="sheet flex flex-col gap-4 p-5" onSubmit={save}>
          <LabelledInput label="Name" required maxLength={120} value={name} onChange={setName} />
          <LabelledInput
            label="Description"
            maxLength={500}
            value={description}
            onChange={setDescription}
          />
          <label className="flex flex-col gap-1">
            Document descriptions
            <select
              className="select w-full"
              value={describer}
              onChange={(e) => setDescriber(e.target.value)}
            >
              <option value={BUILT_IN}>built in: the most informative sentences</option>
              {[
                ...new Set([
                  ...(models.data?.items ?? []).map((model) => model.name),
                  ...(kb.describing ? [kb.describing.model] : []),
                ]),
              ].map((model) => (
                <option key={model} value={model}>
                  the model {model}
                </option>
              ))}
            </select>
            <span className="soft text-[13px]">
              The model receives the start of each document and its headings. Statements that the
              document does not support are dropped.
            </span>
          </label>
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
          <dt>Splitting</dt>
          <dd>{splittingText(kb.splitting)}</dd>
          <dt>Embedder</dt>
          <dd>{kb.embedder ?? "none: keyword search only"}</dd>
          {kb.describing && (
            <>
              <dt>Descriptions</dt>
              <dd>{describedText(kb.describing)}</dd>
            </>
          )}
        </dl>
      </div>
      <Editions api={api} splitting={kb.splitting} mayEdit={team.mayEdit} />
      <button type="button" className="btn text-error mt-8" onClick={remove}>
        Delete this knowledge base
      </button>
    </div>
  );
}
