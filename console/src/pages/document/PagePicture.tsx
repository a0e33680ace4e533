import type { Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Failure } from "../../components/text";
import { API } from "../../root";
import type { Mark } from "./DocumentText";

interface Props {
  api: string;
  page: number;
  revision: string | null;
  marks: Mark[];
  passages: Schemas["CutOut"][];
  onChoose: (position: number) => void;
  onPage: (page: number) => void;
}

/**
 * A page of the original as a picture, with the text's highlights. A click on a line shows it in
 * the text.
 */
export function PagePicture({ api, page, revision, marks, passages, onChoose, onPage }: Props) {
  const query = revision ? `revision=${revision}` : "";
  const { data, error } = useResource<Schemas["PageOut"]>(`${api}/pages/${page}?${query}`);
  const places = data?.number === page ? data.places : [];
  const passageAt = (start: number) => passages.findLastIndex((passage) => passage.start <= start);
  return (
    <div className="border-base-300 relative overflow-hidden rounded border bg-white">
      <img
        src={`${API}${api}/pages/${page}/picture?width=900&${query}`}
        alt={`Page ${page} of the original`}
        className="w-full"
      />
      {places.map((place) => {
        const mark = marks.find((item) => item.start < place.end && item.end > place.start);
        const number = passages.length ? passageAt(place.start) : -1;
        // Within a line, highlights are placed by their share of its characters.
        const share = (position: number) =>
          Math.min(1, Math.max(0, (position - place.start) / (place.end - place.start)));
        const [a, b] = mark ? [share(mark.start), share(mark.end)] : [0, 1];
        const width = place.right - place.left;
        const look = mark
          ? mark.kind === "cited"
            ? "marked"
            : "bg-warning/40"
          : number < 0
            ? "hover:bg-primary/10"
            : number % 2
              ? "bg-primary/10"
              : "bg-warning/10";
        return (
          <button
            type="button"
            key={`${place.start} ${place.top} ${place.left}`}
            tabIndex={-1}
            aria-hidden={!mark}
            aria-label={mark ? "Highlighted text" : undefined}
            data-marked={mark?.kind}
            title={number < 0 ? undefined : `passage ${number + 1}`}
            className={`absolute cursor-pointer mix-blend-multiply ${look}`}
            style={{
              left: `${(place.left + a * width) * 100}%`,
              top: `${place.top * 100}%`,
              width: `${(b - a) * width * 100}%`,
              height: `${(place.bottom - place.top) * 100}%`,
            }}
            onClick={() => onChoose(place.start)}
          />
        );
      })}
      {data?.number === page &&
        data.links.map((link) => (
          <a
            key={`${link.left} ${link.top}`}
            className="hover:outline-primary absolute hover:outline"
            style={{
              left: `${link.left * 100}%`,
              top: `${link.top * 100}%`,
              width: `${(link.right - link.left) * 100}%`,
              height: `${(link.bottom - link.top) * 100}%`,
            }}
            href={link.address ?? `#page=${link.target}`}
            title={link.address ?? `Page ${link.target}`}
            aria-label={link.address ?? `Page ${link.target}`}
            target={link.address ? "_blank" : undefined}
            rel="noreferrer"
            tabIndex={-1}
            onClick={(event) => {
              if (link.address || !link.target) return;
              event.preventDefault();
              onPage(link.target);
            }}
          >
            <span className="sr-only">{link.address ?? `Page ${link.target}`}</span>
          </a>
        ))}
      <Failure message={error} />
    </div>
  );
}
