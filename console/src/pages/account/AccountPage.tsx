import { type FormEvent, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { LabelledInput } from "../../components/forms";
import { Ago, Failure } from "../../components/text";
import { Wide } from "../../components/Wide";
import { useSession } from "../../hooks/useSession";

/** The person's own account: where they are signed in, and their password. */
export function AccountPage() {
  const session = useSession();
  return (
    <>
      <h1 className="mb-5 text-[27px]">{session.name}</h1>
      <SignIns />
      <Password />
    </>
  );
}

function SignIns() {
  const { data, error, reload } = useResource<Schemas["Page_SignInOut_"]>("/session/sign-ins");
  const [failed, setFailed] = useState<string | null>(null);
  const end = () =>
    send("DELETE", "/session/sign-ins")
      .then(reload)
      .catch((problem: Error) => setFailed(problem.message));
  return (
    <section>
      <h2 className="mb-2 text-xl">Where you are signed in</h2>
      <Failure message={error ?? failed} />
      <Wide label="Sign-ins">
        <table className="table">
          <thead>
            <tr>
              <th>Since</th>
              <th>From</th>
              <th>Browser or program</th>
              <th>Ends</th>
            </tr>
          </thead>
          <tbody>
            {data?.items.map((row) => (
              <tr key={row.id}>
                <td>
                  <Ago at={row.created_at} />{" "}
                  {row.current && <span className="badge badge-sm">this one</span>}
                </td>
                <td className="font-mono text-[13px]">{row.address}</td>
                <td className="max-w-md break-words">{row.agent}</td>
                <td>{new Date(row.expires_at).toLocaleString()}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      {data && data.items.length > 1 && (
        <button type="button" className="btn mt-3" onClick={() => void end()}>
          Sign out everywhere else
        </button>
      )}
    </section>
  );
}

function Password() {
  const [current, setCurrent] = useState("");
  const [next, setNext] = useState("");
  const [done, setDone] = useState(false);
  const [error, setError] = useState<string | null>(null);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    send("PUT", "/session/password", { current, new: next })
      .then(() => {
        setError(null);
        setDone(true);
        setCurrent("");
        setNext("");
      })
      .catch((problem: Error) => {
        setDone(false);
        setError(problem.message);
      });
  };
  return (
    <section className="mt-9">
      <h2 className="mb-2 text-xl">Password</h2>
      <Failure message={error} />
      <form className="flex flex-wrap items-end gap-2.5" onSubmit={submit}>
        <LabelledInput
          label="Current password"
          className="w-56"
          type="password"
          autoComplete="current-password"
          required
          value={current}
          onChange={setCurrent}
        />
        <LabelledInput
          label="New password"
          className="w-56"
          type="password"
          autoComplete="new-password"
          minLength={10}
          required
          value={next}
          onChange={setNext}
        />
        <button type="submit" className="btn">
          Change the password
        </button>
        {done && <span role="status">Changed. You are signed out everywhere else.</span>}
      </form>
    </section>
  );
}
