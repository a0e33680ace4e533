import { type ReactNode, useState } from "react";
import { Link, NavLink, Outlet, useLocation, useNavigate } from "react-router";
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
      <button type="button" className="ml-auto cursor-pointer underline" onClick={dismiss}>
        Dismiss
      </button>
    </aside>
  );
}

/** The pages that a person may open, as a row, or on a narrow screen as a list. */
function MainLinks() {
  const session = useSession();
  const team = useTeam();
  return (
    <>
      {team.member && <Tab to={`/t/${team.slug}/kbs`}>Knowledge bases</Tab>}
      {team.member && <Tab to={`/t/${team.slug}/desks`}>Desks</Tab>}
      {team.member && team.mayEdit && <Tab to={`/t/${team.slug}/gaps`}>Gaps</Tab>}
      {team.member && team.mayEdit && <Tab to={`/t/${team.slug}/trials`}>Trials</Tab>}
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
    </>
  );
}

function TeamChoice() {
  const session = useSession();
  const team = useTeam();
  const navigate = useNavigate();
  if (session.teams.length === 0 || !team.slug) return null;
  return (
    <label className="min-w-0">
      <span className="sr-only">Team</span>
      <select
        className="select select-sm max-w-full rounded-full"
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
  );
}

/** The person's own links: account, theme, signing out. */
function OwnLinks() {
  const session = useSession();
  return (
    <>
      <Link to="/account" className="soft hover:text-base-content">
        {session.name}
      </Link>
      <ThemeButton />
      <button
        type="button"
        className="soft hover:text-base-content cursor-pointer text-left"
        onClick={() => void signOut()}
      >
        Sign out
      </button>
    </>
  );
}

/** On a narrow screen, everything that the header has no room for. */
function Menu() {
  const { pathname } = useLocation();
  return (
    <details key={pathname} className="group min-[1000px]:hidden">
      <summary className="btn btn-sm list-none">
        <span className="group-open:hidden">Menu</span>
        <span className="hidden group-open:inline">Close</span>
      </summary>
      <div className="bg-base-100 border-base-300 absolute inset-x-0 z-20 border-b px-4 pb-4 shadow-lg">
        <nav className="flex flex-col items-start [&_a]:min-h-11" aria-label="Main">
          <MainLinks />
        </nav>
        <div className="border-base-300 mt-2 flex flex-col items-start gap-4 border-t pt-4">
          <OwnLinks />
        </div>
      </div>
    </details>
  );
}

/** The frame of every page: navigation and content. */
export function Frame() {
  return (
    <>
      <header className="bg-base-100 border-base-300 relative border-b">
        <div className="mx-auto flex h-13 max-w-[1216px] items-center gap-x-4 px-4 min-[1000px]:gap-x-6">
          <Link to="/" className="flex items-center gap-2.5 font-semibold">
            <Mark /> Fontanel
          </Link>
          <nav className="hidden h-13 items-stretch gap-5 min-[1000px]:flex" aria-label="Main">
            <MainLinks />
          </nav>
          <div className="ml-auto flex min-w-0 items-center gap-4">
            <TeamChoice />
            <span className="hidden items-center gap-4 min-[1000px]:flex">
              <OwnLinks />
            </span>
            <Menu />
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
