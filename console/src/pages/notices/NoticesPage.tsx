import { useEffect } from "react";
import { Link } from "react-router";
import { type Schemas, send } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { Ago, count, Failure } from "../../components/text";
import { Wide } from "../../components/Wide";
import { useTeam } from "../../hooks/useSession";
import { Fresh, span } from "../sources/words";
import { Receivers } from "./Receivers";

const TONES: Record<string, string> = {
  "sync.failed": "bg-error",
  "sync.held": "bg-warning",
  "freshness.missed": "bg-error",
};

/** The freshness of the team's sources, and their events. */
export function NoticesPage() {
  const team = useTeam();
  const { data: sources } = useResource<Schemas["SourceFreshness"][]>(`${team.api}/freshness`, {
    idle: IDLE,
  });
  const { data, error } = useResource<Schemas["NoticesOut"]>(`${team.api}/notices`);
  const loaded = data !== null;
  useEffect(() => {
    if (loaded) void send("POST", `${team.api}/notices/seen`).catch(() => undefined);
  }, [loaded, team.api]);
  const where = (kb: string, source?: string | null) =>
    `/t/${team.slug}/kbs/${kb}${source ? `/sources/${source}` : ""}`;
  return (
    <>
      <h1 className="text-[27px] leading-tight">Freshness</h1>
      <p className="soft mt-1 mb-4">
        The time from a change at a source to its use in answers, over the last seven days.
      </p>
      <Wide label="Freshness of sources">
        <table className="table">
          <thead>
            <tr>
              {[
                "Source",
                "Knowledge base",
                "Freshness",
                "Documents",
                "Checked at",
                "Target",
                "Worst",
              ].map((name) => (
                <th key={name}>{name}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {(sources ?? []).map((item) => (
              <tr key={item.source_id}>
                <td>
                  <Link className="link-hover font-medium" to={where(item.kb_id, item.source_id)}>
                    {item.source}
                  </Link>
                  {item.error && (
                    <div className="text-error max-w-sm text-[13px]">{item.error}</div>
                  )}
                </td>
                <td>{item.kb}</td>
                <td>
                  <Fresh freshness={item.freshness} />
                </td>
                <td>{count(item.documents)}</td>
                <td>
                  <Ago at={item.freshness.as_of} />
                </td>
                <td>{item.freshness.target_minutes} min</td>
                <td>
                  {item.freshness.worst_seconds == null ? "–" : span(item.freshness.worst_seconds)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {sources?.length === 0 && (
          <p className="soft p-6 text-center">No sources yet. Connect one in a knowledge base.</p>
        )}
      </Wide>
      <h2 className="mt-8 mb-2 text-[19px]">Events</h2>
      <Failure message={error} />
      <ul className="sheet divide-base-300 divide-y">
        {data?.items.map((notice) => (
          <li key={notice.id} className="flex items-baseline gap-3 px-5 py-2.5">
            <span
              className={`size-2 shrink-0 rounded-full ${TONES[notice.kind] ?? "bg-success"}`}
              aria-hidden
            />
            <Link
              to={notice.kb_id ? where(notice.kb_id, notice.source_id) : `/t/${team.slug}/usage`}
              className={`link-hover flex-1 ${notice.seen ? "" : "font-semibold"}`}
            >
              {notice.message}
            </Link>
            <span className="soft whitespace-nowrap">
              <Ago at={notice.created_at} />
            </span>
          </li>
        ))}
        {data?.items.length === 0 && <li className="soft p-6 text-center">Nothing yet.</li>}
      </ul>
      {team.mayOwn && <Receivers api={team.api} />}
    </>
  );
}
