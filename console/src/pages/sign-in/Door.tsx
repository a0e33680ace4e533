import type { ReactNode } from "react";
import { Mark } from "../../components/Frame";

/** The frame of pages for people who are not signed in. */
export function Door({ children }: { children: ReactNode }) {
  return (
    <main className="mx-auto flex min-h-screen max-w-sm flex-col justify-center px-4 pb-24">
      <h1 className="mb-6 flex items-center gap-3 text-2xl">
        <Mark /> Fontanel
      </h1>
      {children}
    </main>
  );
}
