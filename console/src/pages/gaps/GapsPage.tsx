import { Outlet } from "react-router";
import { Tabs } from "../../components/forms";

const TABS = [
  ["questions", "Questions"],
  ["feedback", "Feedback"],
  ["changed", "Changed text"],
] as const;

/** What was asked and not answered well, and what askers said. */
export function GapsPage() {
  return (
    <>
      <h1 className="text-[27px] leading-tight">Gaps</h1>
      <p className="soft mt-1 max-w-[75ch]">
        Questions that were declined, answered doubtfully, or marked as unhelpful, and answers whose
        text has changed since.
      </p>
      <Tabs label="Gaps" tabs={TABS} />
      <Outlet />
    </>
  );
}
