import { type FormEvent, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { count, Failure } from "../../components/text";
import { useAttempt } from "../../hooks/useAttempt";
import { ServerRow } from "./ServerRow";
import { teamsOf, useServerForm } from "./serverForm";

const BLANK = {
  name: "",
  url: "",
  directory: "",
  remote: "",
  secret: "",
  dimensions: "",
  question_prefix: "",
  passage_prefix: "",
  price: 0,
  currency: "EUR",
  teams: "",
  batch: 64,
  seconds: 60,
};

/** The embedders that operators registered besides the service's own. */
export function Embedders() {
  const { data, error, reload } = useResource<Schemas["Page_EmbedderOut_"]>("/embedders");
  const { form, text, reset } = useServerForm(BLANK);
  const [busy, setBusy] = useState(false);
  const { failed, attempt } = useAttempt(reload);
  const register = (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    void attempt(
      send("POST", "/embedders", {
        ...form,
        secret: form.secret || null,
        url: form.url || null,
        directory: form.directory || null,
        dimensions: form.dimensions ? Number(form.dimensions) : null,
        teams: teamsOf(form.teams),
      }).then(reset),
    ).finally(() => setBusy(false));
  };
  return (
    <section className="mt-10" aria-label="Embedders">
      <h2 className="text-[22px]">Embedders</h2>
      <p className="soft mt-1 mb-5">
        Servers that speak the embeddings protocol, and models in directories of the service's
        machine. Editions of knowledge bases name an embedder; the service's own needs neither.
      </p>
      <Failure message={error ?? failed} />
      <ul className="sheet divide-base-300 divide-y">
        {data?.items.map((one) => (
          <ServerRow<Schemas["EmbedderCheck"]>
            key={one.id}
            server={{ ...one, url: one.directory ?? one.url }}
            path={`/embedders/${one.id}`}
            price={`${one.uncut ? `${one.dimensions} of ${one.uncut}` : one.dimensions} dimensions · ${one.price} ${one.currency} a million tokens · used by ${count(one.used_by)}`}
            attempt={attempt}
            checked={(check) =>
              check.works
                ? `It gave vectors after ${check.seconds.toFixed(2)} s.`
                : `No vectors: ${check.error}.`
            }
          />
        ))}
        {data?.items.length === 0 && (
          <li className="soft p-5">
            None is registered: all knowledge bases use the service's own. Register one below, or
            start a simulated one with “fontanel simulator embedder”.
          </li>
        )}
      </ul>
      <form
        className="sheet mt-6 grid gap-3.5 p-4 sm:grid-cols-2"
        onSubmit={register}
        aria-label="Register an embedder"
      >
        <h3 className="font-serif text-[19px] font-semibold sm:col-span-2">Register an embedder</h3>
        {text("name", "Name that editions use", { required: true, maxLength: 120 })}
        {text("url", "Address", { placeholder: "https://vectors.example/v1" })}
        {text("remote", "Embedder's name at the server")}
        {text("directory", "Or a directory of the service's machine", {
          placeholder: "with model.onnx and tokenizer.json",
        })}
        {text("secret", "Secret", {
          type: "password",
          autoComplete: "off",
          placeholder: "sent as a bearer token",
        })}
        {text("question_prefix", "Written before questions", { placeholder: "nothing" })}
        {text("passage_prefix", "Written before passages", { placeholder: "nothing" })}
        {text("dimensions", "Keep only the first dimensions", {
          placeholder: "all",
          inputMode: "numeric",
          pattern: "[0-9]*",
        })}
        {text("batch", "Texts of a request", { type: "number", min: 1, max: 2048 })}
        {text("price", "Price per million tokens", { type: "number", min: 0, step: "any" })}
        {text("currency", "Currency", { maxLength: 3 })}
        {text("teams", "Limit to these teams", {
          placeholder: "all teams; or short names with commas",
        })}
        {text("seconds", "Timeout in seconds", { type: "number", min: 1, max: 600 })}
        <div className="flex items-end gap-4 sm:col-span-2">
          <button type="submit" className="btn btn-primary" disabled={busy}>
            Register
          </button>
          <span className="soft">
            It first embeds a few questions, and the texts that answer them.
          </span>
        </div>
      </form>
    </section>
  );
}
