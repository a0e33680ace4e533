import { useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Ago, Failure } from "../../components/text";
import { useDesk } from "./DeskPage";
import { publishAfterAsking } from "./publishing";
import { SecondVersion } from "./SecondVersion";

/** Published versions: compare them, publish one again. */
export function VersionsTab() {
  const { desk, api, reload } = useDesk();
  const versions = useResource<Schemas["Page_DeskVersionOut_"]>(`${api}/versions`);
  const [before, setBefore] = useState<string | null>(null);
  const [after, setAfter] = useState("");
  const [error, setError] = useState<string | null>(null);
  const first = before ?? (desk.published ? String(desk.published.number) : "");
  const query = new URLSearchParams({ ...(first && { before: first }), ...(after && { after }) });
  const compared = useResource<Schemas["DeskComparison"]>(
    first === after ? null : `${api}/compare?${query}`,
  );
  const act = (work: Promise<unknown>) =>
    work
      .then(() => {
        setError(null);
        reload();
        versions.reload();
      })
      .catch((problem: Error) => setError(problem.message));
  const items = versions.data?.items ?? [];
  const choice = (label: string, value: string, set: (value: string) => void) => (
    <select
      className="select w-auto"
      aria-label={label}
      value={value}
      onChange={(e) => set(e.target.value)}
    >
      <option value="">draft</option>
      {items.map((version) => (
        <option key={version.number} value={version.number}>
          version {version.number}
        </option>
      ))}
    </select>
  );
  return (
    <>
      <Failure message={error ?? versions.error} />
      <ul className="sheet divide-base-300 divide-y">
        {items.map((version) => (
          <li
            key={version.number}
            className="flex flex-wrap items-baseline gap-x-5 gap-y-1 px-4 py-3"
          >
            <b className="font-semibold">Version {version.number}</b>
            {version.number === desk.published?.number && (
              <span className="flex items-baseline gap-2">
                <span className="bg-success inline-block size-2 rounded-full" aria-hidden />{" "}
                published
              </span>
            )}
            <span>{version.note}</span>
            <span className="soft ml-auto flex items-baseline gap-5">
              {version.author} · <Ago at={version.created_at} />
              {version.number !== desk.published?.number && (
                <button
                  type="button"
                  className="link text-primary cursor-pointer"
                  onClick={() =>
                    void act(
                      publishAfterAsking((close) =>
                        send(
                          "POST",
                          `${api}/versions/${version.number}/activate?close_links=${close}`,
                        ),
                      ),
                    )
                  }
                >
                  Publish this version
                </button>
              )}
              <button
                type="button"
                className="link text-primary cursor-pointer"
                onClick={() =>
                  void act(
                    send(
                      "PATCH",
                      api,
                      { settings: version.settings },
                      { "If-Match": `"${desk.version}"` },
                    ),
                  )
                }
              >
                Copy to draft
              </button>
            </span>
          </li>
        ))}
        {versions.data && items.length === 0 && (
          <li className="soft p-5">
            Nothing is published yet. Publish the draft when you are happy with its answers.
          </li>
        )}
      </ul>
      <SecondVersion versions={items} />
      {items.length > 0 && (
        <section className="mt-7" aria-label="Differences">
          <p className="flex items-center gap-2.5">
            What changed from {choice("Before", first, setBefore)} to{" "}
            {choice("After", after, setAfter)}
          </p>
          {first === after || compared.data?.differences.length === 0 ? (
            <p className="soft mt-3">The versions are identical.</p>
          ) : (
            <dl className="mt-3 space-y-3">
              {compared.data?.differences.map((item) => (
                <div key={item.setting} className="sheet p-4">
                  <dt className="mb-1.5 font-semibold">{item.setting.replaceAll("_", " ")}</dt>
                  <dd className="font-mono text-[13px] break-words">
                    {(
                      item.lines ?? [
                        ["-", JSON.stringify(item.before)],
                        ["+", JSON.stringify(item.after)],
                      ]
                    ).map(([sign, line], index) => (
                      <div
                        key={index}
                        className={
                          sign === "-" ? "text-error" : sign === "+" ? "text-success" : "soft"
                        }
                      >
                        {sign} {line}
                      </div>
                    ))}
                  </dd>
                </div>
              ))}
            </dl>
          )}
        </section>
      )}
    </>
  );
}
