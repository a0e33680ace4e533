import type { Schemas } from "../../api/client";
import { CheckBox } from "../../components/forms";
import { Facts, reportFacts } from "../../components/Report";
import { Ago, clock, count, State, size, unitName } from "../../components/text";
import { EraseDocument } from "./EraseDocument";
import { type PartProps, Tags } from "./Tags";
import { Validity } from "./Validity";

interface BarProps {
  text: Schemas["DocumentTextOut"] | null;
  page: number;
  pages: number;
  onPage: (page: number) => void;
  find: string;
  onFind: (find: string) => void;
  hits: number;
  place: number;
  onPlace: (place: number) => void;
  outlined: boolean;
  onOutlined: (outlined: boolean) => void;
  original: string;
  download: string;
}

/** Navigation in a document: to a page, words, passages, or the original. */
export function DocumentBar({
  text,
  page,
  pages,
  onPage,
  find,
  onFind,
  hits,
  place,
  onPlace,
  outlined,
  onOutlined,
  original,
  download,
}: BarProps) {
  const unit = text?.unit ?? "page";
  return (
    <div
      className="my-4 flex flex-wrap items-center gap-x-5 gap-y-2"
      role="toolbar"
      aria-label="Document"
    >
      {pages > 1 && (
        <span className="flex items-center gap-1">
          <button
            type="button"
            className="btn btn-sm"
            aria-label={`Previous ${unit}`}
            disabled={page <= 1}
            onClick={() => onPage(page - 1)}
          >
            ‹
          </button>
          <select
            className="select select-sm w-auto"
            aria-label={`Go to ${unit}`}
            value={page}
            onChange={(event) => onPage(Number(event.target.value))}
          >
            {Array.from({ length: pages }, (_, index) => (
              <option key={index} value={index + 1}>
                {unitName(unit, index + 1, text?.unit_names[index])}
              </option>
            ))}
          </select>
          <button
            type="button"
            className="btn btn-sm"
            aria-label={`Next ${unit}`}
            disabled={page >= pages}
            onClick={() => onPage(page + 1)}
          >
            ›
          </button>
        </span>
      )}
      <form
        className="flex items-center gap-2"
        role="search"
        onSubmit={(event) => {
          event.preventDefault();
          if (hits) onPlace((place + 1) % hits);
        }}
      >
        <input
          className="input input-sm w-52"
          placeholder="Find in this document…"
          aria-label="Find in this document"
          value={find}
          onChange={(event) => onFind(event.target.value)}
        />
        {find.length > 1 && (
          <span className="soft tabular-nums" role="status">
            {hits ? `${place + 1} of ${hits}` : "not there"}
          </span>
        )}
      </form>
      <CheckBox kind="toggle" checked={outlined} onChange={onOutlined}>
        Show passages
      </CheckBox>
      <span className="ml-auto flex gap-2">
        <a className="btn btn-sm" href={original} target="_blank" rel="noreferrer">
          Open the original
        </a>
        <a className="btn btn-sm" href={download}>
          Download
        </a>
      </span>
    </div>
  );
}

export function About({ document, api, mayEdit, onChange }: PartProps) {
  const { revision } = document;
  const seconds = Object.entries(revision.seconds).map(
    ([stage, value]) => `${stage} ${value.toFixed(2)} s`,
  );
  return (
    <section className="sheet" aria-label="Reading report">
      <Facts
        facts={[
          ["State", <State key="s" document={document} />],
          ...(revision.report ? reportFacts(revision.report) : []).filter(
            ([name]) => name !== "Pages" || revision.duration == null,
          ),
          ...(revision.duration == null
            ? []
            : [["Duration", clock(revision.duration)] as [string, string]]),
          ["Passages", count(revision.passages)],
          ["Tokens", count(revision.tokens)],
          ["Size", size(revision.size)],
          ["Revision", revision.number],
          ["Added", <Ago key="a" at={revision.created_at} />],
          ["Time", seconds.join(", ") || "–"],
        ]}
        warnings={revision.warnings}
      />
      <Validity document={document} api={api} mayEdit={mayEdit} onChange={onChange} />
      <Tags document={document} api={api} mayEdit={mayEdit} onChange={onChange} />
      <EraseDocument document={document} api={api} />
    </section>
  );
}
