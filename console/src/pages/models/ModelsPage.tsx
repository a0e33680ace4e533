import type { FormEvent } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Failure } from "../../components/text";
import { useAttempt } from "../../hooks/useAttempt";
import { Embedders } from "./Embedders";
import { ServerRow } from "./ServerRow";
import { teamsOf, useServerForm } from "./serverForm";
import { Transcribers } from "./Transcribers";

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
  const { form, text, reset } = useServerForm(BLANK);
  const { failed, attempt } = useAttempt(reload);
  const create = (event: FormEvent) => {
    event.preventDefault();
    void attempt(
      send("POST", "/models", {
        ...form,
        secret: form.secret || null,
        teams: teamsOf(form.teams),
      }).then(reset),
    );
  };
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
          <ServerRow<Schemas["ModelCheck"]>
            key={model.id}
            server={model}
            path={`/models/${model.id}`}
            price={`${model.price_read} / ${model.price_written} ${model.currency} a million tokens`}
            attempt={attempt}
            checked={(check) =>
              check.works
                ? `It answered “${check.text}” after ${check.seconds.toFixed(2)} s.`
                : `No answer: ${check.error}.`
            }
          />
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
      <Embedders />
      <Transcribers />
    </>
  );
}
