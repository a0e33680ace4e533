import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { count, percent } from "../../components/text";

export type Source = Schemas["SourceOut"];
export type Sync = Schemas["SyncOut"];
type Freshness = Schemas["FreshnessOut"];

const WORDS = ["added", "changed", "moved", "removed", "unchanged", "skipped", "failed"] as const;

/** The outcome of a run, in words. */
export function counts(sync: Sync): string {
  const parts = WORDS.filter((word) => sync[word]).map((word) => `${count(sync[word])} ${word}`);
  return parts.join(", ") || "nothing there";
}

/** A short duration. */
export function span(seconds: number): string {
  if (seconds < 120) return `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s`;
  return seconds < 7200 ? `${Math.round(seconds / 60)} min` : `${Math.round(seconds / 3600)} h`;
}

/** How long a run took, or has been running. */
export function took(sync: Sync): string {
  if (!sync.started_at) return "–";
  const end = sync.finished_at ? new Date(sync.finished_at).getTime() : Date.now();
  return span(Math.max(0, end - new Date(sync.started_at).getTime()) / 1000);
}

const STAGES: Record<string, string> = {
  taking: "taking",
  read: "reading",
  split: "splitting",
  describe: "describing",
  words: "words",
  embed: "embedding",
};

/** The time of a run by stage; the documents' times are added up. */
export function stages(sync: Sync): string {
  return Object.entries(sync.seconds)
    .filter(([, seconds]) => seconds >= 0.05)
    .map(([stage, seconds]) => `${STAGES[stage] ?? stage} ${span(seconds)}`)
    .join(", ");
}

/** When a source runs. */
export function plan(source: Source): string {
  if (source.paused) return "paused";
  if (source.cron) return `by the cron line ${source.cron}`;
  if (source.every_minutes) return `every ${source.every_minutes} min`;
  if (source.settings.watch) return "watched";
  return source.kind === "push" ? "sent by programs" : "by hand";
}

const STATES: Record<Freshness["state"], { word: string; dot: string }> = {
  fresh: { word: "fresh", dot: "bg-success" },
  late: { word: "late", dot: "bg-error" },
  new: { word: "not looked at yet", dot: "bg-base-300" },
  paused: { word: "paused", dot: "bg-base-300" },
  unscheduled: { word: "run by hand", dot: "bg-base-300" },
};

/** The freshness of a source: a dot and a word. */
export function FreshWord({ freshness }: { freshness: Freshness }) {
  const { word, dot } = STATES[freshness.state];
  const since = freshness.late_since
    ? ` for ${span((Date.now() - new Date(freshness.late_since).getTime()) / 1000)}`
    : "";
  return (
    <span className={`flex items-baseline gap-2 ${freshness.state === "late" ? "text-error" : ""}`}>
      <span className={`size-2 shrink-0 rounded-full ${dot}`} aria-hidden />
      {word}
      {since}
    </span>
  );
}

/** The same with its measurements. */
export function Fresh({ freshness }: { freshness: Freshness }) {
  return (
    <span data-freshness={freshness.state}>
      <FreshWord freshness={freshness} />
      {freshness.within != null && freshness.median_seconds != null && (
        <span className="soft block text-[12.5px]">
          {percent(freshness.within)} within {freshness.target_minutes} min, median{" "}
          {span(freshness.median_seconds)}
        </span>
      )}
    </span>
  );
}

const BARS: Record<Sync["state"], string> = {
  waiting: "bg-base-300",
  running: "bg-primary animate-pulse",
  held: "bg-warning",
  done: "bg-success",
  failed: "bg-error",
  ended: "bg-base-300",
};

/** A source's last runs, oldest first: a bar each, tall when something changed. */
export function Strip({ runs, path }: { runs: Sync[]; path: string }) {
  return (
    <ul className="flex h-6 items-end" aria-label={`The last ${runs.length} runs`}>
      {[...runs].reverse().map((run) => {
        const changed = run.added + run.changed + run.moved + run.removed > 0;
        return (
          <li key={run.id}>
            <Link
              to={`${path}/runs/${run.id}`}
              title={`${new Date(run.created_at).toLocaleString()}: ${run.state}, ${counts(run)}`}
              aria-label={`Run of ${new Date(run.created_at).toLocaleString()}: ${run.state}`}
              className="flex h-6 w-2 items-end justify-center"
            >
              <span
                className={`w-1.5 rounded-sm ${BARS[run.state]} ${changed || run.state !== "done" ? "h-6" : "h-2.5"}`}
              />
            </Link>
          </li>
        );
      })}
    </ul>
  );
}

/** A run's state, with its progress. */
export function RunState({ sync }: { sync: Sync }) {
  if (sync.state === "running") {
    const total = Math.max(sync.expected, sync.seen);
    return (
      <span className="flex items-center gap-2">
        <progress
          className="progress progress-primary w-24"
          value={total && sync.expected ? sync.seen / total : undefined}
          max={1}
          aria-label="run"
        />
        {sync.stage}
      </span>
    );
  }
  const tone =
    sync.state === "failed"
      ? "text-error"
      : sync.state === "held"
        ? "text-warning font-semibold"
        : "";
  return (
    <span className={tone} data-run={sync.state}>
      {sync.state}
      {sync.indexing > 0 && <span className="soft"> · {count(sync.indexing)} being indexed</span>}
    </span>
  );
}
