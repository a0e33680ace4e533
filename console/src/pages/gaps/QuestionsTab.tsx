import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { Ago, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { type Gap, kinds, RESOLUTIONS, SUGGESTIONS, Weeks } from "./parts";

/** Gaps, most often asked first. */
export function QuestionsTab() {
  const team = useTeam();
  const [state, setState] = useState<Gap["state"]>("open");
  const [kind, setKind] = useState("");
  const [desk, setDesk] = useState("");
  const [text, setText] = useState("");
  const desks = useResource<Schemas["Page_DeskOut_"]>(`${team.api}/desks`);
  const query = new URLSearchParams({
    state,
    limit: "200",
    ...(kind && { kind }),
    ...(desk && { desk }),
    ...(text && { text }),
  });
  const { data, error } = useResource<Schemas["Page_GapOut_"]>(`${team.api}/gaps?${query}`, {
    idle: IDLE,
  });
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-2.5">
        <input
          className="input input-sm w-60"
          type="search"
          aria-label="Find in questions"
          placeholder="Find in questions"
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <select
          className="select select-sm w-auto"
          aria-label="State"
          value={state}
          onChange={(event) => setState(event.target.value as Gap["state"])}
        >
          <option value="open">Open</option>
          <option value="resolved">Resolved</option>
        </select>
        <select
          className="select select-sm w-auto"
          aria-label="Why"
          value={kind}
          onChange={(event) => setKind(event.target.value)}
        >
          <option value="">Declined, weak or unhelpful</option>
          <option value="declined">Declined</option>
          <option value="weak">Weak</option>
          <option value="unhelpful">Unhelpful</option>
        </select>
        <select
          className="select select-sm w-auto"
          aria-label="Desk"
          value={desk}
          onChange={(event) => setDesk(event.target.value)}
        >
          <option value="">All desks</option>
          {desks.data?.items.map((one) => (
            <option key={one.id} value={one.slug}>
              {one.name}
            </option>
          ))}
        </select>
      </div>
      <Failure message={error} />
      {data?.items.length === 0 ? (
        <p className="sheet soft p-5">
          {state === "open"
            ? "No open gaps. Questions appear here when they are declined, answered doubtfully, or marked as unhelpful."
            : "Nothing is resolved yet."}
        </p>
      ) : (
        <ul className="sheet divide-base-300 divide-y" aria-label="Gaps">
          {data?.items.map((gap) => (
            <li key={gap.id} className="flex flex-wrap items-center gap-x-5 gap-y-1 px-4 py-3">
              <b className="w-9 text-right text-[19px] font-medium tabular-nums">{gap.count}</b>
              <div className="min-w-60 flex-1">
                <Link
                  className="link-hover font-serif text-[16.5px]"
                  to={`/t/${team.slug}/gaps/questions/${gap.id}`}
                >
                  {gap.question}
                </Link>
                <p className="soft text-[13px]">
                  {gap.state === "open"
                    ? SUGGESTIONS[gap.suggestion]
                    : gap.resolution && RESOLUTIONS[gap.resolution]}
                </p>
              </div>
              <Weeks weeks={gap.weeks} />
              <span className="soft w-48 text-[13px]">
                {kinds(gap)}
                <br />
                {gap.desks.map((one) => one.name).join(", ")}
              </span>
              <span className="soft w-28 text-right text-[13px]">
                {gap.assignee && (
                  <>
                    {gap.assignee}
                    <br />
                  </>
                )}
                <Ago at={gap.last_at} />
              </span>
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
