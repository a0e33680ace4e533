import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Ago, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { ADDRESS, ROOT } from "../../root";
import { useDesk } from "./DeskPage";
import { VisitorKey } from "./VisitorKey";

const CLOSED: Record<Schemas["DeskLinkOut"]["state"], string> = {
  open: "",
  revoked: "it was revoked",
  expired: "it has expired",
  not_published: "the desk is not published",
  members_only: "the published version is for members only",
};

/** Links for guests, embedding, and deleting the desk. */
export function ShareTab() {
  const team = useTeam();
  const navigate = useNavigate();
  const { desk, api, reload } = useDesk();
  const links = useResource<Schemas["Page_DeskLinkOut_"]>(`${api}/links`);
  const [name, setName] = useState("");
  const [pace, setPace] = useState(10);
  const [days, setDays] = useState("");
  const [made, setMade] = useState<Schemas["DeskLinkCreated"] | null>(null);
  const [error, setError] = useState<string | null>(null);
  const attempt = (work: Promise<unknown>) =>
    work
      .then(() => {
        setError(null);
        links.reload();
        reload();
      })
      .catch((problem: Error) => setError(problem.message));
  const make = (event: FormEvent) => {
    event.preventDefault();
    const body = { name, per_minute: pace, expires_in_days: days ? Number(days) : null };
    void attempt(
      send<Schemas["DeskLinkCreated"]>("POST", `${api}/links`, body).then((link) => {
        setMade(link);
        setName("");
      }),
    );
  };
  const remove = () => {
    if (confirm(`Delete ${desk.name} with all its conversations?`))
      void attempt(send("DELETE", api).then(() => navigate(`/t/${team.slug}/desks`)));
  };
  const open = desk.published?.settings.audience === "link";
  return (
    <>
      <h2 className="mb-1 text-[19px]">Members</h2>
      <p className="mb-6">
        Members of the team ask at{" "}
        <a
          className="link text-primary font-mono text-[13px] break-all"
          href={`${ROOT}/chat/${desk.id}`}
        >{`${ADDRESS}/chat/${desk.id}`}</a>
        {!desk.published && <span className="soft"> once a version is published</span>}.
      </p>
      <h2 className="mb-1 text-[19px]">Links</h2>
      {!open && (
        <p className="border-warning soft mb-3 border-l-2 pl-3">
          The published version is for members only: links work once “anyone who has a link” is
          chosen and published.
        </p>
      )}
      <Failure message={error} />
      {made && (
        <p role="status" className="washed rounded-box my-3 p-3 break-all">
          The link “{made.name}”:{" "}
          <code className="font-mono font-semibold select-all">{made.url}</code> It is not shown
          again.
          {made.state !== "open" && (
            <span className="text-error block">
              Guests cannot use it yet: {CLOSED[made.state]}.
            </span>
          )}
        </p>
      )}
      <ul className="sheet divide-base-300 divide-y">
        {links.data?.items.map((link) => (
          <li key={link.id} className="flex flex-wrap items-baseline gap-x-5 gap-y-1 px-4 py-3">
            <b className="font-semibold">{link.name}</b>
            <span className="soft font-mono text-[13px]">{link.start}…</span>
            <span className="soft">{link.per_minute} questions per minute for each guest</span>
            {link.state !== "open" && link.state !== "revoked" && (
              <span className="text-error">closed: {CLOSED[link.state]}</span>
            )}
            {link.expires_at && (
              <span className="soft">until {new Date(link.expires_at).toLocaleDateString()}</span>
            )}
            <span className="soft">
              {link.last_used_at ? (
                <>
                  used <Ago at={link.last_used_at} />
                </>
              ) : (
                "not used yet"
              )}
            </span>
            <span className="soft ml-auto">
              {link.revoked_at ? (
                <>
                  revoked <Ago at={link.revoked_at} />
                </>
              ) : (
                <button
                  type="button"
                  className="link text-primary cursor-pointer"
                  onClick={() => void attempt(send("DELETE", `${api}/links/${link.id}`))}
                >
                  Revoke
                </button>
              )}
            </span>
          </li>
        ))}
        {links.data?.items.length === 0 && (
          <li className="soft p-5">No links yet. Create one for people who are not members.</li>
        )}
      </ul>
      <form className="mt-4 flex flex-wrap items-center gap-2.5" onSubmit={make}>
        <input
          className="input w-56"
          required
          maxLength={120}
          placeholder="Name of the link"
          aria-label="Name of the link"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <label className="flex items-center gap-2">
          <input
            type="number"
            className="input w-20"
            min={1}
            max={600}
            value={pace}
            onChange={(e) => setPace(Number(e.target.value))}
          />{" "}
          questions per minute
        </label>
        <label className="flex items-center gap-2">
          for{" "}
          <input
            type="number"
            className="input w-24"
            min={1}
            max={3650}
            placeholder="ever"
            value={days}
            onChange={(e) => setDays(e.target.value)}
          />{" "}
          days
        </label>
        <button type="submit" className="btn btn-primary">
          Create link
        </button>
      </form>
      {(desk.published?.settings.frame_origins?.length ?? 0) > 0 && (
        <>
          <h2 className="mt-8 mb-1 text-[19px]">Embed in another page</h2>
          <p className="soft mb-2">
            This shows a button that opens the chat as a panel, on{" "}
            {desk.published?.settings.frame_origins?.join(", ")}. Replace dl_... by a link's secret.
          </p>
          <pre className="sheet overflow-x-auto p-3 font-mono text-[13px]">{`<script src="${ADDRESS}/embed/${desk.id}.js" data-link="dl_..." defer></script>`}</pre>
          <VisitorKey desk={desk} api={api} onChange={reload} />
        </>
      )}
      <h2 className="mt-8 mb-1 text-[19px]">Delete</h2>
      <p className="mb-3">This also deletes the desk's versions, links and conversations.</p>
      <button type="button" className="btn text-error" onClick={remove}>
        Delete {desk.name}
      </button>
    </>
  );
}
