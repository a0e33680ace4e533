import type { Schemas } from "../../api/client";

export type Settings = Schemas["DeskSettings"];
export type Desk = Schemas["DeskOut"];
export type Colour = NonNullable<Settings["colour"]>;

/** The colours of desks are those of the themes. */
const COLOURS: Record<Colour, string> = {
  harbour: "bg-primary text-primary-content",
  moss: "bg-success text-success-content",
  rust: "bg-error text-error-content",
  sand: "bg-warning text-warning-content",
  slate: "bg-secondary text-secondary-content",
  ink: "bg-neutral text-neutral-content",
};
export const COLOUR_NAMES = Object.keys(COLOURS) as Colour[];

/** A desk's sign: its symbol or the first letter of its name, on its colour. */
export function Sign({
  name,
  symbol,
  colour,
  large = false,
}: {
  name: string;
  symbol?: string;
  colour?: Colour;
  large?: boolean;
}) {
  const size = large ? "size-11 text-xl" : "size-8 text-[15px]";
  return (
    <span
      className={`rounded-field inline-flex shrink-0 items-center justify-center font-serif font-semibold ${size} ${COLOURS[colour ?? "harbour"]}`}
      aria-hidden
    >
      {symbol || name.slice(0, 1).toUpperCase()}
    </span>
  );
}

export const REASONS: [Schemas["FeedbackIn"]["reason"] & string, string][] = [
  ["wrong", "It is wrong"],
  ["incomplete", "Something is missing"],
  ["outdated", "It is out of date"],
  ["wrong_source", "The wrong source is cited"],
  ["unclear", "It is hard to understand"],
  ["should_have_answered", "It should have answered"],
  ["other", "Something else"],
];

export const OUTCOMES: Record<string, string> = {
  answered: "answered",
  declined: "declined",
  small_talk: "small talk",
  unfinished: "unfinished",
};

/** Who asked, as far as known. */
export const asker = (id: string) =>
  id.startsWith("guest:")
    ? `guest ${id.slice(6, 12)}`
    : id.startsWith("key:")
      ? "a program"
      : id.startsWith("trial:")
        ? "a trial"
        : "a member";
