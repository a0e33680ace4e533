import { type FormEvent, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Failure } from "../../components/text";
import { Wide } from "../../components/Wide";
import { amount, QUOTAS, type QuotaName, QuotaUse } from "../usage/quotas";

type Limits = Partial<Record<QuotaName, number | null>>;

const NAMES = Object.keys(QUOTAS) as QuotaName[];
/** What the table has columns for; the others are in the form. */
const SHOWN: QuotaName[] = ["documents", "bytes", "passages", "questions"];

/** For operators: the quotas of all teams. */
export function QuotasPage() {
  const { data, error, reload } = useResource<Schemas["AllQuotas"]>("/quotas");
  const [editing, setEditing] = useState<string | null>(null);
  const done = () => {
    setEditing(null);
    reload();
  };
  return (
    <>
      <h1 className="text-[27px]">Quotas</h1>
      <p className="soft mt-1 mb-5">
        What each team may have and use. A team that has reached a quota keeps everything, and adds
        no more.
      </p>
      <Failure message={error} />
      {data && (
        <>
          <section className="sheet mb-5 p-4" aria-label="Default quotas">
            <div className="flex items-center gap-3">
              <b className="font-semibold">Defaults</b>
              <span className="soft">for teams without their own</span>
              <button type="button" className="btn btn-sm ml-auto" onClick={() => setEditing("")}>
                Change the defaults
              </button>
            </div>
            {editing === "" ? (
              <LimitsForm
                path="/quotas"
                limits={data.defaults}
                empty="no limit"
                onDone={done}
                onCancel={() => setEditing(null)}
              />
            ) : (
              <Defaults limits={data.defaults} />
            )}
          </section>
          <Wide label="Quotas of teams">
            <table className="table">
              <thead>
                <tr>
                  <th>Team</th>
                  {SHOWN.map((name) => (
                    <th key={name}>{QUOTAS[name]}</th>
                  ))}
                  <th>
                    <span className="sr-only">Change</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {data.teams.map((team) => (
                  <Team
                    key={team.team}
                    team={team}
                    editing={editing === team.team}
                    onEdit={() => setEditing(team.team)}
                    onDone={done}
                    onCancel={() => setEditing(null)}
                  />
                ))}
              </tbody>
            </table>
          </Wide>
        </>
      )}
    </>
  );
}

function Defaults({ limits }: { limits: Limits }) {
  const set = NAMES.filter((name) => limits[name] != null);
  if (set.length === 0) return <p className="soft mt-2">No limits.</p>;
  return (
    <ul className="mt-2 flex flex-wrap gap-x-6 gap-y-1">
      {set.map((name) => (
        <li key={name}>
          {QUOTAS[name]}: <b className="font-semibold">{amount(name, limits[name] ?? 0)}</b>
        </li>
      ))}
    </ul>
  );
}

interface TeamProps {
  team: Schemas["TeamQuotas"];
  editing: boolean;
  onEdit: () => void;
  onDone: () => void;
  onCancel: () => void;
}

function Team({ team, editing, onEdit, onDone, onCancel }: TeamProps) {
  const quotas = new Map(team.quotas.map((quota) => [quota.name, quota]));
  const own: Limits = Object.fromEntries(
    team.quotas.filter((quota) => quota.own).map((quota) => [quota.name, quota.limit]),
  );
  return (
    <>
      <tr>
        <td className="font-medium">
          <div>{team.name}</div>
          {Object.keys(own).length > 0 && <div className="soft text-[13px]">has its own</div>}
        </td>
        {SHOWN.map((name) => {
          const quota = quotas.get(name);
          return <td key={name}>{quota && <QuotaUse quota={quota} stacked />}</td>;
        })}
        <td className="text-right">
          <button type="button" className="btn btn-sm" onClick={onEdit}>
            Change
          </button>
        </td>
      </tr>
      {editing && (
        <tr>
          <td colSpan={SHOWN.length + 2}>
            <LimitsForm
              path={`/teams/${team.team}/quotas`}
              limits={own}
              empty="default"
              onDone={onDone}
              onCancel={onCancel}
            />
          </td>
        </tr>
      )}
    </>
  );
}

interface LimitsFormProps {
  path: string;
  limits: Limits;
  /** What an empty field means. */
  empty: string;
  onDone: () => void;
  onCancel: () => void;
}

/** Limits as numbers; "none" means without limit, an empty field is left out. */
function LimitsForm({ path, limits, empty, onDone, onCancel }: LimitsFormProps) {
  const [texts, setTexts] = useState<Partial<Record<QuotaName, string>>>(() =>
    Object.fromEntries(
      NAMES.filter((name) => name in limits && (empty === "default" || limits[name] != null)).map(
        (name) => [name, limits[name] == null ? "none" : String(limits[name])],
      ),
    ),
  );
  const [error, setError] = useState<string | null>(null);
  const save = (event: FormEvent) => {
    event.preventDefault();
    const body: Limits = {};
    for (const name of NAMES) {
      const text = (texts[name] ?? "").replaceAll(",", "").trim();
      if (text === "") continue;
      if (text !== "none" && !/^\d+$/.test(text)) {
        setError(`${QUOTAS[name]}: enter a whole number, or "none" for no limit.`);
        return;
      }
      body[name] = text === "none" ? null : Number(text);
    }
    send("PUT", path, body)
      .then(onDone)
      .catch((problem: Error) => setError(problem.message));
  };
  return (
    <form className="mt-3" onSubmit={save}>
      <div className="grid gap-3 sm:grid-cols-2 lg:grid-cols-4">
        {NAMES.map((name) => (
          <label key={name} className="flex flex-col gap-1">
            {name === "bytes" ? "Storage, in bytes" : QUOTAS[name]}
            <input
              className="input w-full"
              placeholder={empty}
              value={texts[name] ?? ""}
              onChange={(event) => setTexts({ ...texts, [name]: event.target.value })}
            />
          </label>
        ))}
      </div>
      <p className="soft mt-2 text-sm">
        Empty means {empty}
        {empty === "default" && ', "none" means no limit'}.
      </p>
      <Failure message={error} />
      <div className="mt-3 flex gap-2">
        <button type="submit" className="btn btn-primary">
          Save quotas
        </button>
        <button type="button" className="btn" onClick={onCancel}>
          Cancel
        </button>
      </div>
    </form>
  );
}
