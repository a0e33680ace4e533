import { type FormEvent, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { Ago, Failure } from "../../components/text";
import { useLoad } from "../../hooks/useLoad";
import { useTeam } from "../../hooks/useSession";

type Role = Schemas["MemberIn"]["role"];
const ROLES: [Role & string, string][] = [
  ["reader", "reader: ask, search, read"],
  ["editor", "editor: documents too"],
  ["owner", "owner: members and keys too"],
];

export function TeamPage() {
  const team = useTeam();
  // An operator who is no member knows the team by its address alone.
  const all = useLoad<Schemas["Page_TeamOut_"]>(team.member ? null : "/teams");
  const name = all.data?.items.find((item) => item.slug === team.slug)?.name ?? team.name;
  return (
    <>
      <h1 className="mb-5 text-[27px]">{name}</h1>
      <Members api={team.api} />
      <Keys api={team.api} />
    </>
  );
}

/** Something that is shown once and must be copied now. */
function Once({ label, secret }: { label: string; secret: string }) {
  return (
    <p role="status" className="washed rounded-box my-3 p-3">
      {label} <code className="font-mono font-semibold select-all">{secret}</code> It is not shown again.
    </p>
  );
}

function RoleChoice({ value, onChange }: { value: string; onChange: (role: Role) => void }) {
  return (
    <select className="select w-auto" aria-label="Role" value={value} onChange={(e) => onChange(e.target.value as Role)}>
      {ROLES.map(([role, label]) => (
        <option key={role} value={role}>
          {label}
        </option>
      ))}
    </select>
  );
}

function Members({ api }: { api: string }) {
  const { data, error, reload } = useLoad<Schemas["Page_MemberOut_"]>(`${api}/members`);
  const [email, setEmail] = useState("");
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("reader");
  const [made, setMade] = useState<Schemas["MemberMade"] | null>(null);
  const [failed, setFailed] = useState<string | null>(null);
  const attempt = (call: Promise<unknown>) => call.then(() => (setFailed(null), reload())).catch((problem: Error) => setFailed(problem.message));
  const add = (event: FormEvent) => {
    event.preventDefault();
    void attempt(
      send<Schemas["MemberMade"]>("POST", `${api}/members`, { email, name, role }).then((member) => {
        setMade(member);
        setEmail("");
        setName("");
      }),
    );
  };
  return (
    <section>
      <h2 className="mb-2 text-xl">Members</h2>
      <Failure message={error ?? failed} />
      {made?.password && <Once label={`Password of ${made.email}:`} secret={made.password} />}
      <div className="sheet overflow-x-auto">
        <table className="table">
          <thead>
            <tr>
              <th>Name</th>
              <th>E-mail</th>
              <th>Role</th>
              <th>Since</th>
              <th>
                    <span className="sr-only">Actions</span>
                  </th>
            </tr>
          </thead>
          <tbody>
            {data?.items.map((member) => (
              <tr key={member.id}>
                <td className="font-medium">{member.name}</td>
                <td>{member.email}</td>
                <td>
                  <RoleChoice value={member.role} onChange={(changed) => void attempt(send("PATCH", `${api}/members/${member.id}`, { role: changed }))} />
                </td>
                <td>
                  <Ago at={member.created_at} />
                </td>
                <td className="text-right">
                  <button type="button" className="link-hover soft cursor-pointer" onClick={() => confirm(`Remove ${member.name} from the team?`) && void attempt(send("DELETE", `${api}/members/${member.id}`))}>
                    Remove
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {data?.items.length === 0 && <p className="soft p-5">Nobody is in this team yet. Add its owner first.</p>}
      </div>
      <form className="mt-3 flex flex-wrap gap-2.5" onSubmit={add}>
        <input className="input w-56" type="email" required placeholder="E-mail" aria-label="E-mail" value={email} onChange={(e) => setEmail(e.target.value)} />
        <input className="input w-48" required placeholder="Name" aria-label="Name" value={name} onChange={(e) => setName(e.target.value)} />
        <RoleChoice value={role ?? "reader"} onChange={setRole} />
        <button className="btn btn-primary">Add member</button>
      </form>
    </section>
  );
}

function Keys({ api }: { api: string }) {
  const { data, error, reload } = useLoad<Schemas["Page_KeyOut_"]>(`${api}/keys`);
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("reader");
  const [days, setDays] = useState("");
  const [made, setMade] = useState<Schemas["KeyMade"] | null>(null);
  const [failed, setFailed] = useState<string | null>(null);
  const attempt = (call: Promise<unknown>) => call.then(() => (setFailed(null), reload())).catch((problem: Error) => setFailed(problem.message));
  const make = (event: FormEvent) => {
    event.preventDefault();
    const body = { name, role, expires_in_days: days ? Number(days) : null };
    void attempt(send<Schemas["KeyMade"]>("POST", `${api}/keys`, body).then((key) => (setMade(key), setName(""))));
  };
  return (
    <section className="mt-9">
      <h2 className="text-xl">Keys</h2>
      <p className="soft mb-2">For programs: the command line, the client library, your own scripts.</p>
      <Failure message={error ?? failed} />
      {made && <Once label={`${made.name}:`} secret={made.secret} />}
      {data && data.items.length > 0 && (
        <div className="sheet overflow-x-auto">
          <table className="table">
            <thead>
              <tr>
                <th>Name</th>
                <th>Begins with</th>
                <th>Role</th>
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
                    <Ago at={key.last_used_at} />
                  </td>
                  <td>{key.expires_at ? new Date(key.expires_at).toLocaleDateString() : "never"}</td>
                  <td className="text-right">
                    <button type="button" className="link-hover soft cursor-pointer" onClick={() => confirm(`Revoke ${key.name}? It stops working at once.`) && void attempt(send("DELETE", `${api}/keys/${key.id}`))}>
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
        <input className="input w-56" required placeholder="What it is for" aria-label="What the key is for" value={name} onChange={(e) => setName(e.target.value)} />
        <RoleChoice value={role ?? "reader"} onChange={setRole} />
        <input className="input w-40" type="number" min={1} max={3650} placeholder="Days, or never" aria-label="Days until it expires" value={days} onChange={(e) => setDays(e.target.value)} />
        <button className="btn">Make a key</button>
      </form>
    </section>
  );
}
