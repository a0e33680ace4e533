import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Ago, Failure } from "../../components/text";
import { useSession, useTeam } from "../../hooks/useSession";
import { ADDRESS } from "../../root";
import { ErasedDocuments } from "./ErasedDocuments";
import { Grants } from "./Grants";
import { Members } from "./Members";
import { Once, type Role, RoleChoice } from "./parts";
import { Retention } from "./Retention";

export function TeamPage() {
  const team = useTeam();
  const session = useSession();
  // An operator who is not a member only knows the team's address.
  const all = useResource<Schemas["Page_TeamOut_"]>(team.member ? null : "/teams");
  const name = all.data?.items.find((item) => item.slug === team.slug)?.name ?? team.name;
  return (
    <>
      <div className="mb-5 flex items-center gap-4">
        <h1 className="text-[27px]">{name}</h1>
        <Link to={`/t/${team.slug}/audit`} className="btn ml-auto">
          Audit log
        </Link>
      </div>
      <Members api={team.api} />
      <Keys api={team.api} outsider={!team.member} />
      {session.operator && <Grants slug={team.slug} />}
      <Retention slug={team.slug} />
      <ErasedDocuments api={team.api} />
    </>
  );
}

function Keys({ api, outsider }: { api: string; outsider: boolean }) {
  const { data, error, reload } = useResource<Schemas["Page_KeyOut_"]>(`${api}/keys`);
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("reader");
  const [days, setDays] = useState(outsider ? "1" : "");
  const [made, setMade] = useState<Schemas["KeyCreated"] | null>(null);
  const [failed, setFailed] = useState<string | null>(null);
  const attempt = (call: Promise<unknown>) =>
    call
      .then(() => {
        setFailed(null);
        reload();
      })
      .catch((problem: Error) => setFailed(problem.message));
  const make = (event: FormEvent) => {
    event.preventDefault();
    const body = { name, role, expires_in_days: days ? Number(days) : null };
    void attempt(
      send<Schemas["KeyCreated"]>("POST", `${api}/keys`, body).then((key) => {
        setMade(key);
        setName("");
      }),
    );
  };
  return (
    <section className="mt-9">
      <h2 className="text-xl">Keys</h2>
      <p className="soft mb-2">
        For programs: the command line, the client library, your own scripts, and agents, which find
        tools at <code>{ADDRESS}/mcp</code>.
      </p>
      {outsider && (
        <p className="soft mb-2">
          You are not a member. A key that you create here is valid for at most 7 days, and the team
          is notified.
        </p>
      )}
      <Failure message={error ?? failed} />
      {made && <Once label={`${made.name}:`} secret={made.secret} />}
      {data && data.items.length > 0 && (
        <div className="sheet overflow-x-auto">
          <table className="table">
            <thead>
              <tr>
                <th>Name</th>
                <th>Prefix</th>
                <th>Role</th>
                <th>Created by</th>
                <th>Last used</th>
                <th>Expires</th>
                <th>
                  <span className="sr-only">Actions</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {data.items.map((key) => (
                <tr key={key.id}>
                  <td className="font-medium">{key.name}</td>
                  <td className="font-mono text-[13px]">{key.start}…</td>
                  <td>{key.role}</td>
                  <td>
                    {key.made_by}{" "}
                    {key.by_operator && (
                      <span className="badge badge-warning badge-sm">operator</span>
                    )}
                  </td>
                  <td>
                    <Ago at={key.last_used_at} />
                  </td>
                  <td>
                    {key.expires_at ? new Date(key.expires_at).toLocaleDateString() : "never"}
                  </td>
                  <td className="text-right">
                    <button
                      type="button"
                      className="link-hover soft cursor-pointer"
                      onClick={() =>
                        confirm(`Revoke ${key.name}? It stops working at once.`) &&
                        void attempt(send("DELETE", `${api}/keys/${key.id}`))
                      }
                    >
                      Revoke
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <form className="mt-3 flex flex-wrap gap-2.5" onSubmit={make}>
        <input
          className="input w-56"
          required
          placeholder="Purpose of the key"
          aria-label="Purpose of the key"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <RoleChoice value={role ?? "reader"} onChange={setRole} />
        <input
          className="input w-40"
          type="number"
          min={1}
          max={outsider ? 7 : 3650}
          required={outsider}
          placeholder={outsider ? "Days" : "Days, or never"}
          aria-label="Days until it expires"
          value={days}
          onChange={(e) => setDays(e.target.value)}
        />
        <button type="submit" className="btn">
          Create key
        </button>
      </form>
    </section>
  );
}
