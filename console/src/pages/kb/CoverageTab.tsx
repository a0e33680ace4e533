import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { CheckBox } from "../../components/forms";
import { Ago, count, Failure } from "../../components/text";
import { useKb } from "./KbPage";

const YEAR = 365;

/** Which documents answers needed, the least needed first. */
export function CoverageTab() {
  const { api, path } = useKb();
  const [unused, setUnused] = useState(false);
  const { data, error } = useResource<Schemas["Page_DocumentCoverage_"]>(
    `${api}/coverage?limit=500${unused ? `&unused_days=${YEAR}` : ""}`,
  );
  return (
    <>
      <p className="soft mb-3 max-w-[75ch]">
        How often the searches of answers found a document's passages, and how often answers cited
        them. Passages that are never found may be worded unlike any question.
      </p>
      <CheckBox className="mb-3" checked={unused} onChange={setUnused}>
        Only documents that no answer needed for a year
      </CheckBox>
      <Failure message={error} />
      {data?.items.length === 0 ? (
        <p className="sheet soft p-5">{unused ? "No such documents." : "No documents yet."}</p>
      ) : (
        <div className="sheet overflow-x-auto">
          <table className="table" aria-label="Coverage">
            <thead>
              <tr>
                <th>Document</th>
                <th className="text-right">Passages</th>
                <th className="text-right">Never found</th>
                <th className="text-right">Found</th>
                <th className="text-right">Cited</th>
                <th>Last cited</th>
              </tr>
            </thead>
            <tbody>
              {data?.items.map((one) => (
                <tr key={one.document_id}>
                  <td>
                    <Link
                      className="link-hover font-medium"
                      to={`${path}/documents/${one.document_id}/coverage`}
                    >
                      {one.title}
                    </Link>
                  </td>
                  <td className="text-right tabular-nums">{count(one.passages)}</td>
                  <td className="text-right tabular-nums">{count(one.unfound)}</td>
                  <td className="text-right tabular-nums">{count(one.found)}</td>
                  <td className="text-right tabular-nums">{count(one.cited)}</td>
                  <td className="soft">
                    {one.last_cited_at ? <Ago at={one.last_cited_at} /> : "never"}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}
