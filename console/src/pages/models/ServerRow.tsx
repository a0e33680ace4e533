import { type ReactNode, useState } from "react";
import { send } from "../../api/client";

interface Server {
  name: string;
  url: string;
  remote: string;
  teams: string[] | null;
  has_secret: boolean;
  enabled: boolean;
  error: string | null;
  checked_at: string | null;
}

/** A server that operators set up: whether it answers, and what can be done with it. */
export function ServerRow<Check>({
  server,
  path,
  price,
  attempt,
  checked,
}: {
  server: Server;
  path: string;
  price: string;
  attempt: (work: Promise<unknown>) => Promise<unknown>;
  /** What a check came to. */
  checked: (check: Check) => ReactNode;
}) {
  const [check, setCheck] = useState<Check | null>(null);
  const tone =
    !server.enabled || (!server.checked_at && !server.error)
      ? "bg-base-300"
      : server.error
        ? "bg-error"
        : "bg-success";
  const action = (label: string, act: () => unknown) => (
    <button type="button" className="link text-primary cursor-pointer" onClick={act}>
      {label}
    </button>
  );
  return (
    <li className="px-4 py-3">
      <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1">
        <b className="font-semibold">{server.name}</b>
        <span className="flex items-baseline gap-2">
          <span className={`inline-block size-2 rounded-full ${tone}`} aria-hidden />
          {!server.enabled
            ? "switched off"
            : server.error
              ? `does not answer: ${server.error}`
              : server.checked_at
                ? "answers"
                : "not checked yet"}
        </span>
        <span className="soft ml-auto flex gap-5">
          {action("Check", () => attempt(send<Check>("POST", `${path}/check`).then(setCheck)))}
          {action(server.enabled ? "Switch off" : "Switch on", () =>
            attempt(send("PATCH", path, { enabled: !server.enabled })),
          )}
          {action(
            "Remove",
            () => confirm(`Remove ${server.name}?`) && attempt(send("DELETE", path)),
          )}
        </span>
      </div>
      <p className="soft mt-0.5">
        <span className="font-mono text-[13px]">{server.url}</span> ·{" "}
        {server.remote && `${server.remote} · `}
        {price} · {server.teams ? `only ${server.teams.join(", ")}` : "all teams"}
        {server.has_secret && " · with a secret"}
      </p>
      {check && <p className="mt-1 text-[13px]">{checked(check)}</p>}
    </li>
  );
}
