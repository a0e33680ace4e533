import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { Ago, count, Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { useKb } from "../kb/KbPage";
import { ConnectForm } from "./ConnectForm";
import { Fresh, plan, RunState, type Source, Strip } from "./words";

const busy = (page: { items: Source[] }) =>
  page.items.some(
    (source) =>
      source.recent[0] &&
      (["waiting", "running"].includes(source.recent[0].state) || source.recent[0].indexing > 0),
  );

/** The sources of a knowledge base. */
export function SourcesTab() {
  const team = useTeam();
  const { api, path } = useKb();
  const { data, error, reload } = useResource<Schemas["Page_SourceOut_"]>(`${api}/sources`, {
    busy,
    idle: IDLE,
  });
  const [connecting, setConnecting] = useState(false);
  if (!data) return <Failure message={error} />;
  const sources = data.items;
  if (connecting) {
    return (
      <ConnectForm
        api={api}
        onDone={() => {
          setConnecting(false);
          reload();
        }}
      />
    );
  }
  const connect = (
    <button type="button" className="btn btn-primary" onClick={() => setConnecting(true)}>
      Connect a source
    </button>
  );
  if (sources.length === 0) {
    return (
      <div className="sheet p-10 text-center">
        <p className="text-lg">No sources yet.</p>
        <p className="soft mx-auto mt-1 mb-5 max-w-lg">
          Connect a place with documents: a folder, a web site, a bucket, a WebDAV share, database
          rows, a repository or a feed. Answers follow what changes there.
        </p>
        {team.mayEdit && connect}
      </div>
    );
  }
  return (
    <>
      {team.mayEdit && <div className="mb-3 flex justify-end">{connect}</div>}
      <div className="sheet overflow-x-auto">
        <table className="table">
          <thead>
            <tr>
              {["Source", "Freshness", "Documents", "Runs", "Last run", "Recent runs"].map(
                (name) => (
                  <th key={name}>{name}</th>
                ),
              )}
            </tr>
          </thead>
          <tbody>
            {sources.map((source) => (
              <Row key={source.id} source={source} path={`${path}/sources/${source.id}`} />
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}

function Row({ source, path }: { source: Source; path: string }) {
  const last = source.recent[0];
  return (
    <tr>
      <td>
        <Link to={path} className="link-hover font-medium">
          {source.name}
        </Link>
        <div className="soft text-[12.5px]">{source.kind}</div>
        {source.error && <div className="text-error max-w-md text-[13px]">{source.error}</div>}
        {last?.state === "held" && (
          <Link
            to={`${path}/runs/${last.id}`}
            className="text-warning block max-w-md text-[13px] font-semibold"
          >
            {last.held_reason} Decide.
          </Link>
        )}
      </td>
      <td>
        <Fresh freshness={source.freshness} />
      </td>
      <td>{count(source.documents)}</td>
      <td>{plan(source)}</td>
      <td className="whitespace-nowrap">
        {last ? (
          <>
            <RunState sync={last} />
            <span className="soft block text-[12.5px]">
              <Ago at={last.created_at} />
            </span>
          </>
        ) : (
          "–"
        )}
      </td>
      <td>
        <Strip runs={source.recent} path={path} />
      </td>
    </tr>
  );
}
