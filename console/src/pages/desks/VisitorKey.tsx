import { useState } from "react";
import { type Schemas, send } from "../../api/client";
import { Failure } from "../../components/text";
import type { Desk } from "./words";

/** The key with which a site that embeds the desk signs who its visitors are. */
export function VisitorKey({
  desk,
  api,
  onChange,
}: {
  desk: Desk;
  api: string;
  onChange: () => void;
}) {
  const [made, setMade] = useState<Schemas["VisitorKey"] | null>(null);
  const [error, setError] = useState<string | null>(null);
  const act = (work: Promise<unknown>) =>
    void work
      .then(() => {
        setError(null);
        onChange();
      })
      .catch((problem: Error) => setError(problem.message));
  const make = () => {
    if (desk.visitor_key && !confirm("The present key stops working. Make a new one?")) return;
    act(send<Schemas["VisitorKey"]>("POST", `${api}/visitor-key`).then(setMade));
  };
  const remove = () => {
    if (!confirm("Signed identities are no longer accepted. Delete the key?")) return;
    setMade(null);
    act(send("DELETE", `${api}/visitor-key`));
  };
  return (
    <>
      <h3 className="mt-5 mb-1 text-[17px]">Signed visitors</h3>
      <p className="soft mb-2 max-w-3xl">
        The site can say who its visitor is, in a token that it signs with a key. A visitor then has
        the same conversations in every browser, and a desk can refuse everybody else.
      </p>
      <Failure message={error} />
      {made && (
        <p role="status" className="washed rounded-box my-3 p-3 break-all">
          The key: <code className="font-mono font-semibold select-all">{made.key}</code> It is not
          shown again. Tokens are for the audience{" "}
          <code className="font-mono">{made.audience}</code>.
        </p>
      )}
      <div className="flex gap-3">
        <button type="button" className="btn btn-sm" onClick={make}>
          {desk.visitor_key ? "Replace the key" : "Make a key"}
        </button>
        {desk.visitor_key && (
          <button type="button" className="btn btn-sm" onClick={remove}>
            Delete the key
          </button>
        )}
      </div>
    </>
  );
}
