import { type FormEvent, useState } from "react";
import type { Schemas } from "../../api/client";
import { CheckBox, LabelledInput } from "../../components/forms";
import { lines } from "../../components/text";

export type Question = Schemas["SetQuestionOut"];
export type QuestionValues = Schemas["SetQuestionIn"];

function Lines({
  label,
  hint,
  value,
  onChange,
}: {
  label: string;
  hint: string;
  value: string[];
  onChange: (value: string[]) => void;
}) {
  return (
    <label className="flex flex-col gap-1">
      {label}
      <textarea
        className="textarea w-full"
        rows={2}
        defaultValue={value.join("\n")}
        onChange={(event) => onChange(lines(event.target.value))}
      />
      <span className="soft text-sm">{hint}</span>
    </label>
  );
}

/** A question of a set, and what its answer should be. */
export function QuestionForm({
  question,
  onSave,
  onCancel,
}: {
  question: Question | null;
  onSave: (values: QuestionValues) => void;
  onCancel: () => void;
}) {
  const [values, setValues] = useState<Required<QuestionValues>>({
    question: question?.question ?? "",
    history: question?.history ?? [],
    documents: question?.documents ?? [],
    quotes: question?.quotes ?? [],
    contains: question?.contains ?? [],
    must_decline: question?.must_decline ?? false,
    kind: question?.kind ?? "",
    note: question?.note ?? "",
  });
  const set = (change: Partial<QuestionValues>) => setValues({ ...values, ...change });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onSave(values.must_decline ? { ...values, documents: [], quotes: [], contains: [] } : values);
  };
  return (
    <form className="space-y-3 p-4" aria-label="Question" onSubmit={submit}>
      <LabelledInput
        label="Question"
        required
        maxLength={2000}
        value={values.question}
        onChange={(text) => set({ question: text })}
      />
      <CheckBox checked={values.must_decline} onChange={(on) => set({ must_decline: on })}>
        The documents do not answer it: it must be declined
      </CheckBox>
      {!values.must_decline && (
        <div className="grid gap-3 min-[800px]:grid-cols-2">
          <Lines
            label="The answer contains"
            hint="One per line, all needed. noon|12:00 allows either form."
            value={values.contains}
            onChange={(contains) => set({ contains })}
          />
          <Lines
            label="It cites one of these documents"
            hint="Names, one per line."
            value={values.documents}
            onChange={(documents) => set({ documents })}
          />
          <Lines
            label="It cites one of these quotes"
            hint="Text of the documents, one per line."
            value={values.quotes}
            onChange={(quotes) => set({ quotes })}
          />
          <Lines
            label="Asked before it"
            hint="Earlier questions of the conversation, one per line."
            value={values.history}
            onChange={(history) => set({ history })}
          />
        </div>
      )}
      <div className="grid gap-3 min-[800px]:grid-cols-2">
        <LabelledInput
          label="Kind"
          hint="A group of questions in the figures."
          maxLength={80}
          value={values.kind}
          onChange={(kind) => set({ kind })}
        />
        <LabelledInput
          label="Note"
          maxLength={1000}
          value={values.note}
          onChange={(note) => set({ note })}
        />
      </div>
      <div className="flex gap-2.5">
        <button type="submit" className="btn btn-primary btn-sm">
          Save question
        </button>
        <button type="button" className="btn btn-sm" onClick={onCancel}>
          Cancel
        </button>
      </div>
    </form>
  );
}
