import { useEffect, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Failure, place } from "../../components/text";

interface Props {
  path: string;
  headers?: Record<string, string>;
  /** Whether it is the right passage for the answer. */
  onSay: (right: boolean) => Promise<unknown>;
  onClose: () => void;
}

/** A quote in its context, for readers without access to the document. */
export function ContextSheet({ path, headers, onSay, onClose }: Props) {
  const { data, error } = useResource<Schemas["ContextOut"]>(path, { headers });
  const [submitted, setSubmitted] = useState(false);
  const dialog = useRef<HTMLDialogElement>(null);
  const quote = useRef<HTMLElement>(null);
  useEffect(() => {
    dialog.current?.showModal();
  }, []);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the quote appears with the data
  useEffect(() => {
    // In braces: a returned promise would be added for a clean-up function.
    quote.current?.scrollIntoView({ block: "center" });
  }, [data]);
  return (
    <dialog
      ref={dialog}
      className="modal modal-bottom sm:modal-middle"
      aria-label="The citation in its document"
      onClose={onClose}
    >
      <div className="modal-box max-w-3xl">
        <Failure message={error} />
        {data && (
          <>
            <h2 className="text-[19px]">{data.title}</h2>
            <p className="soft mb-3">{place(data.title, data.locator)}</p>
            <section
              // biome-ignore lint/a11y/noNoninteractiveTabindex: the arrow keys scroll what has the focus
              tabIndex={0}
              aria-label="Text around the quote"
              className="max-h-[55vh] overflow-y-auto font-serif text-[16px] leading-relaxed whitespace-pre-line"
            >
              {!data.begins && "… "}
              {data.text.slice(0, data.quote_start).replaceAll("\t", " · ")}
              <mark ref={quote} className="marked">
                {data.text.slice(data.quote_start, data.quote_end).replaceAll("\t", " · ")}
              </mark>
              {data.text.slice(data.quote_end).replaceAll("\t", " · ")}
              {!data.ends && " …"}
            </section>
          </>
        )}
        <form method="dialog" className="mt-4 flex flex-wrap items-center gap-x-4 gap-y-2">
          {submitted ? (
            <span role="status" className="soft">
              Thank you.
            </span>
          ) : (
            <>
              <span className="soft">Does this passage support the answer?</span>
              {[true, false].map((right) => (
                <button
                  key={String(right)}
                  type="button"
                  className="link-hover cursor-pointer"
                  onClick={() => void onSay(right).then(() => setSubmitted(true))}
                >
                  {right ? "Yes" : "No"}
                </button>
              ))}
            </>
          )}
          <button type="submit" className="btn ml-auto">
            Close
          </button>
        </form>
      </div>
    </dialog>
  );
}
