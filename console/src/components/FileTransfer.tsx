import { useRef, useState } from "react";
import { send } from "../api/client";
import { API } from "../root";
import { Failure } from "./text";

interface Imported {
  problems: { line: number; problem: string }[];
}

interface Props<Result extends Imported> {
  /** The path below which `import` and `export` are. */
  base: string;
  /** What a line of a file is, in the plural. */
  what: string;
  hint: string;
  mayEdit: boolean;
  total: number;
  onImported: () => void;
  /** What an import did. */
  summary: (done: Result) => string;
}

/** Import and export as JSON Lines or CSV. */
export function FileTransfer<Result extends Imported>({
  base,
  what,
  hint,
  mayEdit,
  total,
  onImported,
  summary,
}: Props<Result>) {
  const chooser = useRef<HTMLInputElement>(null);
  const [done, setDone] = useState<Result | null>(null);
  const [error, setError] = useState<string | null>(null);
  const read = async (file: File) => {
    setError(null);
    setDone(null);
    try {
      const form = file.name.toLowerCase().endsWith(".csv") ? "csv" : "jsonl";
      const text = await file.text();
      setDone(await send<Result>("POST", `${base}/import`, { form, text }));
      onImported();
    } catch (problem) {
      setError((problem as Error).message);
    }
  };
  return (
    <section className="mt-8" aria-label="Import and export">
      <h2 className="mb-2 text-[19px]">Import and export</h2>
      <p className="soft max-w-[70ch]">
        Files are JSON Lines or CSV. {hint} If one line is not valid, nothing is imported.
      </p>
      <p className="mt-2.5 flex flex-wrap gap-2.5">
        {mayEdit && (
          <>
            <button type="button" className="btn btn-sm" onClick={() => chooser.current?.click()}>
              Import a file
            </button>
            <input
              ref={chooser}
              type="file"
              className="hidden"
              aria-label={`File of ${what}`}
              accept=".jsonl,.ndjson,.csv"
              onChange={(event) => {
                const file = event.target.files?.[0];
                event.target.value = "";
                if (file) void read(file);
              }}
            />
          </>
        )}
        {total > 0 && (
          <>
            <a className="btn btn-sm" href={`${API}${base}/export?form=jsonl`} download>
              Export as JSON Lines
            </a>
            <a className="btn btn-sm" href={`${API}${base}/export?form=csv`} download>
              Export as CSV
            </a>
          </>
        )}
      </p>
      <Failure message={error} />
      {done && done.problems.length === 0 && (
        <p role="status" className="mt-2">
          {summary(done)}
        </p>
      )}
      {done && done.problems.length > 0 && (
        <div role="alert" className="text-error border-error mt-3 border-l-2 pl-3">
          <p>Nothing was imported.</p>
          <ul>
            {done.problems.map((one) => (
              <li key={one.line}>
                Line {one.line}: {one.problem}
              </li>
            ))}
          </ul>
        </div>
      )}
    </section>
  );
}
