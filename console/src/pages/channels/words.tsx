import type { Schemas } from "../../api/client";

export type Channel = Schemas["ChannelOut"];
export type Saved = Schemas["ChannelSaved"];
export type Message = Schemas["ChannelMessageOut"];
export type Kind = Schemas["ChannelKindOut"];

/** Whether a channel works; if not, why. */
export function ChannelState({ channel }: { channel: Channel }) {
  if (channel.paused) return <span className="soft">paused</span>;
  if (channel.failing) return <span className="text-error">failing</span>;
  if (channel.connected_at) return <span className="text-success">works</span>;
  return <span className="soft">not used yet</span>;
}

const STATES: Record<Message["state"], [string, string]> = {
  waiting: ["waiting", "soft"],
  answered: ["to be sent", "soft"],
  sent: ["sent", ""],
  noted: ["noted", ""],
  ignored: ["ignored", "soft"],
  failed: ["failed", "text-error"],
};

/** How far a message is. */
export function MessageState({ message }: { message: Message }) {
  const [word, look] = STATES[message.state];
  return <span className={look}>{word}</span>;
}

/** What a channel that was just saved needs at the other side, once. */
export function SetUp({ saved }: { saved: Saved }) {
  if (!saved.secret) return null;
  return (
    <p role="status" className="washed rounded-box my-3 p-3 break-all">
      Sign messages with <code className="font-mono font-semibold select-all">{saved.secret}</code>{" "}
      It is not shown again.
    </p>
  );
}
