import { useState } from "react";
import { useNavigate } from "react-router";
import { type Doc, send } from "../../api/client";
import { Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";

/** For owners: erase a document with everything that was found in it. */
export function EraseDocument({ document, api }: { document: Doc; api: string }) {
  const team = useTeam();
  const navigate = useNavigate();
  const [asked, setAsked] = useState(false);
  const [error, setError] = useState<string | null>(null);
  if (team.role !== "owner") return null;
  const erase = () =>
    send("POST", `${api}/erase`)
      .then(() => navigate(`/t/${team.slug}/team`))
      .catch((problem: Error) => setError(problem.message));
  return (
    <div className="border-base-300 border-t p-4">
      {asked ? (
        <div role="group" aria-label={`Erase ${document.title}`}>
          <p className="mb-2">
            Deletes the document, and the text of all answers from it. This cannot be undone.
          </p>
          <button type="button" className="btn btn-sm text-error" onClick={() => void erase()}>
            Erase it and its answers
          </button>{" "}
          <button type="button" className="btn btn-sm" onClick={() => setAsked(false)}>
            Cancel
          </button>
        </div>
      ) : (
        <button type="button" className="btn btn-sm" onClick={() => setAsked(true)}>
          Erase…
        </button>
      )}
      <Failure message={error} />
    </div>
  );
}
