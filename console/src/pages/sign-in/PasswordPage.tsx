import { type FormEvent, useState } from "react";
import { send } from "../../api/client";
import { NewPassword } from "../../components/forms";
import { Failure } from "../../components/text";
import { ROOT } from "../../root";
import { Door } from "./Door";

/** The page of a link to set a new password. */
export function PasswordPage() {
  const [password, setPassword] = useState("");
  const [done, setDone] = useState(false);
  const [error, setError] = useState<string | null>(null);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    send("POST", "/passwords", { secret: location.hash.slice(1), new: password })
      .then(() => {
        setError(null);
        setDone(true);
      })
      .catch((problem: Error) => setError(problem.message));
  };
  return (
    <Door>
      <Failure message={error} />
      {done ? (
        <div className="sheet flex flex-col gap-4 p-6">
          <p role="status">The new password is set. All sign-ins have ended.</p>
          <a className="btn btn-primary" href={`${ROOT}/sign-in`}>
            Sign in
          </a>
        </div>
      ) : (
        <form className="sheet flex flex-col gap-4 p-6" onSubmit={submit}>
          <NewPassword label="Choose a new password" value={password} onChange={setPassword} />
          <button type="submit" className="btn btn-primary">
            Set the password
          </button>
        </form>
      )}
    </Door>
  );
}
