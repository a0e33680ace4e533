import type { Schemas } from "../../api/client";
import { Field } from "../desks/fields";

/** Chooses the question set that something has to pass, and how many questions it may lose. */
export function TrialGate({
  sets,
  chosen,
  losses,
  onChange,
  hint,
  plain,
}: {
  sets: Schemas["SetOut"][];
  chosen: string;
  losses: number;
  onChange: (chosen: string, losses: number) => void;
  hint?: string;
  plain?: boolean;
}) {
  return (
    <>
      <Field label="Question set to pass" hint={hint} plain={plain}>
        {(id) => (
          <select
            id={id}
            className="select w-full"
            value={chosen}
            onChange={(e) => onChange(e.target.value, losses)}
          >
            <option value="">none</option>
            {sets.map((one) => (
              <option key={one.id} value={one.id}>
                {one.name} ({one.questions})
              </option>
            ))}
          </select>
        )}
      </Field>
      {chosen && (
        <Field label="Questions that may be lost" plain={plain}>
          {(id) => (
            <input
              id={id}
              type="number"
              className="input w-full"
              min={0}
              max={1000}
              value={losses}
              onChange={(e) => onChange(chosen, Number(e.target.value))}
            />
          )}
        </Field>
      )}
    </>
  );
}
