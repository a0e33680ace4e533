import { useState } from "react";
import { Link, useParams } from "react-router";
import { Missing } from "../../App";
import { type Doc, type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { CheckBox } from "../../components/forms";
import { Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { DocumentText } from "./DocumentText";
import { ProposalNote } from "./ProposalNote";

type Proposal = Schemas["ProposalOut"];
type Decision = Schemas["ProposalsDecision"]["decision"];

/** The questions that a document answers, at the margin of the text that they come from. */
export function ProposalsPage() {
  const team = useTeam();
  const { kb = "", document: id = "" } = useParams();
  const kbApi = `${team.api}/kbs/${kb}`;
  const api = `${kbApi}/documents/${encodeURIComponent(id)}`;
  const { data: document, error } = useResource<Doc>(api);
  const proposals = useResource<Schemas["DocumentProposals"]>(`${api}/proposals`, {
    busy: (data) => data.waiting,
  });
  const data = proposals.data;
  const revision = data?.revision_id ?? document?.revision.id;
  const text = useResource<Schemas["DocumentTextOut"]>(
    revision ? `${api}/text?revision=${revision}` : null,
  );
  const [chosen, setChosen] = useState<Set<string>>(new Set());
  const [category, setCategory] = useState("");
  const [dismissed, setDismissed] = useState(false);
  const [lit, setLit] = useState<Proposal | null>(null);
  const [failure, setFailure] = useState<string | null>(null);
  if (error) return <Missing />;
  if (!document || !data) return null;

  const act = (work: Promise<unknown>) =>
    work
      .then(() => {
        setFailure(null);
        setChosen(new Set());
        proposals.reload();
      })
      .catch((problem: Error) => setFailure(problem.message));
  const decide = (ids: string[], decision: Decision) =>
    void act(send("POST", `${kbApi}/proposals/decide`, { proposals: ids, decision, category }));
  const shown = data.items.filter((one) => dismissed || one.state !== "dismissed");
  const open = data.items.filter((one) => one.state === "open");
  const blocks = text.data?.blocks ?? [];
  const toggle = (one: Proposal) => {
    const next = new Set(chosen);
    if (!next.delete(one.id)) next.add(one.id);
    setChosen(next);
  };
  return (
    <>
      <p className="mb-2">
        <Link className="link-hover soft" to={`/t/${team.slug}/kbs/${kb}/documents/${id}`}>
          ← The document
        </Link>
      </p>
      <h1 className="text-[27px] leading-tight">{document.title}</h1>
      <p className="soft mt-1 max-w-[75ch]">
        The questions that this document answers. Approved ones are served with their text, word for
        word, before any search.
      </p>
      <Failure message={failure ?? data.error} />
      <div className="bg-base-200 border-base-300 sticky top-0 z-10 mt-4 flex flex-wrap items-center gap-2.5 border-b py-2.5">
        <button
          type="button"
          className={`btn btn-sm ${data.items.length === 0 ? "btn-primary" : ""}`}
          disabled={data.waiting}
          onClick={() => void act(send("POST", `${api}/proposals`))}
        >
          {data.items.length === 0 ? "Propose questions" : "Propose again"}
        </button>
        {open.length > 0 && (
          <>
            <button
              type="button"
              className="btn btn-sm"
              onClick={() =>
                setChosen(
                  chosen.size === open.length ? new Set() : new Set(open.map((one) => one.id)),
                )
              }
            >
              {chosen.size === open.length ? "Choose none" : "Choose all"}
            </button>
            <input
              className="input input-sm w-44"
              aria-label="Category"
              placeholder="Category"
              maxLength={80}
              value={category}
              onChange={(event) => setCategory(event.target.value)}
            />
            <button
              type="button"
              className="btn btn-primary btn-sm"
              disabled={chosen.size === 0}
              onClick={() => decide([...chosen], "approve")}
            >
              Approve {chosen.size || ""}
            </button>
            <button
              type="button"
              className="btn btn-sm"
              disabled={chosen.size === 0}
              onClick={() => decide([...chosen], "dismiss")}
            >
              Dismiss {chosen.size || ""}
            </button>
          </>
        )}
        <CheckBox kind="small" className="ml-auto" checked={dismissed} onChange={setDismissed}>
          show dismissed ones
        </CheckBox>
      </div>
      <p className="soft mt-2" role="status">
        {data.waiting
          ? `Looking for questions…${data.passages > 0 ? ` ${data.passages_read} of ${data.passages} passages are read.` : ""}`
          : data.revision_id
            ? `${open.length} to decide; ${data.items.length} of ${data.tried} questions passed.`
            : "Nothing is proposed yet."}
      </p>
      <div className="sheet mt-3 px-4 py-5 min-[900px]:px-8">
        {blocks.map((block) => {
          const own = shown.filter((one) => block.start <= one.start && one.start < block.end);
          const marks =
            lit && block.start < lit.end && lit.start < block.end
              ? [{ start: lit.start, end: lit.end, kind: "cited" as const }]
              : [];
          return (
            <div
              key={block.start}
              className="grid gap-x-8 min-[900px]:grid-cols-[minmax(0,1fr)_360px]"
            >
              <div className="min-w-0 font-serif">
                <DocumentText
                  text={text.data!.text}
                  blocks={[block]}
                  unit={text.data!.unit}
                  labels={text.data!.unit_names}
                  marks={marks}
                  passages={[]}
                  only={block.page ?? undefined}
                />
              </div>
              <ul className="space-y-2 pb-3">
                {own.map((one) => (
                  <ProposalNote
                    key={one.id}
                    proposal={one}
                    chosen={chosen.has(one.id)}
                    onChoose={() => toggle(one)}
                    onLight={(on) => setLit(on ? one : null)}
                    onDecide={(decision) => decide([one.id], decision)}
                    onChange={(change) =>
                      act(send("PATCH", `${kbApi}/proposals/${one.id}`, change))
                    }
                    approved={`/t/${team.slug}/kbs/${kb}/approved/${one.approved_id}`}
                  />
                ))}
              </ul>
            </div>
          );
        })}
      </div>
    </>
  );
}
