import { type ReactNode, useState } from "react";
import type { Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { LabelledInput } from "../../components/forms";
import { place } from "../../components/text";
import { useKb } from "../kb/KbPage";

type Approved = Schemas["ApprovedOut"];
type Place = Pick<
  Schemas["ApprovedPlaceOut"],
  "document_id" | "revision_id" | "title" | "start" | "end" | "quote" | "locator"
>;

/** What is written of an approved answer; phrasings are one to a line. */
export interface Fields {
  question: string;
  phrasings: string;
  text: string;
  category: string;
  valid_from: string;
  valid_until: string;
  owner: string;
  places: Place[];
}

export const BLANK: Fields = {
  question: "",
  phrasings: "",
  text: "",
  category: "",
  valid_from: "",
  valid_until: "",
  owner: "",
  places: [],
};

export const fieldsOf = (approved: Approved): Fields => ({
  question: approved.question,
  phrasings: approved.phrasings.join("\n"),
  text: approved.text,
  category: approved.category,
  valid_from: approved.valid_from ?? "",
  valid_until: approved.valid_until ?? "",
  owner: approved.owner,
  places: approved.places,
});

/** The fields as they are sent. */
export const valuesOf = (fields: Fields) => ({
  ...fields,
  phrasings: fields.phrasings
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean),
  valid_from: fields.valid_from || null,
  valid_until: fields.valid_until || null,
  places: fields.places.map((one) => ({
    document: one.document_id,
    revision: one.revision_id,
    ...(one.quote && { start: one.start, end: one.end }),
  })),
});

export function ApprovedForm({
  fields,
  onChange,
  fixedPlaces = false,
  children,
}: {
  fields: Fields;
  onChange: (fields: Fields) => void;
  /** Whether the places are those of an answer. */
  fixedPlaces?: boolean;
  children: ReactNode;
}) {
  const set = (name: keyof Fields) => (value: string) => onChange({ ...fields, [name]: value });
  return (
    <form
      className="grid max-w-225 gap-4"
      aria-label="Approved answer"
      onSubmit={(event) => event.preventDefault()}
    >
      <LabelledInput
        label="Question"
        required
        maxLength={500}
        value={fields.question}
        onChange={set("question")}
      />
      <label className="flex flex-col gap-1">
        Answer
        <textarea
          className="textarea h-44 w-full font-serif text-[16px]"
          required
          maxLength={20000}
          value={fields.text}
          onChange={(event) => set("text")(event.target.value)}
        />
        <span className="soft text-sm">Markdown. It is shown exactly as written here.</span>
      </label>
      <label className="flex flex-col gap-1">
        Other wordings of the question
        <textarea
          className="textarea h-20 w-full"
          value={fields.phrasings}
          onChange={(event) => set("phrasings")(event.target.value)}
        />
        <span className="soft text-sm">One to a line.</span>
      </label>
      <div className="grid gap-4 sm:grid-cols-4">
        <LabelledInput
          label="Category"
          maxLength={80}
          value={fields.category}
          onChange={set("category")}
        />
        <LabelledInput
          label="Owner"
          hint="Who is responsible for it."
          maxLength={120}
          value={fields.owner}
          onChange={set("owner")}
        />
        <LabelledInput
          label="Valid from"
          type="date"
          value={fields.valid_from}
          onChange={set("valid_from")}
        />
        <LabelledInput
          label="Valid until"
          type="date"
          value={fields.valid_until}
          onChange={set("valid_until")}
        />
      </div>
      <Places
        places={fields.places}
        onChange={fixedPlaces ? null : (places) => onChange({ ...fields, places })}
      />
      <div className="flex flex-wrap items-center gap-2.5">{children}</div>
    </form>
  );
}

/** The sources: passages of documents, and documents that are attached whole. */
function Places({
  places,
  onChange,
}: {
  places: Place[];
  onChange: ((places: Place[]) => void) | null;
}) {
  const { api } = useKb();
  const [chosen, setChosen] = useState("");
  const query = new URLSearchParams({ limit: "20", ...(chosen && { name: chosen }) });
  const { data } = useResource<Schemas["Page_DocumentOut_"]>(
    onChange ? `${api}/documents?${query}` : null,
  );
  const ready = (data?.items ?? []).filter((one) => one.revision);
  const document = ready.find((one) => one.title === chosen || one.name === chosen);
  const add = () => {
    if (!document?.revision || !onChange) return;
    const whole = {
      document_id: document.id,
      revision_id: document.revision.id,
      title: document.title,
      start: 0,
      end: 0,
      quote: "",
      locator: { heading_path: [], unit: "page" as const },
    };
    onChange([...places, whole]);
    setChosen("");
  };
  return (
    <fieldset>
      <legend className="mb-1">Sources</legend>
      {places.length === 0 && (
        <p className="soft">None. The answer is shown as approved, without a citation.</p>
      )}
      <ul className="sheet divide-base-300 divide-y empty:hidden">
        {places.map((one, index) => (
          <li key={index} className="flex items-start gap-3 px-3 py-2">
            <span className="min-w-0 flex-1">
              <b className="font-medium">{one.title}</b>
              <span className="soft">
                {" · "}
                {one.quote ? place(one.title, one.locator) || "text" : "whole document"}
              </span>
              {one.quote && (
                <span className="block font-serif text-[14.5px]">
                  “{one.quote.replaceAll("\t", " · ")}”
                </span>
              )}
            </span>
            {onChange && (
              <button
                type="button"
                className="link-hover soft cursor-pointer"
                aria-label={`Remove ${one.title}`}
                onClick={() => onChange(places.filter((_, other) => other !== index))}
              >
                Remove
              </button>
            )}
          </li>
        ))}
      </ul>
      {onChange && (
        <p className="mt-2 flex flex-wrap gap-2.5">
          <input
            className="input input-sm w-72"
            aria-label="Document to attach"
            placeholder="Title or name of a document"
            list="documents-to-attach"
            value={chosen}
            onChange={(event) => setChosen(event.target.value)}
          />
          <datalist id="documents-to-attach">
            {ready.map((one) => (
              <option key={one.id} value={one.title || one.name} />
            ))}
          </datalist>
          <button type="button" className="btn btn-sm" disabled={!document} onClick={add}>
            Attach
          </button>
        </p>
      )}
    </fieldset>
  );
}
