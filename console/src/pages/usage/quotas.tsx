import type { Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { count, percent, size } from "../../components/text";
import { useTeam } from "../../hooks/useSession";

type Quota = Schemas["QuotaOut"];
export type QuotaName = Quota["name"];

/** What each quota counts, in the order in which they are shown. */
export const QUOTAS: Record<QuotaName, string> = {
  documents: "Documents",
  bytes: "Storage",
  passages: "Passages",
  questions: "Questions a month",
  tokens: "Tokens a month",
  recording_minutes: "Minutes of recordings a month",
  streams: "Open streams",
  requests_per_minute: "Requests a minute, each caller",
  questions_per_minute: "Questions a minute, each caller",
};

export const amount = (name: QuotaName, value: number) =>
  name === "bytes" ? size(value) : count(value);

const TONES = {
  none: "progress-primary",
  fine: "progress-primary",
  low: "progress-warning",
  reached: "progress-error",
};

/** How much of a quota is used, as a bar with its numbers. */
export function QuotaUse({ quota, stacked = false }: { quota: Quota; stacked?: boolean }) {
  if (quota.limit == null)
    return (
      <span className="soft">
        {quota.used == null ? "no limit" : amount(quota.name, quota.used)}
      </span>
    );
  if (quota.used == null) return <span>up to {amount(quota.name, quota.limit)}</span>;
  return (
    <span className={stacked ? "flex flex-col" : "flex flex-wrap items-center gap-x-3"}>
      <progress
        className={`progress w-40 ${TONES[quota.state]}`}
        value={Math.min(quota.share ?? 0, 1)}
        max={1}
        aria-label={`Share of ${QUOTAS[quota.name]}`}
      />
      <span className="tabular-nums">
        {amount(quota.name, quota.used)} of {amount(quota.name, quota.limit)}
      </span>
      {quota.state !== "fine" && (
        <span className={quota.state === "reached" ? "text-error" : "text-warning"}>
          {quota.state === "reached" ? "used up" : `${percent(quota.share ?? 0)} used`}
        </span>
      )}
    </span>
  );
}

/** The team's quotas, if it has any limits. */
export function TeamQuotas() {
  const team = useTeam();
  const { data } = useResource<Schemas["TeamQuotas"]>(`${team.api}/quotas`);
  const limited = data?.quotas.filter((quota) => quota.limit != null) ?? [];
  // The service limits streams of every team; that alone is not worth a section.
  if (!limited.some((quota) => quota.name !== "streams")) return null;
  return (
    <section className="sheet mt-4 p-4" aria-label="Quotas">
      <b className="font-semibold">Quotas</b>
      <p className="soft mb-3">An operator of the service sets them.</p>
      <dl className="grid gap-x-6 gap-y-2 sm:grid-cols-[max-content_1fr]">
        {limited.map((quota) => (
          <div key={quota.name} className="contents">
            <dt>{QUOTAS[quota.name]}</dt>
            <dd>
              <QuotaUse quota={quota} />
            </dd>
          </div>
        ))}
      </dl>
    </section>
  );
}
