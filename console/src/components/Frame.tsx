import { type ReactNode, useState } from "react";
import { Link, NavLink, Outlet, useNavigate } from "react-router";
import { type Schemas, signOut } from "../api/client";
import { IDLE, useResource } from "../api/useResource";
import { useSession, useTeam } from "../hooks/useSession";

export function Mark() {
  return (
    <svg
      viewBox="0 0 24 24"
      className="text-primary size-5"
      fill="none"
      stroke="currentColor"
      strokeWidth="2"
      strokeLinecap="round"
      aria-hidden
    >
      <path d="M12 2v5.500M12 16.500V22M2 12h5.500M16.500 12H22" />
      <path d="M12 8 16 12 12 16 8 12z" strokeLinejoin="round" />
    </svg>
  );
}

function Tab({ to, children }: { to: string; children: ReactNode }) {
  return (
    <NavLink
      to={to}
      className={({ isActive }) =>
        `flex h-full items-center border-b-2 px-1 whitespace-nowrap ${isActive ? "border-primary font-semibold" : "soft border-transparent"}`
      }
    >
      {children}
    </NavLink>
  );
}

/** Stores a person's choice of theme; without one the system's preference applies. */
function ThemeButton() {
  const dark = () => document.documentElement.dataset.theme === "night";
  const [on, setOn] = useState(dark);
  const flip = () => {
    const theme = on ? "fog" : "night";
    document.documentElement.dataset.theme = theme;
    localStorage.setItem("theme", theme);
    setOn(!on);
  };
  return (
    <button type="button" className="soft hover:text-base-content cursor-pointer" onClick={flip}>
      {on ? "Light" : "Dark"}
    </button>
  );
}

/** How many notices this person has not seen yet. */
function Unseen({ api }: { api: string }) {
  const { data } = useResource<Schemas["NoticesOut"]>(`${api}/notices?limit=1`, { idle: IDLE });
  if (!data?.unseen) return null;
  return (
    <span
      className="badge badge-sm bg-accent text-accent-content ml-1.5"
      role="status"
      aria-label={`${data.unseen} new notices`}
    >
      {data.unseen > 99 ? "99+" : data.unseen}
    </span>
  );
}

/** The frame of every page: navigation and content. */
/** Shown once after signing in: the person is signed in elsewhere too. */
function Elsewhere() {
  const [count, setCount] = useState(sessionStorage.getItem("elsewhere"));
  if (!count) return null;
  const dismiss = () => {
    sessionStorage.removeItem("elsewhere");
    setCount(null);
  };
  return (
    <aside
      aria-label="Other sign-ins"
      className="washed rounded-box mb-5 flex items-center gap-3 p-3"
    >
      You are signed in at {count} other {count === "1" ? "place" : "places"} too.
      <Link to="/account" className="link" onClick={dismiss}>
        Show
      </Link>
      <button type="button" className="soft ml-auto cursor-pointer" onClick={dismiss}>
        Dismiss
      </button>
    </aside>
  );
}

export function Frame() {
  const session = useSession();
  const team = useTeam();
  const navigate = useNavigate();
  return (
    <>
      <header className="bg-base-100 border-base-300 border-b">
        <div className="mx-auto flex min-h-13 max-w-[1216px] flex-wrap items-center gap-x-6 gap-y-1 px-4">
          <Link to="/" className="flex items-center gap-2.5 font-semibold">
            <Mark /> Fontanel
          </Link>
          <nav
            className="flex h-13 max-w-full items-stretch gap-5 overflow-x-auto"
            aria-label="Main"
          >
            {team.member && <Tab to={`/t/${team.slug}/kbs`}>Knowledge bases</Tab>}
            {team.member && <Tab to={`/t/${team.slug}/desks`}>Desks</Tab>}
            {team.member && (
              <Tab to={`/t/${team.slug}/freshness`}>
                Freshness
                <Unseen api={team.api} />
              </Tab>
            )}
            {team.slug && team.mayOwn && <Tab to={`/t/${team.slug}/team`}>Team</Tab>}
            {team.slug && team.mayEdit && <Tab to={`/t/${team.slug}/usage`}>Usage</Tab>}
            {session.operator && <Tab to="/teams">All teams</Tab>}
            {session.operator && <Tab to="/models">Models</Tab>}
          </nav>
          <div className="ml-auto flex items-center gap-4">
            {session.teams.length > 0 && team.slug && (
              <label>
                <span className="sr-only">Team</span>
                <select
                  className="select select-sm rounded-full"
                  value={team.slug}
                  onChange={(event) => navigate(`/t/${event.target.value}/kbs`)}
                >
                  {session.teams.map((item) => (
                    <option key={item.slug} value={item.slug}>
                      {item.name}
                    </option>
                  ))}
                  {!session.teams.some((item) => item.slug === team.slug) && (
                    <option value={team.slug}>{team.name}</option>
                  )}
                </select>
              </label>
            )}
            <Link to="/account" className="soft hover:text-base-content hidden sm:inline">
              {session.name}
            </Link>
            <ThemeButton />
            <button
              type="button"
              className="soft hover:text-base-content cursor-pointer"
              onClick={() => void signOut()}
            >
              Sign out
            </button>
          </div>
        </div>
      </header>
      <main className="mx-auto max-w-[1148px] px-4 py-6">
        <Elsewhere />
        <Outlet />
      </main>
    </>
  );
}
