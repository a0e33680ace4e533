import { type FormEvent, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Ago, Failure } from "../../components/text";
import { useSession } from "../../hooks/useSession";
import { Once, type Role, RoleChoice } from "./parts";

/** Members, invitations, and the form to invite. */
export function Members({ api }: { api: string }) {
  const session = useSession();
  const members = useResource<Schemas["Page_MemberOut_"]>(`${api}/members`);
  const invitations = useResource<Schemas["Page_InvitationOut_"]>(`${api}/invitations`);
  const [link, setLink] = useState<{ label: string; secret: string } | null>(null);
  const [failed, setFailed] = useState<string | null>(null);
  const attempt = (call: Promise<unknown>) =>
    call
      .then(() => {
        setFailed(null);
        members.reload();
        invitations.reload();
      })
      .catch((problem: Error) => setFailed(problem.message));
  const forgotten = (email: string) =>
    void attempt(
      send<Schemas["PasswordLinkCreated"]>(
        "POST",
        `/people/${encodeURIComponent(email)}/password-link`,
      ).then((made) =>
        setLink({ label: `Link for ${made.email} to set a new password:`, secret: made.url }),
      ),
    );
  return (
    <section>
      <h2 className="mb-2 text-xl">Members</h2>
      <Failure message={members.error ?? failed} />
      {link && <Once label={link.label} secret={link.secret} />}
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
            {members.data?.items.map((member) => (
              <tr key={member.id}>
                <td className="font-medium">{member.name}</td>
                <td>{member.email}</td>
                <td>
                  <RoleChoice
                    value={member.role}
                    onChange={(changed) =>
                      void attempt(send("PATCH", `${api}/members/${member.id}`, { role: changed }))
                    }
                  />
                </td>
                <td>
                  <Ago at={member.created_at} />
                </td>
                <td className="text-right whitespace-nowrap">
                  {session.operator && (
                    <button
                      type="button"
                      className="link-hover soft mr-4 cursor-pointer"
                      onClick={() => forgotten(member.email)}
                    >
                      New password
                    </button>
                  )}
                  <button
                    type="button"
                    className="link-hover soft cursor-pointer"
                    onClick={() =>
                      confirm(`Remove ${member.name} from the team?`) &&
                      void attempt(send("DELETE", `${api}/members/${member.id}`))
                    }
                  >
                    Remove
                  </button>
                </td>
              </tr>
            ))}
            {invitations.data?.items.map((invitation) => (
              <tr key={invitation.id} className="soft">
                <td>{invitation.name}</td>
                <td>{invitation.email}</td>
                <td>{invitation.role}</td>
                <td>invited, until {new Date(invitation.expires_at).toLocaleDateString()}</td>
                <td className="text-right">
                  <button
                    type="button"
                    className="link-hover cursor-pointer"
                    onClick={() =>
                      void attempt(send("DELETE", `${api}/invitations/${invitation.id}`))
                    }
                  >
                    Withdraw
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {members.data?.items.length === 0 && (
          <p className="soft p-5">This team has no members yet. Invite its owner first.</p>
        )}
      </div>
      <Invite
        onInvite={(body) =>
          attempt(
            send<Schemas["InvitationCreated"]>("POST", `${api}/invitations`, body).then((made) =>
              setLink(
                made.url
                  ? {
                      label: `Link for ${made.email}. Send it yourself. It works once:`,
                      secret: made.url,
                    }
                  : null,
              ),
            ),
          )
        }
      />
    </section>
  );
}

function Invite({ onInvite }: { onInvite: (body: Schemas["InvitationIn"]) => Promise<unknown> }) {
  const [email, setEmail] = useState("");
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("reader");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    void onInvite({ email, name, role, expires_in_days: 7 }).then(() => {
      setEmail("");
      setName("");
    });
  };
  return (
    <form className="mt-3 flex flex-wrap gap-2.5" onSubmit={submit}>
      <input
        className="input w-56"
        type="email"
        required
        placeholder="E-mail"
        aria-label="E-mail"
        value={email}
        onChange={(e) => setEmail(e.target.value)}
      />
      <input
        className="input w-48"
        required
        placeholder="Name"
        aria-label="Name"
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <RoleChoice value={role ?? "reader"} onChange={setRole} />
      <button type="submit" className="btn btn-primary">
        Invite
      </button>
    </form>
  );
}
