import type { Doc, Schemas } from "../api/client";

const MINUTE = 60_000;

/** A relative time, with the exact one on hover. */
export function Ago({ at }: { at: string | null | undefined }) {
  if (!at) return <span className="soft">–</span>;
  const then = new Date(at);
  const passed = Date.now() - then.getTime();
  let text = then.toLocaleDateString(undefined, {
    day: "numeric",
    month: "short",
    year: "numeric",
  });
  if (passed < MINUTE) text = "just now";
  else if (passed < 60 * MINUTE) text = `${Math.floor(passed / MINUTE)} min ago`;
  else if (passed < 24 * 60 * MINUTE) text = `${Math.floor(passed / (60 * MINUTE))} h ago`;
  return (
    <time dateTime={at} title={then.toLocaleString()}>
      {text}
    </time>
  );
}

export const count = (value: number | null | undefined) =>
  value == null ? "–" : value.toLocaleString("en");

export function size(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`;
  if (bytes < 1_000_000) return `${(bytes / 1000).toFixed(1)} kB`;
  if (bytes < 1_000_000_000) return `${(bytes / 1_000_000).toFixed(1)} MB`;
  return `${(bytes / 1_000_000_000).toFixed(1)} GB`;
}

/** The lines of a text field, without empty ones. */
export const lines = (text: string) =>
  text
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean);

export const percent = (share: number) => `${Math.round(share * 100)}\u00a0%`;

/** A time in a recording: 1:02:03 or 2:03. */
export function clock(seconds: number): string {
  const whole = Math.floor(seconds);
  const [hours, minutes, rest] = [
    Math.floor(whole / 3600),
    Math.floor(whole / 60) % 60,
    whole % 60,
  ];
  const two = (value: number) => String(value).padStart(2, "0");
  return hours ? `${hours}:${two(minutes)}:${two(rest)}` : `${minutes}:${two(rest)}`;
}

/** A page, slide, sheet or chapter: a sheet by its name, a page by its printed number. */
export function unitName(unit: string, number: number, label?: string | null): string {
  return `${unit} ${label && (unit === "page" || unit === "sheet") ? label : number}`;
}

/** A time span in its largest fitting unit. */
export function duration(seconds: number): string {
  if (seconds < 60) return `${Math.max(1, Math.round(seconds))} s`;
  return seconds < 3600 ? `${Math.round(seconds / 60)} min` : `${(seconds / 3600).toFixed(1)} h`;
}

/** An amount; small ones are not shown as nothing. */
export function money(amount: number): string {
  return amount > 0 && amount < 0.01 ? "less than 0.01" : amount.toFixed(2);
}

/** Page, rows or time, and headings of a passage, without the title. */
export function place(title: string, locator: Schemas["LocatorOut"]): string {
  const path = locator.heading_path.filter((heading) => heading !== title).join(" › ");
  const [first, last] = locator.rows ?? [];
  const rows = first === undefined ? "" : first === last ? `row ${first}` : `rows ${first}–${last}`;
  const time = locator.seconds == null ? "" : clock(locator.seconds);
  const page = locator.page ? unitName(locator.unit ?? "page", locator.page, locator.label) : "";
  const picture = locator.described_by ? `picture, described by ${locator.described_by}` : "";
  return [page, rows, time, picture, path].filter(Boolean).join(" · ");
}

const STATES: Record<Doc["state"], { word: string; dot: string }> = {
  waiting: { word: "waiting", dot: "bg-base-300" },
  reading: { word: "reading", dot: "bg-primary" },
  splitting: { word: "splitting", dot: "bg-primary" },
  needs_transcript: { word: "needs a transcript", dot: "bg-warning" },
  transcribing: { word: "transcribing", dot: "bg-primary" },
  describing: { word: "describing pictures", dot: "bg-primary" },
  keyword_ready: { word: "keyword search ready", dot: "bg-primary" },
  indexed: { word: "indexed", dot: "bg-success" },
  failed: { word: "failed", dot: "bg-error" },
  removed: { word: "removed at source", dot: "bg-base-300" },
};

/** A document's state: a dot and a word, with its progress, or the reason of a failure. */
export function State({ document }: { document: Doc }) {
  const { word, dot } = STATES[document.state];
  if (document.progress != null && document.state !== "failed") {
    return (
      <span className="flex items-center gap-2" data-state={document.state}>
        <progress
          className="progress progress-primary w-24"
          value={document.progress}
          max={1}
          aria-label={word}
        />
        {word} · {percent(document.progress)}
      </span>
    );
  }
  return (
    <span
      className={`flex items-baseline gap-2 ${document.state === "failed" ? "text-error" : ""}`}
      data-state={document.state}
    >
      <span className={`inline-block size-2 shrink-0 rounded-full ${dot}`} aria-hidden />
      <span>{document.state === "failed" ? `failed: ${document.error}` : word}</span>
    </span>
  );
}

/** Why a document is not in force, in a few words. */
export function outdatedText({ reason, replaced_by: by, on }: Schemas["OutdatedOut"]): string {
  if (reason === "replaced") return `replaced by ${by || "another document"}`;
  if (reason === "expired") return `expired on ${on}`;
  return reason === "not_yet" ? `not in force before ${on}` : "withdrawn";
}

/** A remark that a document is not in force; nothing if it is. */
export function Outdated({ outdated }: { outdated: Schemas["OutdatedOut"] | null | undefined }) {
  if (!outdated) return null;
  const text = outdatedText(outdated);
  return (
    <span className="text-warning block text-[13px] font-sans">
      {text[0]!.toUpperCase() + text.slice(1)}
    </span>
  );
}

/** How many approved answers have to be looked at again; nothing if there are none. */
export function Flagged({ number }: { number: number }) {
  if (number === 0) return null;
  return (
    <span className="text-warning">
      {count(number)} approved {number === 1 ? "answer needs" : "answers need"} another look
    </span>
  );
}

export function Failure({ message }: { message: string | null | undefined }) {
  if (!message) return null;
  return (
    <p role="alert" className="text-error border-error my-3 border-l-2 pl-3">
      {message}
    </p>
  );
}
