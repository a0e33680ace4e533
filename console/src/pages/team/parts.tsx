import type { Schemas } from "../../api/client";

export type Role = Schemas["InvitationIn"]["role"];
const ROLES: [Role & string, string][] = [
  ["reader", "reader: ask, search, read"],
  ["editor", "editor: documents too"],
  ["owner", "owner: members and keys too"],
];

/** Something that is shown once and must be copied now. */
export function Once({ label, secret }: { label: string; secret: string }) {
  return (
    <p role="status" className="washed rounded-box my-3 p-3">
      {label} <code className="font-mono font-semibold break-all select-all">{secret}</code> It is
      not shown again.
    </p>
  );
}

export function RoleChoice({ value, onChange }: { value: string; onChange: (role: Role) => void }) {
  return (
    <select
      className="select w-auto"
      aria-label="Role"
      value={value}
      onChange={(e) => onChange(e.target.value as Role)}
    >
      {ROLES.map(([role, label]) => (
        <option key={role} value={role}>
          {label}
        </option>
      ))}
    </select>
  );
}
