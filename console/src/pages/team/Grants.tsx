import { type FormEvent, useEffect, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { CheckBox } from "../../components/forms";
import { Failure, lines } from "../../components/text";

/** For operators: which folders and private networks a team's sources may read. */
export function Grants({ slug }: { slug: string }) {
  const { data, reload } = useResource<Schemas["Page_TeamOut_"]>("/teams");
  const team = data?.items.find((item) => item.slug === slug);
  const [all, setAll] = useState(false);
  const [folders, setFolders] = useState("");
  const [networks, setNetworks] = useState("");
  const [note, setNote] = useState<string | null>(null);
  const [failed, setFailed] = useState<string | null>(null);
  useEffect(() => {
    if (!team) return;
    setAll(team.source_folders === null && team.source_networks === null);
    setFolders((team.source_folders ?? []).join("\n"));
    setNetworks((team.source_networks ?? []).join("\n"));
  }, [team]);
  const save = (event: FormEvent) => {
    event.preventDefault();
    const body = all
      ? { source_folders: null, source_networks: null }
      : { source_folders: lines(folders), source_networks: lines(networks) };
    send("PUT", `/teams/${slug}/grants`, body)
      .then(() => {
        setFailed(null);
        setNote("Saved.");
        reload();
      })
      .catch((problem: Error) => {
        setNote(null);
        setFailed(problem.message);
      });
  };
  return (
    <section className="mt-9">
      <h2 className="text-xl">What sources may read</h2>
      <p className="soft mb-2">
        Folders of this machine and private networks that sources may read, among those that the
        service allows. Public addresses need no grant.
      </p>
      <Failure message={failed} />
      <form className="flex flex-col items-start gap-3" onSubmit={save}>
        <CheckBox checked={all} onChange={setAll}>
          Everything the service allows
        </CheckBox>
        {!all && (
          <div className="flex flex-wrap gap-4">
            <label className="flex flex-col gap-1">
              Folders, one per line
              <textarea
                className="textarea w-96 font-mono text-[13px]"
                rows={3}
                value={folders}
                onChange={(e) => setFolders(e.target.value)}
              />
            </label>
            <label className="flex flex-col gap-1">
              Private networks, one per line
              <textarea
                className="textarea w-72 font-mono text-[13px]"
                rows={3}
                value={networks}
                onChange={(e) => setNetworks(e.target.value)}
              />
            </label>
          </div>
        )}
        <div className="flex items-center gap-3">
          <button type="submit" className="btn">
            Save what sources may read
          </button>
          {note && <span role="status">{note}</span>}
        </div>
      </form>
    </section>
  );
}
