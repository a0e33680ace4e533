import type { Schemas } from "../api/client";
import { count } from "./text";

/** The proof of an erasure: what was removed, and where it is still mentioned. */
export function Erased({ erasure }: { erasure: Schemas["ErasureOut"] }) {
  const mentions = Object.entries(erasure.mentions);
  return (
    <div className="sheet mt-3 p-4" role="status">
      <b className="font-semibold">Erased</b> <span className="soft font-mono">{erasure.id}</span>
      <ul className="mt-1">
        {Object.entries(erasure.removed).map(([kind, number]) => (
          <li key={kind}>
            {kind}: {count(number)}
          </li>
        ))}
      </ul>
      {mentions.length > 0 && (
        <p className="text-warning mt-2">
          Other records that still contain the name:{" "}
          {mentions.map(([table, number]) => `${table} (${count(number)})`).join(", ")}.
        </p>
      )}
      <p className="soft mt-2">
        {!erasure.finished_at && "Its files are being deleted. "}
        {erasure.in_backups_until
          ? `Backups from before are kept until ${new Date(erasure.in_backups_until).toLocaleDateString()}.`
          : "No backup has it."}
      </p>
    </div>
  );
}
