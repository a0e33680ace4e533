import { createContext, type ReactNode, useContext, useMemo } from "react";
import { useParams } from "react-router";
import type { Session } from "../api/client";

const SessionContext = createContext<Session | null>(null);

export function SessionProvider({ session, children }: { session: Session; children: ReactNode }) {
  return <SessionContext.Provider value={session}>{children}</SessionContext.Provider>;
}

export function useSession(): Session {
  const session = useContext(SessionContext);
  if (!session) throw new Error("Nobody is signed in.");
  return session;
}

/** The team in the address, the caller's role in it, and the path of its API. */
export function useTeam() {
  const { team = "" } = useParams();
  const session = useSession();
  return useMemo(() => {
    const found = session.teams.find((item) => item.slug === team);
    const role = found?.role ?? (session.operator ? "operator" : "none");
    return {
      slug: team,
      name: found?.name ?? team,
      role,
      member: found !== undefined,
      mayEdit: role === "editor" || role === "owner",
      mayOwn: role === "owner" || session.operator,
      api: `/teams/${encodeURIComponent(team)}`,
    };
  }, [team, session]);
}
