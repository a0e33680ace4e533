import { type FormEvent, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { get, type Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { FileTransfer } from "../../components/FileTransfer";
import { Ago, count, Failure, percent } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { useKb } from "../kb/KbPage";
import { Flags } from "./Flags";
import { Served } from "./Served";

type Approved = Schemas["ApprovedOut"];

const PAGE = 100;

/** The approved answers of a knowledge base: found by text, state and category. */
export function ApprovedTab() {
  const { api, path } = useKb();
  const team = useTeam();
  const [address, setAddress] = useSearchParams();
  const [limit, setLimit] = useState(PAGE);
  const chosen = (name: string) => address.get(name) ?? "";
  const choose = (name: string, value: string) =>
    setAddress(
      (current) => {
        if (value) current.set(name, value);
        else current.delete(name);
        return current;
      },
      { replace: true },
    );
  const filters = new URLSearchParams({ limit: String(Math.min(limit, 200)) });
  for (const name of ["text", "state", "category"])
    if (chosen(name)) filters.set(name, chosen(name));
  const base = `${api}/approved`;
  const { data, error, reload } = useResource<Schemas["Page_ApprovedOut_"]>(`${base}?${filters}`);
  const categories = useResource<Schemas["ApprovedCount"][]>(`${base}/categories`);
  const total = (categories.data ?? []).reduce(
    (sum, one) => sum + one.draft + one.approved + one.retired,
    0,
  );
  const changed = () => {
    reload();
    categories.reload();
  };
  const filtered = ["text", "state", "category"].some(chosen);
  return (
    <>
      <Flags api={api} path={path} mayEdit={team.mayEdit} />
      <div className="mb-3 flex flex-wrap items-center gap-2.5">
        <input
          className="input input-sm w-60"
          type="search"
          aria-label="Search in questions and answers"
          placeholder="Search in questions and answers"
          value={chosen("text")}
          onChange={(event) => choose("text", event.target.value)}
        />
        <select
          className="select select-sm w-auto"
          aria-label="State"
          value={chosen("state")}
          onChange={(event) => choose("state", event.target.value)}
        >
          <option value="">All states</option>
          <option value="draft">Drafts</option>
          <option value="approved">Approved</option>
          <option value="retired">Retired</option>
        </select>
        <select
          className="select select-sm w-auto"
          aria-label="Category"
          value={chosen("category")}
          onChange={(event) => choose("category", event.target.value)}
        >
          <option value="">All categories</option>
          {categories.data
            ?.filter((one) => one.category)
            .map((one) => (
              <option key={one.category} value={one.category}>
                {one.category} ({one.draft + one.approved + one.retired})
              </option>
            ))}
        </select>
        {team.mayEdit && (
          <Link className="btn btn-primary btn-sm ml-auto" to={`${path}/approved/new`}>
            New approved answer
          </Link>
        )}
      </div>
      <Failure message={error} />
      {data && data.items.length === 0 ? (
        <p className="sheet soft p-5">
          {filtered
            ? "No approved answer fits."
            : "No approved answers yet. When somebody asks a question that means the same as an approved one, they get its answer as it was approved, before any search."}
        </p>
      ) : (
        <ul className="sheet divide-base-300 divide-y" aria-label="Approved answers">
          {data?.items.map((one) => (
            <Row key={one.id} approved={one} to={`${path}/approved/${one.id}`} />
          ))}
        </ul>
      )}
      {data?.next && limit < 200 && (
        <button type="button" className="btn btn-sm mt-3" onClick={() => setLimit(200)}>
          Show more of {count(total)}
        </button>
      )}
      {data?.next && limit >= 200 && (
        <p className="soft mt-3">The first 200 are shown. Search to find others.</p>
      )}
      <TryQuestion base={base} path={path} />
      <FileTransfer<Schemas["ApprovedImport"]>
        base={base}
        what="approved answers"
        hint="A question that exists already is changed."
        mayEdit={team.mayEdit}
        total={total}
        onImported={changed}
        summary={(done) =>
          `${done.created} created, ${done.changed} changed, ${done.unchanged} unchanged.`
        }
      />
    </>
  );
}

/** Markdown on one line, without its marks. */
const plain = (text: string) =>
  text.replace(/\*\*|`|^#+ /gm, "").replace(/\n+(?:[-*] |\d+\. )?/g, " · ");

function Row({ approved, to }: { approved: Approved; to: string }) {
  return (
    <li className="px-4 py-3">
      <Link to={to} className="link-hover font-serif text-[16.5px]">
        {approved.question}
      </Link>
      <p className="mt-0.5 line-clamp-2 max-w-[80ch]">{plain(approved.text)}</p>
      <p className="soft mt-1 flex flex-wrap gap-x-4 text-[13px]">
        <Served approved={approved} />
        {approved.category && <span>{approved.category}</span>}
        {approved.phrasings.length > 0 && (
          <span>
            {approved.phrasings.length} other{" "}
            {approved.phrasings.length === 1 ? "wording" : "wordings"}
          </span>
        )}
        {approved.owner && <span>{approved.owner}</span>}
        <span>
          changed <Ago at={approved.changed_at} />
        </span>
      </p>
    </li>
  );
}

/** Shows which approved answers a question finds, before any chat user asks it. */
function TryQuestion({ base, path }: { base: string; path: string }) {
  const [question, setQuestion] = useState("");
  const [matches, setMatches] = useState<Schemas["ApprovedMatch"][] | null>(null);
  const [error, setError] = useState<string | null>(null);
  const match = (event: FormEvent) => {
    event.preventDefault();
    get<Schemas["ApprovedMatch"][]>(`${base}/match?${new URLSearchParams({ question })}`)
      .then((found) => {
        setMatches(found);
        setError(null);
      })
      .catch((problem: Error) => setError(problem.message));
  };
  return (
    <section className="mt-8" aria-label="Try a question">
      <h2 className="mb-2 text-[19px]">Try a question</h2>
      <form className="flex flex-wrap gap-2.5" onSubmit={match}>
        <input
          className="input w-full max-w-130"
          aria-label="Question to try"
          placeholder="A question in other words"
          required
          maxLength={2000}
          value={question}
          onChange={(event) => setQuestion(event.target.value)}
        />
        <button type="submit" className="btn">
          Match
        </button>
      </form>
      <Failure message={error} />
      {matches?.length === 0 && (
        <p className="soft mt-2">No approved answer is near this question.</p>
      )}
      {matches && matches.length > 0 && (
        <ol className="sheet divide-base-300 mt-3 divide-y" aria-label="Matches">
          {matches.map((one) => (
            <li key={one.id} className="flex flex-wrap items-baseline gap-x-4 px-4 py-2.5">
              <b className="w-14 text-right tabular-nums">{percent(one.likelihood)}</b>
              <Link className="link-hover flex-1 font-serif" to={`${path}/approved/${one.id}`}>
                {one.question}
              </Link>
              <span className="soft text-[13px]">{one.served ? "served" : "not served"}</span>
            </li>
          ))}
        </ol>
      )}
    </section>
  );
}
