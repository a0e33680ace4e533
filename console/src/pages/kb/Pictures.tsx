import type { Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { LabelledInput } from "../../components/forms";
import { count, money } from "../../components/text";
import { BUILT_IN, ModelChoice } from "./ModelChoice";

/** Chooses the model that describes pictures, and shows what that would take. */
export function Pictures({
  api,
  viewer,
  onViewer,
  most,
  onMost,
  models,
}: {
  /** The API's path of the knowledge base. */
  api: string;
  viewer: string;
  onViewer: (value: string) => void;
  most: number;
  onMost: (value: number) => void;
  models: Schemas["ModelName"][];
}) {
  const chosen = viewer === BUILT_IN ? null : viewer;
  const { data } = useResource<Schemas["PictureEstimateOut"]>(
    chosen ? `${api}/pictures/estimate?model=${encodeURIComponent(chosen)}` : null,
  );
  return (
    <>
      <ModelChoice
        label="Pictures"
        builtIn="are not described; text on them is recognised"
        hint="The model receives each picture once. What it says is searched, and marked as its words."
        value={viewer}
        onChange={onViewer}
        usable={models}
      />
      {chosen && (
        <LabelledInput
          label="Pictures of each document, at most"
          type="number"
          min={1}
          max={500}
          required
          value={String(most)}
          onChange={(value) => onMost(Number(value))}
          hint={
            data
              ? `${count(data.pictures)} pictures in ${count(data.documents)} documents are not described yet: about ${count(data.tokens)} tokens, ${money(data.cost)} ${data.currency}.`
              : undefined
          }
        />
      )}
    </>
  );
}
