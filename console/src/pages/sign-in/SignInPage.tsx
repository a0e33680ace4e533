import { type FormEvent, type ReactNode, useState } from "react";
import { type Schemas, type Session, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { LabelledInput } from "../../components/forms";
import { Failure } from "../../components/text";
import { API, ROOT } from "../../root";
import { Door } from "./Door";

/** Return an address within this service, parsed as browsers do, which ignore tabs and the like. */
function own(next: string | null): string {
  try {
    const found = new URL(next ?? `${ROOT}/`, location.origin);
    return found.origin === location.origin
      ? found.pathname + found.search + found.hash
      : `${ROOT}/`;
  } catch {
    return `${ROOT}/`;
  }
}

/** Return why the provider did not sign the person in, once; the service leaves it in a cookie. */
function takeProblem(): string | null {
  const name = "fontanel_sign_in_problem=";
  const stored = document.cookie.split("; ").find((part) => part.startsWith(name));
  // biome-ignore lint/suspicious/noDocumentCookie: all browsers have it
  document.cookie = `${name}; path=/sign-in; max-age=0`;
  return stored ? decodeURIComponent(stored.slice(name.length)) : null;
}

/** The form for passwords, which is folded if only operators may use it. */
function Passwords({ folded, children }: { folded: boolean; children: ReactNode }) {
  if (!folded) return children;
  return (
    <details>
      <summary className="soft mb-4 cursor-pointer">Sign in with an operator's password</summary>
      {children}
    </details>
  );
}

export function SignInPage() {
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState<string | null>(null);
  const ways = useResource<Schemas["WaysToSignIn"]>("/session/provider", { constant: true }).data;
  const query = new URLSearchParams(location.search);
  const next = query.get("next") ?? sessionStorage.getItem("next");
  const provider = ways?.provider;
  const [problem] = useState(() => (query.has("problem") ? takeProblem() : null));
  const [busy, setBusy] = useState(false);

  const submit = async (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    try {
      const session = await send<Session>("POST", "/session", { email, password });
      if (session.sign_ins > 1) sessionStorage.setItem("elsewhere", String(session.sign_ins - 1));
      sessionStorage.removeItem("next");
      location.assign(own(next));
    } catch (problem) {
      setError((problem as Error).message);
      setBusy(false);
    }
  };

  return (
    <Door>
      {provider && (
        <div className="sheet mb-4 flex flex-col gap-4 p-6">
          <Failure message={problem} />
          <a
            className="btn btn-primary"
            href={`${API}/session/provider/start?${new URLSearchParams({ next: own(next) })}`}
          >
            Sign in with {provider}
          </a>
        </div>
      )}
      <Passwords folded={ways?.passwords === "operators"}>
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
      </Passwords>
    </Door>
  );
}
