import type { Schemas } from "../../api/client";

/** Whether an approved answer is served: a dot and a word. */
export function Served({ approved }: { approved: Schemas["ApprovedOut"] }) {
  const [dot, word] = approved.served
    ? ["bg-success", `approved${approved.approved_by ? ` by ${approved.approved_by}` : ""}`]
    : approved.state === "approved"
      ? ["bg-warning", "approved, not valid today"]
      : approved.state === "draft"
        ? ["bg-base-300", "draft"]
        : ["bg-base-300", "retired"];
  return (
    <span className="flex items-baseline gap-2" data-state={approved.state}>
      <span className={`inline-block size-2 rounded-full ${dot}`} aria-hidden />
      {word}
    </span>
  );
}
