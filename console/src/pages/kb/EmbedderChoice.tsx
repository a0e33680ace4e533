import type { Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { count, duration, money } from "../../components/text";
import { useTeam } from "../../hooks/useSession";

/** Chooses the embedder of an edition; nothing where there is only one. */
export function EmbedderChoice({
  value,
  onChange,
  kb,
}: {
  value: string | null;
  onChange: (value: string | null) => void;
  /** The API's path of a knowledge base, for which the cost is estimated. */
  kb?: string;
}) {
  const team = useTeam();
  const { data } = useResource<Schemas["Page_EmbedderName_"]>(`${team.api}/embedders`);
  const items = data?.items ?? [];
  const chosen = items.find((one) => one.name === value);
  const estimate = useResource<Schemas["EditionEstimate"]>(
    kb && chosen && !chosen.own
      ? `${kb}/editions/estimate?embedder=${encodeURIComponent(chosen.name)}`
      : null,
  );
  if (items.length < 2) return null;
  return (
    <label className="flex flex-col gap-1">
      Embedder
      <select
        className="select w-auto"
        value={value ?? ""}
        onChange={(event) => onChange(event.target.value || null)}
      >
        <option value="">{kb ? "as now" : "the service's own"}</option>
        {items.map((one) => (
          <option key={one.name} value={one.name}>
            {one.name}
            {one.own ? ", the service's own" : `, ${one.price} ${one.currency} a million tokens`}
          </option>
        ))}
      </select>
      {estimate.data && chosen && !chosen.own && (
        <span className="soft text-[13px]" role="status">
          About {count(estimate.data.tokens)} tokens, {money(estimate.data.cost)}{" "}
          {estimate.data.currency}
          {estimate.data.seconds != null && `, about ${duration(estimate.data.seconds)}`}
        </span>
      )}
    </label>
  );
}
