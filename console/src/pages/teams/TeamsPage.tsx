import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { type Schemas, send } from "../../api/client";
import { Ago, Failure } from "../../components/text";
import { useLoad } from "../../hooks/useLoad";

/** For operators: the teams of the service. */
export function TeamsPage() {
  const { data, error, reload } = useLoad<Schemas["Page_TeamOut_"]>("/teams");
  const [name, setName] = useState("");
  const [failed, setFailed] = useState<string | null>(null);
  const create = (event: FormEvent) => {
    event.preventDefault();
    send("POST", "/teams", { name })
      .then(() => (setName(""), setFailed(null), reload()))
      .catch((problem: Error) => setFailed(problem.message));
  };
  return (
    <>
      <h1 className="mb-5 text-[27px]">All teams</h1>
      <Failure message={error ?? failed} />
      <ul className="sheet divide-base-300 divide-y">
        {data?.items.map((team) => (
          <li key={team.id} className="flex gap-4 px-4 py-3">
            <Link className="link-hover font-medium" to={`/t/${team.slug}/team`}>
              {team.name}
            </Link>
            <span className="soft font-mono text-[13px]">{team.slug}</span>
            <span className="soft ml-auto">
              since <Ago at={team.created_at} />
            </span>
          </li>
        ))}
        {data?.items.length === 0 && <li className="soft p-5">No team yet. Create the first one, then add its owner.</li>}
      </ul>
      <form className="mt-4 flex gap-2.5" onSubmit={create}>
        <input className="input w-64" required maxLength={120} placeholder="Name of the new team" aria-label="Name of the new team" value={name} onChange={(e) => setName(e.target.value)} />
        <button className="btn btn-primary">Create team</button>
      </form>
    </>
  );
}
