import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { Ago, count, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { useDesk } from "../desks/DeskPage";
import { AddChannel } from "./ChannelForm";
import { ChannelState, type Saved, SetUp } from "./words";

/** The channels by which people ask a desk from elsewhere. */
export function ChannelsTab() {
  const team = useTeam();
  const { desk } = useDesk();
  const api = `${team.api}/channels`;
  const { data, error, reload } = useResource<Schemas["Page_ChannelOut_"]>(
    `${api}?desk=${desk.id}`,
    { idle: IDLE },
  );
  const [adding, setAdding] = useState(false);
  const [saved, setSaved] = useState<Saved | null>(null);
  if (!data) return <Failure message={error} />;
  if (adding) {
    return (
      <AddChannel
        api={api}
        desk={desk.id}
        onCancel={() => setAdding(false)}
        onDone={(channel) => {
          setSaved(channel);
          setAdding(false);
          reload();
        }}
      />
    );
  }
  const add = (
    <button type="button" className="btn btn-primary" onClick={() => setAdding(true)}>
      Add a channel
    </button>
  );
  if (data.items.length === 0) {
    return (
      <div className="sheet p-10 text-center">
        <p className="text-lg">No channels yet.</p>
        <p className="soft mx-auto mt-1 mb-5 max-w-lg">
          A channel lets people ask this desk where they already are: in a chat room or by e-mail.
          Answers arrive in the thread of the question.
        </p>
        {add}
      </div>
    );
  }
  return (
    <>
      <div className="mb-3 flex justify-end">{add}</div>
      {saved && <SetUp saved={saved} />}
      <div className="sheet overflow-x-auto">
        <table className="table">
          <thead>
            <tr>
              {["Channel", "State", "Waiting", "Failed", "Last message"].map((name) => (
                <th key={name}>{name}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {data.items.map((channel) => (
              <tr key={channel.id}>
                <td>
                  <Link to={channel.id} className="link-hover font-medium">
                    {channel.name}
                  </Link>
                  <div className="soft text-[12.5px]">{channel.kind}</div>
                  {channel.failing && (
                    <div className="text-error max-w-md text-[13px]">{channel.failing}</div>
                  )}
                </td>
                <td>
                  <ChannelState channel={channel} />
                </td>
                <td>{count(channel.waiting)}</td>
                <td>{count(channel.failed)}</td>
                <td className="whitespace-nowrap">
                  {channel.last_message_at ? <Ago at={channel.last_message_at} /> : "–"}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}
