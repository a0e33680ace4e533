import { Outlet, useOutletContext, useParams } from "react-router";
import { Missing } from "../../App";
import { useResource } from "../../api/useResource";
import { Tabs } from "../../components/forms";
import { useTeam } from "../../hooks/useSession";
import { ROOT } from "../../root";
import { type Desk, Sign } from "./words";

interface DeskContext {
  desk: Desk;
  api: string;
  reload: () => void;
}

export const useDesk = () => useOutletContext<DeskContext>();

/** One desk for its editors. */
export function DeskPage() {
  const team = useTeam();
  const { desk: ref = "" } = useParams();
  const api = `${team.api}/desks/${encodeURIComponent(ref)}`;
  const { data: desk, error, reload } = useResource<Desk>(api);
  if (error) return <Missing />;
  if (!desk) return null;
  const tabs = [
    ["build", "Build and try"],
    ["versions", "Versions"],
    ["share", "Share"],
    ["channels", "Channels"],
    ["answers", "Answers"],
  ];
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-3.5 gap-y-2">
        <Sign name={desk.name} symbol={desk.draft.symbol} colour={desk.draft.colour} large />
        <div>
          <h1 className="text-[27px] leading-tight">{desk.name}</h1>
          <p className="soft">
            {desk.published ? `Version ${desk.published.number} is published` : "Not published yet"}
            {desk.published && desk.changed && "; the draft differs from it"}
          </p>
        </div>
        {desk.published && (
          <a className="btn ml-auto" href={`${ROOT}/chat/${desk.id}`}>
            Open chat
          </a>
        )}
      </div>
      <Tabs label="Desk" tabs={tabs} />
      <Outlet context={{ desk, api, reload } satisfies DeskContext} />
    </>
  );
}
