import { type FormEvent, useEffect, useState } from "react";
import { get, type Schemas, type Session, send } from "../../api/client";
import { LabelledInput, NewPassword } from "../../components/forms";
import { Failure } from "../../components/text";
import { ROOT } from "../../root";
import { Door } from "./Door";

/** The page of an invitation's link. The secret is in the fragment, so that no server logs it. */
export function InvitationPage() {
  const [secret] = useState(location.hash.slice(1));
  const [face, setFace] = useState<Schemas["InvitationDetails"] | null>(null);
  const [session, setSession] = useState<Session | null>(null);
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);

  useEffect(() => {
    send<Schemas["InvitationDetails"]>("POST", "/invitations/open", { secret })
      .then((found) => {
        setFace(found);
        setName(found.name);
      })
      .catch((problem: Error) => setError(problem.message));
    get<Session>("/session").then(setSession, () => setSession(null));
  }, [secret]);

  const accept = (body: object) => {
    setBusy(true);
    send("POST", "/invitations/accept", { secret, ...body })
      .then(() => location.assign(`${ROOT}/`))
      .catch((problem: Error) => {
        setError(problem.message);
        setBusy(false);
      });
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    accept({ name, password });
  };

  return (
    <Door>
      <Failure message={error} />
      {face && (
        <div className="sheet flex flex-col gap-4 p-6">
          <p>
            {face.invited_by} invites <strong>{face.email}</strong> to the team{" "}
            <strong>{face.team}</strong> as {face.role}.
          </p>
          {session?.email ? (
            <button
              type="button"
              className="btn btn-primary"
              disabled={busy}
              onClick={() => accept({})}
            >
              Join as {session.email}
            </button>
          ) : (
            <>
              <form className="flex flex-col gap-4" onSubmit={submit}>
                <LabelledInput
                  label="Your name"
                  autoComplete="name"
                  required
                  value={name}
                  onChange={setName}
                />
                <NewPassword label="Choose a password" value={password} onChange={setPassword} />
                <button type="submit" className="btn btn-primary" disabled={busy}>
                  Join the team
                </button>
              </form>
              <p className="soft">
                Already have an account?{" "}
                <a
                  className="link"
                  href={`${ROOT}/sign-in`}
                  onClick={() => sessionStorage.setItem("next", `/invitation#${secret}`)}
                >
                  Sign in first
                </a>
              </p>
            </>
          )}
        </div>
      )}
    </Door>
  );
}
