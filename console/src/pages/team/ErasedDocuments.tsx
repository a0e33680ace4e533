import type { Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Erased } from "../../components/Erased";
import { Ago } from "../../components/text";

type Erasures = Schemas["ErasureOut"][];

/** For owners: the proofs of the team's erased documents. */
export function ErasedDocuments({ api }: { api: string }) {
  const { data } = useResource<Erasures>(`${api}/erasures`, {
    busy: (erasures) => erasures.some((one) => !one.finished_at),
  });
  if (!data?.length) return null;
  return (
    <section className="mt-9" aria-label="Erased documents">
      <h2 className="text-xl">Erased documents</h2>
      {data.map((one) => (
        <div key={one.id} className="mt-3">
          <p className="soft">
            By {one.asked_by}, <Ago at={one.created_at} />
          </p>
          <Erased erasure={one} />
        </div>
      ))}
    </section>
  );
}
