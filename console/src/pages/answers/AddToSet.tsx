import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";

/** Takes questions over into a question set; `hint` says what is expected of them. */
export function AddToSet({
  questions,
  hint,
}: {
  questions: Partial<Schemas["SetCollectIn"]>;
  hint: string;
}) {
  const team = useTeam();
  const sets = useResource<Schemas["Page_SetOut_"]>(`${team.api}/sets`);
  const [chosen, setChosen] = useState("");
  const [done, setDone] = useState<string | null>(null);
  const [error, setError] = useState<string | null>(null);
  const items = sets.data?.items ?? [];
  if (items.length === 0) return null;
  const slug = chosen || items[0]!.slug;
  const add = (event: FormEvent) => {
    event.preventDefault();
    send<Schemas["Page_SetQuestionOut_"]>("POST", `${team.api}/sets/${slug}/collect`, {
      phrasings: true,
      ...questions,
    })
      .then((added) => {
        setError(null);
        setDone(added.items.length > 0 ? "Added." : "The set has this question already.");
      })
      .catch((problem: Error) => setError(problem.message));
  };
  return (
    <form
      className="mt-4 flex flex-wrap items-center gap-2.5"
      aria-label="Add to a question set"
      onSubmit={add}
    >
      <label className="flex items-center gap-2.5">
        Question set
        <select
          className="select select-sm w-auto"
          value={slug}
          onChange={(event) => {
            setChosen(event.target.value);
            setDone(null);
          }}
        >
          {items.map((one) => (
            <option key={one.id} value={one.slug}>
              {one.name}
            </option>
          ))}
        </select>
      </label>
      <button type="submit" className="btn btn-sm">
        Add this question
      </button>
      <span className="soft text-[13px]">{hint}</span>
      {done && (
        <span role="status">
          {done}{" "}
          <Link className="link" to={`/t/${team.slug}/trials/sets/${slug}`}>
            Show the set
          </Link>
        </span>
      )}
      <Failure message={error} />
    </form>
  );
}
