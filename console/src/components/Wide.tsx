import type { ReactNode } from "react";

/** What may be wider than the screen, such as a table: it scrolls, also by keyboard. */
export function Wide({ label, children }: { label: string; children: ReactNode }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: the arrow keys scroll what has the focus
    <section className="sheet overflow-x-auto" aria-label={label} tabIndex={0}>
      {children}
    </section>
  );
}
