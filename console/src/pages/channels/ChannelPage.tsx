import { type FormEvent, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { Missing } from "../../App";
import { type Schemas, send } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { Ago, count, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { ChannelForm } from "./ChannelForm";
import {
  type Channel,
  ChannelState,
  type Kind,
  type Message,
  MessageState,
  type Saved,
  SetUp,
} from "./words";

const open = (page: { items: Message[] }) =>
  page.items.some((message) => ["waiting", "answered"].includes(message.state));

/** One channel: whether it works, how to set up the other side, its last messages. */
export function ChannelPage() {
  const team = useTeam();
  const navigate = useNavigate();
  const { channel: id = "" } = useParams();
  const api = `${team.api}/channels/${id}`;
  const { data: channel, error, reload } = useResource<Channel>(api, { idle: IDLE });
  const kinds = useResource<Kind[]>("/channel-kinds");
  const messages = useResource<Schemas["Page_ChannelMessageOut_"]>(`${api}/messages`, {
    busy: open,
    idle: IDLE,
  });
  const [failure, setFailure] = useState<string | null>(null);
  const [editing, setEditing] = useState(false);
  const [saved, setSaved] = useState<Saved | null>(null);
  if (error) return <Missing />;
  const kind = kinds.data?.find((item) => item.name === channel?.kind);
  if (!channel || !kind) return null;
  const act = (work: Promise<unknown>) =>
    work
      .then(() => {
        setFailure(null);
        reload();
        messages.reload();
      })
      .catch((problem: Error) => setFailure(problem.message));
  const change = (body: object) =>
    send<Saved>("PATCH", api, body, { "If-Match": `"${channel.version}"` });
  const remove = () => {
    if (confirm(`Delete the channel ${channel.name} with its messages?`))
      void send("DELETE", api).then(
        () => navigate(`/t/${team.slug}/desks/${channel.desk}/channels`),
        (problem: Error) => setFailure(problem.message),
      );
  };
  return (
    <>
      <Link to={`/t/${team.slug}/desks/${channel.desk}/channels`} className="link-hover soft">
        ‹ Channels
      </Link>
      <div className="mt-1 mb-4 flex flex-wrap items-center gap-3">
        <h2 className="text-[22px]">{channel.name}</h2>
        <ChannelState channel={channel} />
        <span className="ml-auto flex flex-wrap gap-2">
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => void act(change({ paused: !channel.paused }))}
          >
            {channel.paused ? "Resume" : "Pause"}
          </button>
          <button type="button" className="btn btn-sm" onClick={() => setEditing(!editing)}>
            Settings
          </button>
          <button type="button" className="btn btn-sm" onClick={remove}>
            Delete
          </button>
        </span>
      </div>
      <Failure message={failure ?? channel.failing} />
      {saved && <SetUp saved={saved} />}
      {editing ? (
        <ChannelForm
          kind={kind}
          channel={channel}
          onSave={change}
          onCancel={() => setEditing(false)}
          onDone={(after) => {
            setSaved(after);
            setEditing(false);
            reload();
          }}
        />
      ) : (
        <div className="mb-6 grid items-start gap-6 lg:grid-cols-2">
          <OtherSide channel={channel} kind={kind} />
          <Test api={api} disabled={channel.paused} onSent={() => messages.reload()} />
        </div>
      )}
      <h3 className="mb-2 text-[17px]">Messages</h3>
      <Messages
        items={messages.data?.items ?? []}
        onRetry={(message) => void act(send("POST", `${api}/messages/${message.id}/retry`))}
      />
    </>
  );
}

/** What to enter at the other side. */
function OtherSide({ channel, kind }: { channel: Channel; kind: Kind }) {
  return (
    <section className="sheet p-5">
      <h3 className="mb-2 text-[17px]">The other side</h3>
      <p className="soft">{kind.description}</p>
      {channel.address && (
        <p className="mt-3 break-all">
          Post messages to{" "}
          <code className="font-mono text-[13px] select-all">{channel.address}</code>
        </p>
      )}
      <ul className="mt-3 list-disc pl-5">
        {kind.set_up.map((line) => (
          <li key={line} className="py-0.5">
            {line}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Sends a test message, and shows what became of it. */
function Test({ api, disabled, onSent }: { api: string; disabled: boolean; onSent: () => void }) {
  const [room, setRoom] = useState("");
  const [sent, setSent] = useState<string | null>(null);
  const [error, setError] = useState<string | null>(null);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    setError(null);
    send<Message>("POST", `${api}/test`, { room })
      .then((message) => {
        setSent(message.id);
        onSent();
      })
      .catch((problem: Error) => setError(problem.message));
  };
  return (
    <section className="sheet p-5">
      <h3 className="mb-2 text-[17px]">Test message</h3>
      <form className="flex flex-wrap items-end gap-3" onSubmit={submit}>
        <label className="flex min-w-0 flex-1 flex-col gap-1">
          Room or address
          <input
            className="input w-full"
            maxLength={1000}
            value={room}
            onChange={(event) => setRoom(event.target.value)}
          />
        </label>
        <button type="submit" className="btn" disabled={disabled}>
          Send
        </button>
      </form>
      <Failure message={error} />
      {sent && <TestResult key={sent} address={`${api}/messages/${sent}`} />}
    </section>
  );
}

function TestResult({ address }: { address: string }) {
  const { data: message } = useResource<Message>(address, {
    busy: (one) => one.state === "answered",
  });
  if (!message) return null;
  const text =
    message.state === "sent"
      ? "The message was sent."
      : message.state === "failed"
        ? "The message could not be sent."
        : "The message will be sent.";
  return (
    <p role="status" className={`mt-3 ${message.state === "failed" ? "text-error" : ""}`}>
      {text} {message.reason}
    </p>
  );
}

function Messages({ items, onRetry }: { items: Message[]; onRetry: (message: Message) => void }) {
  const team = useTeam();
  if (items.length === 0) return <p className="sheet soft p-5">No messages yet.</p>;
  return (
    <div className="sheet overflow-x-auto">
      <table className="table">
        <thead>
          <tr>
            {["Received", "Sender", "Message", "State"].map((name) => (
              <th key={name}>{name}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {items.map((message) => (
            <tr key={message.id} className="align-top">
              <td className="whitespace-nowrap">
                <Ago at={message.received_at} />
              </td>
              <td>
                {message.sender_name || message.sender || "Fontanel"}
                {message.room && <span className="soft block text-[12.5px]">{message.room}</span>}
              </td>
              <td className="max-w-xl">
                {message.text && <p className="whitespace-pre-wrap">{message.text}</p>}
                {message.reply && (
                  <details>
                    <summary className="text-primary cursor-pointer">
                      {message.sources.length
                        ? `Reply with ${count(message.sources.length)} ${message.sources.length === 1 ? "source" : "sources"}`
                        : "Reply"}
                    </summary>
                    <p className="mt-1 whitespace-pre-wrap">{message.reply}</p>
                  </details>
                )}
                {message.turn_id && (
                  <Link
                    className="link-hover text-primary"
                    to={`/t/${team.slug}/answers/${message.turn_id}`}
                  >
                    Record of the answer
                  </Link>
                )}
              </td>
              <td>
                <MessageState message={message} />
                {message.reason && (
                  <span className="soft block text-[12.5px]">{message.reason}</span>
                )}
                {message.state === "failed" && message.answered_at && (
                  <button
                    type="button"
                    className="link text-primary cursor-pointer"
                    onClick={() => onRetry(message)}
                  >
                    Send again
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
