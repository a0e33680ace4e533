import { type FormEvent, useState } from "react";
import { send } from "../../api/client";
import { Mark } from "../../components/Frame";
import { Failure } from "../../components/text";

export function SignInPage() {
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);

  const submit = async (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    try {
      await send("POST", "/session", { email, password });
      const next = new URLSearchParams(location.search).get("next") ?? "/";
      // Only a path of this service: an address from elsewhere must not lead away.
      location.assign(/^\/(?![/\\])/.test(next) ? next : "/");
    } catch (problem) {
      setError((problem as Error).message);
      setBusy(false);
    }
  };

  return (
    <main className="mx-auto flex min-h-screen max-w-sm flex-col justify-center px-4 pb-24">
      <h1 className="mb-6 flex items-center gap-3 text-2xl">
        <Mark /> Fontanel
      </h1>
      <form className="sheet flex flex-col gap-4 p-6" onSubmit={submit}>
        <label className="flex flex-col gap-1">
          E-mail
          <input className="input w-full" type="email" autoComplete="username" required value={email} onChange={(e) => setEmail(e.target.value)} />
        </label>
        <label className="flex flex-col gap-1">
          Password
          <input className="input w-full" type="password" autoComplete="current-password" required value={password} onChange={(e) => setPassword(e.target.value)} />
        </label>
        <Failure message={error} />
        <button className="btn btn-primary" disabled={busy}>
          Sign in
        </button>
      </form>
      <p className="soft mt-4">No account? An owner of your team can add you.</p>
    </main>
  );
}
