import { BrowserRouter, Navigate, Outlet, Route, Routes, useLocation } from "react-router";
import type { Session } from "./api/client";
import { useResource } from "./api/useResource";
import { Frame } from "./components/Frame";
import { SessionProvider, useSession } from "./hooks/useSession";
import { AccountPage } from "./pages/account/AccountPage";
import { AnswerPage } from "./pages/answers/AnswerPage";
import { ApprovedPage } from "./pages/approved/ApprovedPage";
import { ApprovedTab } from "./pages/approved/ApprovedTab";
import { AuditPage, TeamAuditPage } from "./pages/audit/AuditPage";
import { BackupsPage } from "./pages/backups/BackupsPage";
import { ChannelPage } from "./pages/channels/ChannelPage";
import { ChannelsTab } from "./pages/channels/ChannelsTab";
import { ChatPage } from "./pages/chat/ChatPage";
import { AnswersTab } from "./pages/desks/AnswersTab";
import { BuildTab } from "./pages/desks/BuildTab";
import { DeskPage } from "./pages/desks/DeskPage";
import { DesksPage } from "./pages/desks/DesksPage";
import { ShareTab } from "./pages/desks/ShareTab";
import { VersionsTab } from "./pages/desks/VersionsTab";
import { ChangesPage } from "./pages/document/ChangesPage";
import { CoveragePage } from "./pages/document/CoveragePage";
import { DocumentPage } from "./pages/document/DocumentPage";
import { ProposalsPage } from "./pages/document/ProposalsPage";
import { WritePage } from "./pages/document/WritePage";
import { ChangedTab } from "./pages/gaps/ChangedTab";
import { FeedbackTab } from "./pages/gaps/FeedbackTab";
import { GapPage } from "./pages/gaps/GapPage";
import { GapsPage } from "./pages/gaps/GapsPage";
import { QuestionsTab } from "./pages/gaps/QuestionsTab";
import { AskTab } from "./pages/kb/AskTab";
import { CoverageTab } from "./pages/kb/CoverageTab";
import { DocumentsTab } from "./pages/kb/DocumentsTab";
import { KbPage } from "./pages/kb/KbPage";
import { PreviewTab } from "./pages/kb/PreviewTab";
import { ProposedTab } from "./pages/kb/ProposedTab";
import { SearchTab } from "./pages/kb/SearchTab";
import { SettingsTab } from "./pages/kb/SettingsTab";
import { KbsPage } from "./pages/kbs/KbsPage";
import { ModelsPage } from "./pages/models/ModelsPage";
import { NoticesPage } from "./pages/notices/NoticesPage";
import { QuotasPage } from "./pages/quotas/QuotasPage";
import { InvitationPage } from "./pages/sign-in/InvitationPage";
import { PasswordPage } from "./pages/sign-in/PasswordPage";
import { SignInPage } from "./pages/sign-in/SignInPage";
import { RunPage } from "./pages/sources/RunPage";
import { SourcePage } from "./pages/sources/SourcePage";
import { SourcesTab } from "./pages/sources/SourcesTab";
import { TeamPage } from "./pages/team/TeamPage";
import { TeamsPage } from "./pages/teams/TeamsPage";
import { ComparePage } from "./pages/trials/ComparePage";
import { NewTrialPage } from "./pages/trials/NewTrialPage";
import { SetPage } from "./pages/trials/SetPage";
import { TrialPage } from "./pages/trials/TrialPage";
import { TrialsPage } from "./pages/trials/TrialsPage";
import { UsagePage } from "./pages/usage/UsagePage";
import { ROOT } from "./root";

export function App() {
  return (
    <BrowserRouter basename={ROOT || undefined}>
      <Routes>
        <Route path="/sign-in" element={<SignInPage />} />
        <Route path="/invitation" element={<InvitationPage />} />
        <Route path="/password" element={<PasswordPage />} />
        <Route path="/chat/:desk" element={<ChatPage />} />
        <Route element={<SignedIn />}>
          <Route element={<Frame />}>
            <Route index element={<Home />} />
            <Route path="/teams" element={<TeamsPage />} />
            <Route path="/account" element={<AccountPage />} />
            <Route path="/models" element={<ModelsPage />} />
            <Route path="/audit" element={<AuditPage />} />
            <Route path="/backups" element={<BackupsPage />} />
            <Route path="/quotas" element={<QuotasPage />} />
            <Route path="/t/:team" element={<OwnTeam />}>
              <Route index element={<Navigate to="kbs" replace />} />
              <Route path="kbs" element={<KbsPage />} />
              <Route path="team" element={<TeamPage />} />
              <Route path="freshness" element={<NoticesPage />} />
              <Route path="usage" element={<UsagePage />} />
              <Route path="audit" element={<TeamAuditPage />} />
              <Route path="answers/:answer" element={<AnswerPage />} />
              <Route path="gaps" element={<GapsPage />}>
                <Route index element={<Navigate to="questions" replace />} />
                <Route path="questions" element={<QuestionsTab />} />
                <Route path="questions/:gap" element={<GapPage />} />
                <Route path="feedback" element={<FeedbackTab />} />
                <Route path="changed" element={<ChangedTab />} />
              </Route>
              <Route path="trials" element={<TrialsPage />} />
              <Route path="trials/new" element={<NewTrialPage />} />
              <Route path="trials/sets/:set" element={<SetPage />} />
              <Route path="trials/:trial" element={<TrialPage />} />
              <Route path="trials/:trial/compare/:other" element={<ComparePage />} />
              <Route path="desks" element={<DesksPage />} />
              <Route path="desks/:desk" element={<DeskPage />}>
                <Route index element={<Navigate to="build" replace />} />
                <Route path="build" element={<BuildTab />} />
                <Route path="versions" element={<VersionsTab />} />
                <Route path="share" element={<ShareTab />} />
                <Route path="channels" element={<ChannelsTab />} />
                <Route path="channels/:channel" element={<ChannelPage />} />
                <Route path="answers" element={<AnswersTab />} />
              </Route>
              <Route path="kbs/:kb" element={<KbPage />}>
                <Route index element={<Navigate to="documents" replace />} />
                <Route path="documents" element={<DocumentsTab />} />
                <Route path="try" element={<PreviewTab />} />
                <Route path="search" element={<SearchTab />} />
                <Route path="ask" element={<AskTab />} />
                <Route path="approved" element={<ApprovedTab />} />
                <Route path="approved/:approved" element={<ApprovedPage />} />
                <Route path="sources" element={<SourcesTab />} />
                <Route path="sources/:source" element={<SourcePage />} />
                <Route path="sources/:source/runs/:run" element={<RunPage />} />
                <Route path="coverage" element={<CoverageTab />} />
                <Route path="proposed" element={<ProposedTab />} />
                <Route path="settings" element={<SettingsTab />} />
              </Route>
              <Route path="kbs/:kb/documents/:document" element={<DocumentPage />} />
              <Route path="kbs/:kb/documents/:document/edit" element={<WritePage />} />
              <Route path="kbs/:kb/documents/:document/changes" element={<ChangesPage />} />
              <Route path="kbs/:kb/documents/:document/questions" element={<ProposalsPage />} />
              <Route path="kbs/:kb/documents/:document/coverage" element={<CoveragePage />} />
              <Route path="kbs/:kb/write" element={<WritePage />} />
            </Route>
            <Route path="*" element={<Missing />} />
          </Route>
        </Route>
      </Routes>
    </BrowserRouter>
  );
}

function SignedIn() {
  const { data } = useResource<Session>("/session");
  if (!data) return null;
  return (
    <SessionProvider session={data}>
      <Outlet />
    </SessionProvider>
  );
}

function Home() {
  const session = useSession();
  const first = session.teams[0];
  if (first) return <Navigate to={`/t/${first.slug}/kbs`} replace />;
  if (session.operator) return <Navigate to="/teams" replace />;
  return <p className="py-16 text-center">You are in no team yet. Ask an owner to invite you.</p>;
}

/** A team that the person does not belong to looks like one that does not exist. */
function OwnTeam() {
  const session = useSession();
  const { pathname } = useLocation();
  const slug = pathname.split("/")[2];
  const member = session.teams.some((team) => team.slug === slug);
  return member || (session.operator && pathname.endsWith("/team")) ? <Outlet /> : <Missing />;
}

export function Missing() {
  return (
    <div className="py-16 text-center">
      <h1 className="text-2xl">Page not found</h1>
      <p className="soft mt-2">The address is wrong, or it belongs to another team.</p>
      <a className="btn btn-primary mt-6" href={`${ROOT}/`}>
        Go to your knowledge bases
      </a>
    </div>
  );
}
