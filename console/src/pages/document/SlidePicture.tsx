import type { Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Failure } from "../../components/text";
import { BlockText, type Mark } from "./DocumentText";

interface Props {
  api: string;
  page: number;
  revision: string | null;
  text: Schemas["DocumentTextOut"];
  marks: Mark[];
  onChoose: (position: number) => void;
}

/** A slide's text in its layout. Its drawings are only in the original. */
export function SlidePicture({ api, page, revision, text, marks, onChoose }: Props) {
  const { data, error } = useResource<Schemas["PageOut"]>(
    `${api}/pages/${page}${revision ? `?revision=${revision}` : ""}`,
  );
  const slide = data?.number === page ? data : null;
  return (
    <div
      className="border-base-300 relative overflow-hidden rounded border bg-white text-black"
      style={{ aspectRatio: slide?.shape ?? 16 / 9, containerType: "inline-size" }}
      role="group"
      aria-label={`Slide ${page}`}
    >
      {slide?.places.map((place) => {
        const block = text.blocks.find((item) => item.start === place.start);
        if (!block) return null;
        return (
          // biome-ignore lint/a11y/useKeyWithClickEvents: the text next to it offers the same by keyboard
          <div
            key={place.start}
            className={`slide absolute cursor-pointer overflow-hidden ${block.kind === "figure" ? "border border-dashed border-neutral-400 bg-neutral-100 p-[1cqw]" : ""} ${block.kind}`}
            style={{
              left: `${place.left * 100}%`,
              top: `${place.top * 100}%`,
              width: `${(place.right - place.left) * 100}%`,
              minHeight: `${(place.bottom - place.top) * 100}%`,
            }}
            onClick={() => onChoose(place.start)}
          >
            <BlockText
              block={block}
              text={text.text}
              marks={marks.filter((mark) => mark.start < block.end && mark.end > block.start)}
            />
          </div>
        );
      })}
      <Failure message={error} />
    </div>
  );
}
