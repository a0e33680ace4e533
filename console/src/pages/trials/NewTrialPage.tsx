import { type FormEvent, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { type Kb, type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { LabelledInput } from "../../components/forms";
import { Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import type { Trial } from "./parts";

function Choice({
  label,
  value,
  onChange,
  options,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  options: [string, string][];
}) {
  return (
    <label className="flex flex-col gap-1">
      {label}
      <select
        className="select w-full"
        value={value}
        onChange={(event) => onChange(event.target.value)}
      >
        {options.map(([name, text]) => (
          <option key={name} value={name}>
            {text}
          </option>
        ))}
      </select>
    </label>
  );
}

/** Begins a trial: which set, asked of what, and against which version. */
export function NewTrialPage() {
  const team = useTeam();
  const navigate = useNavigate();
  const [address] = useSearchParams();
  const sets = useResource<Schemas["Page_SetOut_"]>(`${team.api}/sets`);
  const desks = useResource<Schemas["Page_DeskOut_"]>(`${team.api}/desks`);
  const kbs = useResource<Schemas["Page_KbOut_"]>(`${team.api}/kbs`);
  const [chosenSet, setChosenSet] = useState(address.get("set") ?? "");
  const [chosen, setChosen] = useState(
    address.get("desk")
      ? `desk ${address.get("desk")}`
      : address.get("kb")
        ? `kb ${address.get("kb")}`
        : "",
  );
  const [version, setVersion] = useState(
    address.get("desk") ? "draft" : (address.get("edition") ?? ""),
  );
  const [against, setAgainst] = useState("");
  const [tokens, setTokens] = useState("");
  const [error, setError] = useState<string | null>(null);
  const filled = sets.data?.items.filter((one) => one.questions > 0) ?? [];
  const target =
    chosen || (desks.data?.items[0] ? `desk ${desks.data.items[0].slug}` : "") || "kb ";
  const set =
    filled.find((one) => one.id === chosenSet || one.slug === chosenSet)?.slug ??
    filled[0]?.slug ??
    "";
  const desk = desks.data?.items.find((one) => target === `desk ${one.slug}`);
  const kb = kbs.data?.items.find((one) => target === `kb ${one.slug}`);
  const editions = useResource<Schemas["Page_EditionOut_"]>(
    kb ? `${team.api}/kbs/${kb.slug}/editions` : null,
  );
  const versions: [string, string][] = desk
    ? [
        ["draft", "its draft"],
        ...Array.from({ length: desk.published?.number ?? 0 }, (_, index): [string, string] => {
          const number = (desk.published?.number ?? 0) - index;
          return [String(number), `version ${number}${index === 0 ? ", published" : ""}`];
        }),
      ]
    : kb
      ? (editions.data?.items ?? [])
          .filter((one) => one.state === "ready")
          .map((one): [string, string] => [
            String(one.number),
            `edition ${one.number}${one.active ? ", active" : ""}`,
          ])
      : [];
  const usual = desk ? "draft" : (versions.find(([, text]) => text.endsWith("active"))?.[0] ?? "");
  const asked = versions.some(([value]) => value === version) ? version : usual;
  const number = (text: string) => (text === "draft" ? "draft" : Number(text));
  const begin = async (event: FormEvent) => {
    event.preventDefault();
    setError(null);
    const [kind, name] = target.split(" ");
    const of = kind === "desk" ? { desk: name } : { kb: name };
    const common = { question_set: set, max_tokens: tokens ? Number(tokens) : null, ...of };
    const start = (more: object) =>
      send<Trial>("POST", `${team.api}/trials`, { ...common, ...more });
    try {
      const field = desk ? "version" : "edition";
      const first = against ? await start({ [field]: number(against) }) : null;
      const trial = await start({
        ...(asked && { [field]: number(asked) }),
        ...(first && { compare_with: first.id }),
      });
      void navigate(`/t/${team.slug}/trials/${trial.id}`);
    } catch (problem) {
      setError((problem as Error).message);
    }
  };
  return (
    <>
      <p className="mb-3">
        <Link className="link-hover soft" to={`/t/${team.slug}/trials`}>
          Trials
        </Link>
      </p>
      <h1 className="text-[27px] leading-tight">New trial</h1>
      <form className="sheet mt-4 max-w-130 space-y-4 p-5" aria-label="New trial" onSubmit={begin}>
        <Choice
          label="Question set"
          value={set}
          onChange={setChosenSet}
          options={filled.map((one) => [
            one.slug,
            `${one.name} (${one.questions} ${one.questions === 1 ? "question" : "questions"})`,
          ])}
        />
        <Choice
          label="Ask"
          value={target}
          onChange={(value) => {
            setChosen(value);
            setAgainst("");
          }}
          options={[
            ...(desks.data?.items ?? []).map((one): [string, string] => [
              `desk ${one.slug}`,
              `the desk ${one.name}`,
            ]),
            ...(kbs.data?.items ?? []).map((one: Kb): [string, string] => [
              `kb ${one.slug}`,
              `the knowledge base ${one.name}`,
            ]),
          ]}
        />
        {versions.length > 0 && (
          <>
            <Choice
              label={desk ? "Version" : "Edition"}
              value={asked}
              onChange={setVersion}
              options={versions}
            />
            <Choice
              label="Compare with"
              value={against}
              onChange={setAgainst}
              options={[["", "nothing"], ...versions]}
            />
          </>
        )}
        <LabelledInput
          label="Maximum tokens of a model"
          hint="The trial is paused when it used as many. Empty: no limit."
          type="number"
          min={1}
          value={tokens}
          onChange={setTokens}
        />
        <Failure message={error} />
        <button type="submit" className="btn btn-primary" disabled={!set}>
          Begin
        </button>
      </form>
    </>
  );
}
