import { Outlet, useOutletContext, useParams } from "react-router";
import { Missing } from "../../App";
import type { Doc, Kb } from "../../api/client";
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

/** One knowledge base: its state, and its tabs. */
export function KbPage() {
  const team = useTeam();
  const { kb: slug = "" } = useParams();
  const api = `${team.api}/kbs/${encodeURIComponent(slug)}`;
  const path = `/t/${team.slug}/kbs/${slug}`;
  const { kb, documents, error, more } = useDocuments(api);
  if (error) return <Missing />;
  if (!kb) return null;
  const tabs = [
    ["documents", "Documents"],
    ["sources", "Sources"],
    ["search", "Search"],
    ["ask", "Ask"],
    ...(team.mayEdit ? [["try", "Try a file"]] : []),
    ...(team.mayEdit ? [["settings", "Settings"]] : []),
  ];
  return (
    <>
      <h1 className="text-[27px] leading-tight">{kb.name}</h1>
      <p className="soft mt-1">
        {count(kb.documents)} documents · {count(kb.passages)} passages
        {kb.documents > 0 && (
          <>
            {" · answerable to "}
            <Ago at={kb.changed_at} />
          </>
        )}
        {kb.pending > 0 && ` · ${kb.pending} being indexed`}
        {kb.failed > 0 && <span className="text-error"> · {kb.failed} failed</span>}
        {!kb.embedder && " · keyword search only: the service has no embedder"}
        {kb.expires_at && ` · expires ${new Date(kb.expires_at).toLocaleString()}`}
      </p>
      <Tabs label="Knowledge base" tabs={tabs} />
      <Outlet context={{ kb, documents, more, api, path } satisfies KbContext} />
    </>
  );
}
