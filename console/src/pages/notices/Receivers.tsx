import { type FormEvent, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Ago, Failure } from "../../components/text";

type Kind = Schemas["ReceiverIn"]["kinds"][number];

/** What an address can be sent. */
const KINDS: { name: string; label: string; kinds: Kind[] }[] = [
  { name: "", label: "all notices", kinds: [] },
  { name: "answers", label: "questions asked", kinds: ["answer.answered", "answer.declined"] },
  { name: "declined", label: "questions not answered", kinds: ["answer.declined", "gap.opened"] },
  { name: "feedback", label: "feedback", kinds: ["feedback.given"] },
];

/** Addresses that receive notices as signed events. */
export function Receivers({ api }: { api: string }) {
  const { data, reload } = useResource<Schemas["Page_ReceiverOut_"]>(`${api}/receivers`);
  const [url, setUrl] = useState("");
  const [kinds, setKinds] = useState("");
  const [made, setMade] = useState<Schemas["ReceiverCreated"] | null>(null);
  const [error, setError] = useState<string | null>(null);
  const add = (event: FormEvent) => {
    event.preventDefault();
    send<Schemas["ReceiverCreated"]>("POST", `${api}/receivers`, {
      url,
      kinds: KINDS.find((one) => one.name === kinds)?.kinds ?? [],
    })
      .then((receiver) => {
        setMade(receiver);
        setUrl("");
        setError(null);
        reload();
      })
      .catch((problem: Error) => setError(problem.message));
  };
  return (
    <section className="mt-8" aria-label="Receivers">
      <h2 className="text-[19px]">Webhooks</h2>
      <p className="soft mt-1 mb-3">
        Notices or events are sent to these addresses as CloudEvents, signed with a secret that is
        shown once.
      </p>
      <ul className="sheet divide-base-300 divide-y">
        {data?.items.map((receiver) => (
          <li key={receiver.id} className="flex flex-wrap items-baseline gap-3 px-5 py-2.5">
            <span className="flex-1 break-all">
              {receiver.url}
              {receiver.kinds.length > 0 && (
                <span className="soft block text-[13px]">{receiver.kinds.join(", ")}</span>
              )}
            </span>
            {receiver.failing ? (
              <span className="text-error text-[13px]">{receiver.failing}</span>
            ) : (
              receiver.last_sent_at && (
                <span className="soft">
                  sent <Ago at={receiver.last_sent_at} />
                </span>
              )
            )}
            <button
              type="button"
              className="link-hover soft cursor-pointer"
              onClick={() => void send("DELETE", `${api}/receivers/${receiver.id}`).then(reload)}
            >
              Remove
            </button>
          </li>
        ))}
        <li className="px-5 py-3">
          <form className="flex gap-3" onSubmit={add}>
            <input
              className="input flex-1"
              type="url"
              required
              placeholder="https://…"
              aria-label="Address"
              value={url}
              onChange={(event) => setUrl(event.target.value)}
            />
            <select
              className="select w-auto"
              aria-label="What is sent"
              value={kinds}
              onChange={(event) => setKinds(event.target.value)}
            >
              {KINDS.map((one) => (
                <option key={one.name} value={one.name}>
                  {one.label}
                </option>
              ))}
            </select>
            <button type="submit" className="btn">
              Add
            </button>
          </form>
          <Failure message={error} />
          {made && (
            <p className="mt-2">
              The secret for {made.url} is <code className="font-semibold">{made.secret}</code> –
              shown this once.
            </p>
          )}
        </li>
      </ul>
    </section>
  );
}
