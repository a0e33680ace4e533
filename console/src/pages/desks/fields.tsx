import { type ReactNode, useId } from "react";

/** Settings that belong together. */
export function Group({
  title,
  hint,
  children,
}: {
  title: string;
  hint?: string;
  children: ReactNode;
}) {
  return (
    <fieldset className="sheet mb-4 p-4">
      <legend className="font-serif text-[17px] font-semibold">{title}</legend>
      {hint && <p className="soft mb-3">{hint}</p>}
      <div className="space-y-3.5">{children}</div>
    </fieldset>
  );
}

/** A labelled setting; its input gets the id. */
export function Field({
  label,
  hint,
  plain = false,
  children,
}: {
  label: string;
  hint?: string;
  /** Whether the label is written like text, as in forms without groups. */
  plain?: boolean;
  children: (id: string) => ReactNode;
}) {
  const id = useId();
  return (
    <div>
      <label htmlFor={id} className={`mb-1 block ${plain ? "" : "font-medium"}`}>
        {label}
      </label>
      {children(id)}
      {hint && <p className="soft mt-1 text-[13px]">{hint}</p>}
    </div>
  );
}
