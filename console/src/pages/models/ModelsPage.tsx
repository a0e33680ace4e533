import { type FormEvent, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Failure } from "../../components/text";

type Model = Schemas["ModelOut"];
const BLANK = {
  name: "",
  url: "",
  remote: "",
  secret: "",
  price_read: 0,
  price_written: 0,
  currency: "EUR",
  teams: "",
  seconds: 60,
};

/** For operators: the text-generating models that desks can use. */
export function ModelsPage() {
  const { data, error, reload } = useResource<Schemas["Page_ModelOut_"]>("/models");
  const [form, setForm] = useState(BLANK);
  const [failed, setFailed] = useState<string | null>(null);
  const attempt = (work: Promise<unknown>) =>
    work
      .then(() => {
        setFailed(null);
        reload();
      })
      .catch((problem: Error) => setFailed(problem.message));
  const create = (event: FormEvent) => {
    event.preventDefault();
    const teams = form.teams
      .split(",")
      .map((slug) => slug.trim())
      .filter(Boolean);
    void attempt(
      send("POST", "/models", {
        ...form,
        secret: form.secret || null,
        teams: teams.length ? teams : null,
      }).then(() => setForm(BLANK)),
    );
  };
  const text = (name: keyof typeof BLANK, label: string, more: Record<string, unknown> = {}) => (
    <label className="block">
      <span className="mb-1 block font-medium">{label}</span>
      <input
        className="input w-full"
        value={form[name]}
        onChange={(e) =>
          setForm({
            ...form,
            [name]: more.type === "number" ? Number(e.target.value) : e.target.value,
          })
        }
        {...more}
      />
    </label>
  );
  return (
    <>
      <h1 className="text-[27px]">Models</h1>
      <p className="soft mt-1 mb-5">
        Servers that speak the chat-completions protocol. Desks name a model; what stands behind the
        name can change without touching them.
      </p>
      <Failure message={error ?? failed} />
      <ul className="sheet divide-base-300 divide-y">
        {data?.items.map((model) => (
          <One key={model.id} model={model} attempt={attempt} />
        ))}
        {data?.items.length === 0 && (
          <li className="soft p-5">
            No model yet: all desks use the built-in composer. Set one up below, or start a
            simulated one with “fontanel simulator model”.
          </li>
        )}
      </ul>
      <form
        className="sheet mt-6 grid gap-3.5 p-4 sm:grid-cols-2"
        onSubmit={create}
        aria-label="Set up a model"
      >
        <h2 className="text-[19px] sm:col-span-2">Set up a model</h2>
        {text("name", "Name that desks use", { required: true, maxLength: 120 })}
        {text("url", "Address", { required: true, placeholder: "https://models.example/v1" })}
        {text("remote", "Model name at the server")}
        {text("secret", "Secret", {
          type: "password",
          autoComplete: "off",
          placeholder: "sent as a bearer token",
        })}
        {text("price_read", "Price per million input tokens", {
          type: "number",
          min: 0,
          step: "any",
        })}
        {text("price_written", "Price per million output tokens", {
          type: "number",
          min: 0,
          step: "any",
        })}
        {text("currency", "Currency", { maxLength: 3 })}
        {text("teams", "Limit to these teams", {
          placeholder: "all teams; or short names with commas",
        })}
        {text("seconds", "Timeout in seconds", { type: "number", min: 1, max: 600 })}
        <div className="flex items-end">
          <button type="submit" className="btn btn-primary">
            Set up
          </button>
        </div>
      </form>
    </>
  );
}

function One({
  model,
  attempt,
}: {
  model: Model;
  attempt: (work: Promise<unknown>) => Promise<unknown>;
}) {
  const [check, setCheck] = useState<Schemas["ModelCheck"] | null>(null);
  const path = `/models/${model.id}`;
  const tone =
    !model.enabled || (!model.checked_at && !model.error)
      ? "bg-base-300"
      : model.error
        ? "bg-error"
        : "bg-success";
  return (
    <li className="px-4 py-3">
      <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1">
        <b className="font-semibold">{model.name}</b>
        <span className="flex items-baseline gap-2">
          <span className={`inline-block size-2 rounded-full ${tone}`} aria-hidden />
          {!model.enabled
            ? "switched off"
            : model.error
              ? `does not answer: ${model.error}`
              : model.checked_at
                ? "answers"
                : "not checked yet"}
        </span>
        <span className="soft ml-auto flex gap-5">
          <button
            type="button"
            className="link text-primary cursor-pointer"
            onClick={() =>
              void attempt(send<Schemas["ModelCheck"]>("POST", `${path}/check`).then(setCheck))
            }
          >
            Check
          </button>
          <button
            type="button"
            className="link text-primary cursor-pointer"
            onClick={() => void attempt(send("PATCH", path, { enabled: !model.enabled }))}
          >
            {model.enabled ? "Switch off" : "Switch on"}
          </button>
          <button
            type="button"
            className="link text-primary cursor-pointer"
            onClick={() => confirm(`Remove ${model.name}?`) && void attempt(send("DELETE", path))}
          >
            Remove
          </button>
        </span>
      </div>
      <p className="soft mt-0.5">
        <span className="font-mono text-[13px]">{model.url}</span> · {model.remote || "no name"} ·{" "}
        {model.price_read} / {model.price_written} {model.currency} a million tokens ·{" "}
        {model.teams ? `only ${model.teams.join(", ")}` : "all teams"}
        {model.has_secret && " · with a secret"}
      </p>
      {check && (
        <p className="mt-1 text-[13px]">
          {check.works
            ? `It answered “${check.text}” after ${check.seconds.toFixed(2)} s.`
            : `No answer: ${check.error}.`}
        </p>
      )}
    </li>
  );
}
