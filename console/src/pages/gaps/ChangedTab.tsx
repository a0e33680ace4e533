import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { CheckBox } from "../../components/forms";
import { Ago, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";

/** Past answers that cite text which has changed since, with the old and the new text. */
export function ChangedTab() {
  const team = useTeam();
  const [contradicted, setContradicted] = useState(true);
  const { data, error } = useResource<Schemas["Page_ChangedAnswer_"]>(
    `${team.api}/changed-answers?limit=100&contradicted=${contradicted}`,
    { idle: IDLE },
  );
  return (
    <>
      <CheckBox className="mb-3" checked={contradicted} onChange={setContradicted}>
        Only where the text states another value, or is gone
      </CheckBox>
      <Failure message={error} />
      {data?.items.length === 0 ? (
        <p className="sheet soft p-5">No past answer cites text that has changed.</p>
      ) : (
        <ul className="sheet divide-base-300 divide-y" aria-label="Changed answers">
          {data?.items.map((one) => (
            <li key={one.answer_id} className="px-4 py-3">
              <p className="flex flex-wrap items-baseline gap-x-4">
                <Link
                  className="link-hover font-serif text-[16.5px]"
                  to={`/t/${team.slug}/answers/${one.answer_id}`}
                >
                  {one.question}
                </Link>
                <span className="soft ml-auto text-[13px]">
                  asked <Ago at={one.asked_at} />, changed <Ago at={one.changed_at} />
                </span>
              </p>
              {one.sources.map((source, index) => (
                <div
                  key={index}
                  className="mt-1.5 grid gap-x-6 text-[13px] min-[800px]:grid-cols-2"
                >
                  <p className="text-error">
                    {source.title}, before: {source.old_text}
                  </p>
                  <p className={source.new_text ? "text-success" : "soft"}>
                    {source.new_text ? `now: ${source.new_text}` : "removed"}
                  </p>
                </div>
              ))}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
