import { useEffect, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { Missing } from "../../App";
import { type Doc, type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { ChangeRows } from "../../components/ChangeRows";
import { Ago, Failure } from "../../components/text";
import { useInProgress } from "../../hooks/useInProgress";
import { useTeam } from "../../hooks/useSession";

/** A document's revisions, and what changed between two of them, side by side. */
export function ChangesPage() {
  const team = useTeam();
  const { kb = "", document: id = "" } = useParams();
  const api = `${team.api}/kbs/${kb}/documents/${id}`;
  const path = `/t/${team.slug}/kbs/${kb}/documents/${id}`;
  const inProgress = useInProgress();
  const { data: document, error } = useResource<Doc>(api, { busy: inProgress });
  const { data: revisions } = useResource<Schemas["Page_RevisionOut_"]>(`${api}/revisions`);
  const [before, setBefore] = useState("");
  const [after, setAfter] = useState("");
  const query = [before && `before=${before}`, after && `after=${after}`].filter(Boolean).join("&");
  const found = useResource<Schemas["DifferencesOut"]>(
    `${api}/differences${query ? `?${query}` : ""}`,
  );
  const { reload } = found;
  const active = document?.active_revision;
  // biome-ignore lint/correctness/useExhaustiveDependencies: a revision that was just read can be compared
  useEffect(reload, [active, reload]);
  const [failure, setFailure] = useState<string | null>(null);
  const navigate = useNavigate();
  if (error) return <Missing />;
  if (!document) return null;
  const choose = (label: string, value: string, onChange: (value: string) => void) => (
    <label className="flex items-center gap-2">
      {label}
      <select
        className="select w-auto"
        value={value}
        onChange={(event) => onChange(event.target.value)}
      >
        {revisions?.items.map((revision) => (
          <option key={revision.id} value={revision.id}>
            revision {revision.number}, {new Date(revision.created_at).toLocaleString()}
          </option>
        ))}
      </select>
    </label>
  );
  const restore = (revision: string) =>
    send("POST", `${api}/revisions/${revision}/restore`).then(
      () => navigate(path),
      (problem: Error) => setFailure(problem.message),
    );
  return (
    <>
      <p className="mb-2">
        <Link className="link-hover soft" to={path}>
          ← {document.title}
        </Link>
      </p>
      <h1 className="text-[27px] leading-tight">What changed</h1>
      {found.data && (
        <div className="mt-3 mb-4 flex flex-wrap gap-5">
          {choose("Before", found.data.before.id, setBefore)}
          {choose("After", found.data.after.id, setAfter)}
          {team.mayEdit && !document.source && found.data.before.id !== document.revision.id && (
            <button
              type="button"
              className="btn"
              onClick={() => void restore(found.data!.before.id)}
            >
              Restore revision {found.data.before.number}
            </button>
          )}
        </div>
      )}
      <Failure message={failure ?? found.error} />
      {found.data && (
        <div className="sheet overflow-x-auto">
          <table className="set w-full max-w-none table-fixed text-[15px]">
            <thead className="font-sans text-[13px]">
              <tr>
                <th className="w-1/2 px-5 py-2 text-left">
                  Revision {found.data.before.number}, <Ago at={found.data.before.created_at} />
                </th>
                <th className="px-5 py-2 text-left">
                  Revision {found.data.after.number}, <Ago at={found.data.after.created_at} />
                </th>
              </tr>
            </thead>
            <tbody>
              <ChangeRows changes={found.data.changes} />
            </tbody>
          </table>
          {found.data.changes.every((change) => change.kind === "same") && (
            <p className="soft p-5">The text is identical.</p>
          )}
        </div>
      )}
    </>
  );
}
