import { useState } from "react";
import { type Schemas, send } from "../../api/client";

/** Follows an answer: the asker is notified when it changes, in a feed, members also by e-mail. */
export function Follow({
  api,
  headers,
  turn,
}: {
  api: string;
  headers?: Record<string, string>;
  turn: string;
}) {
  const [feed, setFeed] = useState<string | null>(null);
  const [mailed, setMailed] = useState(false);
  const [error, setError] = useState<string | null>(null);
  const act = (work: Promise<unknown>) =>
    work.then(() => setError(null)).catch((problem: Error) => setError(problem.message));
  const follow = (email: boolean) =>
    act(
      send<Schemas["FollowCreated"]>("PUT", `${api}/turns/${turn}/follow`, { email }, headers).then(
        (made) => {
          setFeed(made.feed);
          setMailed(made.email);
        },
      ),
    );
  const stop = () =>
    act(
      send("DELETE", `${api}/followed/${turn}`, undefined, headers).then(() => {
        setFeed(null);
        setMailed(false);
      }),
    );
  if (feed === null) {
    return (
      <>
        <button
          type="button"
          className="link-hover cursor-pointer"
          onClick={() => void follow(false)}
        >
          Tell me when this changes
        </button>
        {error && <span className="text-error basis-full">{error}</span>}
      </>
    );
  }
  return (
    <span className="border-primary basis-full border-l-2 pl-3" role="status">
      Changes of this answer appear in{" "}
      <a className="link text-primary" href={feed}>
        a feed of your own
      </a>
      {mailed && ", and are sent to you by e-mail"}.{" "}
      {!headers && !mailed && (
        <button
          type="button"
          className="link text-primary cursor-pointer"
          onClick={() => void follow(true)}
        >
          Send e-mail as well
        </button>
      )}{" "}
      <button
        type="button"
        className="link text-primary cursor-pointer"
        onClick={() => void stop()}
      >
        Stop following
      </button>
      {error && <span className="text-error block">{error}</span>}
    </span>
  );
}
