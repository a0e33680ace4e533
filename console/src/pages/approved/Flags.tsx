import { useState } from "react";
import { Link } from "react-router";
import { type Schemas, send } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { Ago, Failure } from "../../components/text";

type Flag = Schemas["FlagOut"];

const CHANGES: Record<Flag["change"], string> = {
  reworded: "worded differently",
  contradicted: "states something else",
  removed: "gone",
};

/** Approved answers whose text has changed, with the old text next to the new. */
export function Flags({
  api,
  path,
  mayEdit,
  approved,
}: {
  api: string;
  path: string;
  mayEdit: boolean;
  /** Only those of this approved answer. */
  approved?: string;
}) {
  const base = `${api}/approved`;
  const { data, reload } = useResource<Schemas["Page_FlagOut_"]>(`${base}/flags`, { idle: IDLE });
  const [error, setError] = useState<string | null>(null);
  const flags = (data?.items ?? []).filter((one) => !approved || one.approved_id === approved);
  if (flags.length === 0) return null;
  const confirmIt = (flag: Flag) =>
    send("POST", `${base}/flags/${flag.id}/confirm`)
      .then(reload)
      .catch((problem: Error) => setError(problem.message));
  return (
    <section className="mb-6" aria-label="Changed text">
      <h2 className="mb-2 text-[19px]">
        {approved
          ? "Its source text has changed"
          : flags.length === 1
            ? "1 approved answer needs another look"
            : `${flags.length} approved answers need another look`}
      </h2>
      <Failure message={error} />
      <ul className="sheet divide-base-300 divide-y">
        {flags.map((flag) => (
          <li key={flag.id} className="px-4 py-3" data-change={flag.change}>
            <p className="flex flex-wrap items-baseline gap-x-4">
              <Link
                className="link-hover font-serif text-[16.5px]"
                to={`${path}/approved/${flag.approved_id}`}
              >
                {flag.question}
              </Link>
              <span className="text-warning text-[13px]">{CHANGES[flag.change]}</span>
              <span className="soft text-[13px]">
                {flag.title} · <Ago at={flag.changed_at} />
              </span>
            </p>
            {!approved && <p className="soft mt-0.5 line-clamp-2">Approved: {flag.text}</p>}
            <div className="mt-2 grid gap-x-6 gap-y-2 sm:grid-cols-2">
              <Side title="When it was approved" text={flag.old_text} />
              <Side title="Now" text={flag.new_text || "The text is no longer there."} />
            </div>
            {mayEdit && (
              <p className="mt-2.5 flex gap-2.5">
                <button type="button" className="btn btn-sm" onClick={() => void confirmIt(flag)}>
                  Still right
                </button>
                {!approved && (
                  <Link className="btn btn-sm" to={`${path}/approved/${flag.approved_id}`}>
                    Correct or retire
                  </Link>
                )}
              </p>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Side({ title, text }: { title: string; text: string }) {
  return (
    <div>
      <p className="soft text-[13px]">{title}</p>
      <p className="border-base-300 border-l-2 pl-3 font-serif">{text.replaceAll("\t", " · ")}</p>
    </div>
  );
}
