import { type FormEvent, useState } from "react";
import { type Session, send } from "../../api/client";
import { LabelledInput } from "../../components/forms";
import { Failure } from "../../components/text";
import { Door } from "./Door";

/** Return an address within this service, parsed as browsers do, which ignore tabs and the like. */
function own(next: string | null): string {
  try {
    const found = new URL(next ?? "/", location.origin);
    return found.origin === location.origin ? found.pathname + found.search + found.hash : "/";
  } catch {
    return "/";
  }
}

export function SignInPage() {
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);

  const submit = async (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    try {
      const session = await send<Session>("POST", "/session", { email, password });
      if (session.sign_ins > 1) sessionStorage.setItem("elsewhere", String(session.sign_ins - 1));
      const next =
        new URLSearchParams(location.search).get("next") ?? sessionStorage.getItem("next");
      sessionStorage.removeItem("next");
      location.assign(own(next));
    } catch (problem) {
      setError((problem as Error).message);
      setBusy(false);
    }
  };

  return (
    <Door>
      <form className="sheet flex flex-col gap-4 p-6" onSubmit={submit}>
        <LabelledInput
          label="E-mail"
          type="email"
          autoComplete="username"
          required
          value={email}
          onChange={setEmail}
        />
        <LabelledInput
          label="Password"
          type="password"
          autoComplete="current-password"
          required
          value={password}
          onChange={setPassword}
        />
        <Failure message={error} />
        <button type="submit" className="btn btn-primary" disabled={busy}>
          Sign in
        </button>
      </form>
      <p className="soft mt-4">
        No account? An owner of your team can invite you. Forgot the password? The operator can
        create a reset link for you.
      </p>
    </Door>
  );
}
