import { type FormEvent, useEffect, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Failure } from "../../components/text";

type Kept = "kept_days" | "records_kept_days" | "originals_kept_days";

const FIELDS: [Kept, string, string][] = [
  ["kept_days", "Conversations", "after their last question"],
  ["records_kept_days", "Records of how answers were made", "after the answer, which stays"],
  ["originals_kept_days", "Originals of earlier revisions", "after they were replaced"],
];

/** For owners: how long conversations, records and originals are kept. */
export function Retention({ slug }: { slug: string }) {
  const { data, reload } = useResource<Schemas["Page_TeamOut_"]>("/teams");
  const team = data?.items.find((item) => item.slug === slug);
  const [days, setDays] = useState<Partial<Record<Kept, string>>>({});
  const [note, setNote] = useState<string | null>(null);
  const [failed, setFailed] = useState<string | null>(null);
  useEffect(() => {
    if (team) setDays(Object.fromEntries(FIELDS.map(([name]) => [name, String(team[name] ?? "")])));
  }, [team]);
  const save = (event: FormEvent) => {
    event.preventDefault();
    const values = FIELDS.map(([name]) => [name, days[name] ? Number(days[name]) : null]);
    send("PATCH", `/teams/${slug}`, Object.fromEntries(values))
      .then(() => {
        setFailed(null);
        setNote("Saved. What is older is deleted within the hour.");
        reload();
      })
      .catch((problem: Error) => {
        setNote(null);
        setFailed(problem.message);
      });
  };
  return (
    <section className="mt-9" aria-label="Retention">
      <h2 className="text-xl">Retention</h2>
      <p className="soft mb-2">Days to keep; leave empty for no limit.</p>
      <Failure message={failed} />
      <form onSubmit={save}>
        {FIELDS.map(([name, label, since]) => (
          <label key={name} className="mb-2 flex flex-wrap items-center gap-x-3">
            <span className="w-72">{label}</span>
            <input
              className="input w-28"
              type="number"
              min={1}
              max={3650}
              value={days[name] ?? ""}
              onChange={(e) => setDays({ ...days, [name]: e.target.value })}
            />
            <span className="soft">days {since}</span>
          </label>
        ))}
        <button type="submit" className="btn mt-1">
          Save
        </button>
        {note && (
          <span role="status" className="soft ml-3">
            {note}
          </span>
        )}
      </form>
    </section>
  );
}
