import { useState } from "react";
import { type Schemas, sendForm } from "../../api/client";
import { Facts, reportFacts } from "../../components/Report";
import { count, Failure } from "../../components/text";
import { DocumentText } from "../document/DocumentText";
import { useKb } from "./KbPage";
import { type Splitting, SplittingFields } from "./Splitting";

type Preview = Schemas["PreviewOut"];

/** How a file would be read and split with some settings. Nothing is stored. */
export function PreviewTab() {
  const { kb, api } = useKb();
  const [file, setFile] = useState<File | null>(null);
  const [splitting, setSplitting] = useState<Splitting>(kb.splitting);
  const [found, setFound] = useState<Preview | null>(null);
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState<string | null>(null);
  const attempt = async (chosen: File | null) => {
    if (!chosen) return;
    setFile(chosen);
    setBusy(true);
    setError(null);
    const form = new FormData();
    form.append("file", chosen);
    form.append("splitting", JSON.stringify(splitting));
    try {
      setFound(await sendForm<Preview>(`${api}/preview`, form));
    } catch (problem) {
      setFound(null);
      setError((problem as Error).message);
    }
    setBusy(false);
  };
  return (
    <div
      onDragOver={(event) => event.preventDefault()}
      onDrop={(event) => {
        event.preventDefault();
        void attempt(event.dataTransfer.files[0] ?? null);
      }}
    >
      <form
        className="sheet flex flex-wrap items-end gap-4 p-5"
        onSubmit={(event) => {
          event.preventDefault();
          void attempt(file);
        }}
      >
        <label className="flex flex-col gap-1">
          File to try
          <input
            type="file"
            className="file-input w-72"
            onChange={(event) => void attempt(event.target.files?.[0] ?? null)}
          />
        </label>
        <SplittingFields splitting={splitting} onChange={setSplitting} />
        <button type="submit" className="btn btn-primary" disabled={!file || busy}>
          {busy ? "Reading…" : "Try again"}
        </button>
      </form>
      <Failure message={error} />
      {!found && !error && (
        <p className="soft mt-6 text-center">
          Choose a file to see how it would be read and split. Nothing is added to the knowledge
          base.
        </p>
      )}
      {found && (
        <div className="mt-5 grid gap-6 min-[900px]:grid-cols-[minmax(0,1fr)_320px]">
          <aside className="min-[900px]:order-2">
            <div className="sheet min-[900px]:sticky min-[900px]:top-4">
              <Facts
                facts={[
                  ["Title", found.title],
                  ...reportFacts(found.report),
                  ["Passages", count(found.sizes.passages)],
                  [
                    "Tokens per passage",
                    `${found.sizes.min} to ${found.sizes.max}, half below ${found.sizes.median}`,
                  ],
                  [
                    "Time",
                    Object.entries(found.seconds)
                      .map(([stage, value]) => `${stage} ${value.toFixed(2)} s`)
                      .join(", "),
                  ],
                ]}
                warnings={found.warnings}
              />
              <Sizes sizes={found.sizes} />
              {found.inside.length > 0 && (
                <details className="border-base-300 border-t p-4">
                  <summary className="cursor-pointer">
                    {count(found.inside.length)} files inside become documents
                  </summary>
                  <ul className="soft mt-2 max-h-60 overflow-y-auto">
                    {found.inside.map((name) => (
                      <li key={name}>{name}</li>
                    ))}
                  </ul>
                </details>
              )}
            </div>
          </aside>
          <article className="sheet px-6 py-7 min-[900px]:px-10">
            <DocumentText
              text={found.text}
              blocks={found.blocks}
              unit={found.report.unit}
              labels={[]}
              marks={[]}
              passages={found.passages}
            />
          </article>
        </div>
      )}
    </div>
  );
}

/** A histogram of passages by size. */
function Sizes({ sizes }: { sizes: Schemas["SizesOut"] }) {
  const most = Math.max(1, ...sizes.bins.map(([, , number]) => number));
  if (sizes.bins.length === 0) return null;
  return (
    <figure className="border-base-300 border-t p-4">
      <figcaption className="soft mb-2">Passages by tokens</figcaption>
      <ul className="flex flex-col gap-1">
        {sizes.bins.map(([from, to, number]) => (
          <li
            key={from}
            className="grid grid-cols-[5.5em_1fr_2.5em] items-center gap-2 text-[12.5px] tabular-nums"
          >
            <span className="soft text-right">
              {from}–{to - 1}
            </span>
            <span
              className="bg-primary h-2.5 rounded-sm"
              style={{ width: `${(100 * number) / most}%` }}
            />
            <span>{count(number)}</span>
          </li>
        ))}
      </ul>
    </figure>
  );
}
