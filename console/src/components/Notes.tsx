import { useLayoutEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Citation, Evidence } from "../api/client";
import type { Draft } from "../hooks/useAsking";
import type { Lighting } from "./AnswerText";
import { Outdated, percent, place } from "./text";

const GAP = 20;

export interface ForReaders {
  /** The path of a citation's knowledge base; null for readers without access to documents. */
  pathOf: (cited: Cited) => string | null;
  /** Open a citation's context, for readers without access to the document. */
  onContext?: (citation: Citation) => void;
}

export const placeOf = (path: string, cited: Cited) =>
  `${path}/documents/${cited.document_id}?revision=${cited.revision_id}&from=${cited.start}&to=${cited.end}`;

export type Cited = {
  document_id: string;
  revision_id: string;
  start: number;
  end: number;
  kb_id?: string;
};

/** The margin: each note as close to its line as the notes above allow. */
export function Notes({
  turn,
  pathOf,
  onContext,
  lit,
  onLight,
  text,
}: Lighting & ForReaders & { turn: Draft } & { text: React.RefObject<HTMLDivElement | null> }) {
  const margin = useRef<HTMLElement>(null);
  const [tops, setTops] = useState<number[]>([]);
  const [height, setHeight] = useState(0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: notes are arranged again when the answer grows
  useLayoutEffect(() => {
    const arrange = () => {
      if (!margin.current || !text.current) return;
      const base = margin.current.getBoundingClientRect().top;
      const notes = [...margin.current.querySelectorAll<HTMLElement>("[data-note]")];
      let free = 0;
      const placed = notes.map((note) => {
        const line = text.current!.querySelector(`[data-cited="${note.dataset.note}"]`);
        const level = line ? line.getBoundingClientRect().top - base : 0;
        const top = Math.max(level, free);
        free = top + note.offsetHeight + GAP;
        return top;
      });
      setTops(placed);
      setHeight(free);
    };
    arrange();
    addEventListener("resize", arrange);
    void document.fonts.ready.then(arrange);
    return () => removeEventListener("resize", arrange);
  }, [turn.citations, turn.text, text]);
  return (
    <aside
      ref={margin}
      className="relative hidden min-[900px]:block"
      style={{ minHeight: height }}
      aria-label="Citations"
    >
      {turn.citations.map((citation, index) => (
        <Note
          key={citation.number}
          citation={citation}
          path={pathOf(citation)}
          onContext={onContext}
          lit={lit === citation.number}
          onLight={onLight}
          top={tops[index] ?? 0}
        />
      ))}
    </aside>
  );
}

interface NoteProps extends Pick<ForReaders, "onContext"> {
  citation: Citation;
  path: string | null;
  lit: boolean;
  onLight: (number: number | null) => void;
  top: number;
}

/** A note opens the document, or the quote in its context without access. */
function Note({ citation, path, onContext, lit, onLight, top }: NoteProps) {
  const shared = {
    "data-note": citation.number,
    "data-lit": lit,
    className: "note absolute w-full max-w-[370px] text-left",
    style: { top },
    onMouseEnter: () => onLight(citation.number),
    onMouseLeave: () => onLight(null),
    onFocus: () => onLight(citation.number),
    onBlur: () => onLight(null),
  };
  return path === null ? (
    <button
      type="button"
      {...shared}
      className={`${shared.className} cursor-pointer`}
      onClick={() => onContext?.(citation)}
    >
      <NoteText citation={citation} lit={lit} />
    </button>
  ) : (
    <Link to={placeOf(path, citation)} {...shared}>
      <NoteText citation={citation} lit={lit} />
    </Link>
  );
}

export function NoteText({ citation, lit }: { citation: Citation; lit: boolean }) {
  const where = place(citation.title, citation.locator);
  return (
    <>
      <span className="block text-[13px]">
        <b className="text-primary mr-1.5">{citation.number}</b>
        <b className="font-semibold">{citation.title}</b>
        <span className="soft">
          {where && ` · ${where}`}
          {citation.quote ? ` · ${percent(citation.match)}` : " · whole document"}
        </span>
      </span>
      {citation.quote && (
        <span className="mt-0.5 block font-serif text-[14.5px] leading-snug">
          “<span className={lit ? "marked" : ""}>{citation.quote.replaceAll("\t", " · ")}</span>”
        </span>
      )}
      <Outdated outdated={citation.outdated} />
      {(citation.also?.length ?? 0) > 0 && (
        <span className="soft block text-[13px]">also in {citation.also!.join(", ")}</span>
      )}
    </>
  );
}

export function Nearest({
  evidence,
  pathOf,
}: {
  evidence: Evidence[];
  pathOf: ForReaders["pathOf"];
}) {
  if (evidence.length === 0) return <aside />;
  return (
    <aside aria-label="Nearest passages">
      <p className="soft mb-2 text-[13px]">Nearest passages</p>
      {evidence.slice(0, 3).map((passage) => {
        const path = pathOf(passage);
        const text = (
          <>
            <span className="block text-[13px]">
              <b className="font-semibold">{passage.title}</b>
              <span className="soft">
                {" · "}
                {place(passage.title, passage.locator)} · {percent(passage.match)}
              </span>
            </span>
            <span className="mt-0.5 line-clamp-3 font-serif text-[14.5px] leading-snug">
              {passage.text.replaceAll("\t", " · ")}
            </span>
          </>
        );
        return path === null ? (
          <div key={passage.passage_id} className="note mb-4 max-w-[370px]">
            {text}
          </div>
        ) : (
          <Link
            key={passage.passage_id}
            to={placeOf(path, passage)}
            className="note mb-4 max-w-[370px]"
          >
            {text}
          </Link>
        );
      })}
    </aside>
  );
}

/** On a narrow screen a note opens from the bottom. */
export function NoteSheet({
  citation,
  path,
  onContext,
  onClose,
}: {
  citation: Citation;
  path: string | null;
  onContext?: ForReaders["onContext"];
  onClose: () => void;
}) {
  return (
    <div
      className="bg-base-100 border-base-300 fixed inset-x-0 bottom-0 z-10 rounded-t-2xl border-t p-5 shadow-lg"
      role="dialog"
      aria-label={`Citation ${citation.number}`}
    >
      <NoteText citation={citation} lit />
      <div className="mt-4 flex gap-3">
        {path !== null && (
          <Link className="btn btn-primary" to={placeOf(path, citation)}>
            Open the document
          </Link>
        )}
        {path === null && onContext && (
          <button
            type="button"
            className="btn btn-primary"
            onClick={() => {
              onClose();
              onContext(citation);
            }}
          >
            Open it in the document
          </button>
        )}
        <button type="button" className="btn" autoFocus onClick={onClose}>
          Close
        </button>
      </div>
    </div>
  );
}
