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
  remote: "",
  secret: "",
  price: 0,
  currency: "EUR",
  teams: "",
  part_seconds: 300,
  seconds: 300,
};

/** The servers that turn recordings into text. */
export function Transcribers() {
  const { data, error, reload } = useResource<Schemas["Page_TranscriberOut_"]>("/transcribers");
  const { form, text, reset } = useServerForm(BLANK);
  const [busy, setBusy] = useState(false);
  const { failed, attempt } = useAttempt(reload);
  const register = (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    void attempt(
      send("POST", "/transcribers", {
        ...form,
        secret: form.secret || null,
        teams: teamsOf(form.teams),
      }).then(reset),
    ).finally(() => setBusy(false));
  };
  return (
    <section className="mt-10" aria-label="Transcribers">
      <h2 className="text-[22px]">Transcribers</h2>
      <p className="soft mt-1 mb-5">
        Servers that speak the transcription protocol. A knowledge base that has chosen one reads
        recordings without subtitles.
      </p>
      <Failure message={error ?? failed} />
      <ul className="sheet divide-base-300 divide-y">
        {data?.items.map((one) => (
          <ServerRow<Schemas["TranscriberCheck"]>
            key={one.id}
            server={one}
            path={`/transcribers/${one.id}`}
            price={`${one.price} ${one.currency} a minute · used by ${count(one.used_by)}`}
            attempt={attempt}
            checked={(check) =>
              check.works
                ? `It transcribed a second of sound in ${check.seconds.toFixed(2)} s.`
                : `No transcript: ${check.error}.`
            }
          />
        ))}
        {data?.items.length === 0 && (
          <li className="soft p-5">
            None is registered: recordings without subtitles wait. Register one below, or start a
            simulated one with “fontanel simulator ears”.
          </li>
        )}
      </ul>
      <form
        className="sheet mt-6 grid gap-3.5 p-4 sm:grid-cols-2"
        onSubmit={register}
        aria-label="Register a transcriber"
      >
        <h3 className="font-serif text-[19px] font-semibold sm:col-span-2">
          Register a transcriber
        </h3>
        {text("name", "Name that knowledge bases use", { required: true, maxLength: 120 })}
        {text("url", "Address", { required: true, placeholder: "https://ears.example/v1" })}
        {text("remote", "Transcriber's name at the server", { required: true })}
        {text("secret", "Secret", {
          type: "password",
          autoComplete: "off",
          placeholder: "sent as a bearer token",
        })}
        {text("part_seconds", "Length of a part in seconds", {
          type: "number",
          min: 30,
          max: 3600,
        })}
        {text("price", "Price per minute", { type: "number", min: 0, step: "any" })}
        {text("currency", "Currency", { maxLength: 3 })}
        {text("teams", "Limit to these teams", {
          placeholder: "all teams; or short names with commas",
        })}
        {text("seconds", "Timeout in seconds", { type: "number", min: 1, max: 3600 })}
        <div className="flex items-end gap-4 sm:col-span-2">
          <button type="submit" className="btn btn-primary" disabled={busy}>
            Register
          </button>
          <span className="soft">A second of sound is sent to it first.</span>
        </div>
      </form>
    </section>
  );
}
