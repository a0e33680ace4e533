import { Outlet, useOutletContext, useParams } from "react-router";
import { Missing } from "../../App";
import type { Doc, Kb, Schemas } from "../../api/client";
import { IDLE, useResource } from "../../api/useResource";
import { Tabs } from "../../components/forms";
import { Ago, count } from "../../components/text";
import { useDocuments } from "../../hooks/useDocuments";
import { useTeam } from "../../hooks/useSession";

export interface KbContext {
  kb: Kb;
  documents: Doc[] | null;
  more: (() => Promise<void>) | null;
  api: string;
  path: string;
}

export const useKb = () => useOutletContext<KbContext>();

type SourceFreshness = Schemas["SourceFreshness"];

/** With which sources the answers are up to date, and since when they were compared. */
function UpToDate({ sources }: { sources: SourceFreshness[] }) {
  const behind = sources.filter(({ freshness }) => ["late", "new"].includes(freshness.state));
  const current = sources.filter((source) => !behind.includes(source));
  const compared = current.map(({ freshness }) => freshness.as_of).filter((at) => at != null);
  const oldest = compared.sort()[0];
  return (
    <p className="soft mt-0.5">
      {current.length > 0 && (
        <>
          Up to date with {names(current)}
          {oldest && (
            <>
              , as of <Ago at={oldest} />
            </>
          )}
        </>
      )}
      {behind.length > 0 && (
        <span className="text-warning">
          {current.length > 0 && " · "}
          behind {names(behind)}
        </span>
      )}
    </p>
  );
}

const names = (sources: SourceFreshness[]) =>
  sources.length > 3
    ? `${sources.length} sources`
    : sources.map((source) => source.source).join(", ");

/** One knowledge base: its state, and its tabs. */
export function KbPage() {
  const team = useTeam();
  const { kb: slug = "" } = useParams();
  const api = `${team.api}/kbs/${encodeURIComponent(slug)}`;
  const path = `/t/${team.slug}/kbs/${slug}`;
  const { kb, documents, error, more } = useDocuments(api);
  const freshness = useResource<SourceFreshness[]>(`${team.api}/freshness`, { idle: IDLE });
  if (error) return <Missing />;
  if (!kb) return null;
  const sources = (freshness.data ?? []).filter((source) => source.kb_id === kb.id);
  const tabs = [
    ["documents", "Documents"],
    ["sources", "Sources"],
    ["search", "Search"],
    ["ask", "Ask"],
    ["approved", kb.flagged > 0 ? `Approved answers (${kb.flagged})` : "Approved answers"],
    ...(team.mayEdit && (kb.accepts_proposed_documents || kb.proposed_documents > 0)
      ? [
          [
            "proposed",
            kb.proposed_documents > 0
              ? `Proposed documents (${kb.proposed_documents})`
              : "Proposed documents",
          ],
        ]
      : []),
    ...(team.mayEdit ? [["try", "Try a file"]] : []),
    ...(team.mayEdit ? [["coverage", "Coverage"]] : []),
    ...(team.mayEdit ? [["settings", "Settings"]] : []),
  ];
  return (
    <>
      <h1 className="text-[27px] leading-tight">{kb.name}</h1>
      <p className="soft mt-1">
        {count(kb.documents)} documents · {count(kb.passages)} passages
        {kb.documents > 0 && sources.length === 0 && (
          <>
            {" · last changed "}
            <Ago at={kb.changed_at} />
          </>
        )}
        {kb.pending > 0 && ` · ${kb.pending} being indexed`}
        {kb.failed > 0 && <span className="text-error"> · {kb.failed} failed</span>}
        {!kb.embedder && " · keyword search only: the service has no embedder"}
        {kb.expires_at && ` · expires ${new Date(kb.expires_at).toLocaleString()}`}
      </p>
      {sources.length > 0 && <UpToDate sources={sources} />}
      <Tabs label="Knowledge base" tabs={tabs} />
      <Outlet context={{ kb, documents, more, api, path } satisfies KbContext} />
    </>
  );
}
