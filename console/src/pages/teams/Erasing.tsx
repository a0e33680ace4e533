import { type FormEvent, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { Erased } from "../../components/Erased";
import { Failure } from "../../components/text";

type Erasure = Schemas["ErasureOut"];

/** For operators: erase a person, and see what was removed. */
export function Erasing() {
  const [email, setEmail] = useState("");
  const [asked, setAsked] = useState(false);
  const [done, setDone] = useState<Erasure | null>(null);
  const [error, setError] = useState<string | null>(null);
  const erase = (event: FormEvent) => {
    event.preventDefault();
    if (!asked) {
      setAsked(true);
      setDone(null);
      return;
    }
    send<Erasure>("POST", `/people/${encodeURIComponent(email.trim())}/erase`)
      .then((erased) => {
        setDone(erased);
        setError(null);
        setEmail("");
      })
      .catch((problem: Error) => setError(problem.message))
      .finally(() => setAsked(false));
  };
  return (
    <section className="mt-8" aria-label="Erase a person">
      <h2 className="mb-1 text-[19px]">Erase a person</h2>
      <p className="soft mb-3">
        Deletes the account, conversations and feedback, and takes the name out of all records. What
        the person did for teams stays, without a name.
      </p>
      <form className="flex flex-wrap items-center gap-3" onSubmit={erase}>
        <label htmlFor="erased">E-mail address</label>
        <input
          id="erased"
          type="email"
          required
          className="input w-72"
          value={email}
          onChange={(event) => {
            setEmail(event.target.value);
            setAsked(false);
          }}
        />
        {asked && <span className="text-error">This cannot be undone.</span>}
        <button type="submit" className={asked ? "btn text-error" : "btn"}>
          {asked ? `Erase ${email}` : "Erase"}
        </button>
        {asked && (
          <button type="button" className="btn" onClick={() => setAsked(false)}>
            Cancel
          </button>
        )}
      </form>
      <Failure message={error} />
      {done && <Erased erasure={done} />}
    </section>
  );
}
