"""The requests of both clients, as values; the clients only send them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from pydantic import TypeAdapter

from fontanel import schemas as s
from fontanel.client._approved_calls import ApprovedCalls
from fontanel.client._audit_calls import AuditCalls
from fontanel.client._call import Call, if_match, named, quoted
from fontanel.client._channel_calls import ChannelCalls
from fontanel.client._desk_calls import DeskCalls
from fontanel.client._embedder_calls import EmbedderCalls
from fontanel.client._proposed_calls import ProposedDocumentCalls
from fontanel.client._quality_calls import QualityCalls
from fontanel.client._quota_calls import QuotaCalls
from fontanel.client._transcriber_calls import TranscriberCalls
from fontanel.client._trial_calls import TrialCalls
from fontanel.schemas.base import RoleName

EVENT: TypeAdapter[s.Event] = TypeAdapter(s.Event)


class Calls(
    DeskCalls,
    ApprovedCalls,
    AuditCalls,
    ChannelCalls,
    TrialCalls,
    ProposedDocumentCalls,
    QualityCalls,
    QuotaCalls,
    EmbedderCalls,
    TranscriberCalls,
):
    """Every call of the API as a `Call`, for one team."""

    def __init__(self, team: str | None) -> None:
        self.team_ref = team

    def _team(self) -> str:
        if self.team_ref is None:
            raise ValueError("Name the team: Client(..., team='marine-operations').")
        return f"/teams/{quoted(self.team_ref)}"

    def _kb(self, kb: str) -> str:
        return f"{self._team()}/kbs/{quoted(kb)}"

    def _document(self, kb: str, document: str) -> str:
        return f"{self._kb(kb)}/documents/{named(document)}"

    def sign_in(self, email: str, password: str) -> Call[s.SessionOut]:
        return Call("POST", "/session", s.SessionOut, s.SignInIn(email=email, password=password))

    def session(self) -> Call[s.SessionOut]:
        return Call("GET", "/session", s.SessionOut)

    def list_teams(self) -> Call[s.Page[s.TeamOut]]:
        return Call("GET", "/teams", s.Page[s.TeamOut])

    def create_team(self, name: str) -> Call[s.TeamOut]:
        return Call("POST", "/teams", s.TeamOut, s.TeamIn(name=name))

    def change_team(self, change: s.TeamChange) -> Call[s.TeamOut]:
        return Call("PATCH", self._team(), s.TeamOut, change)

    def list_members(self) -> Call[s.Page[s.MemberOut]]:
        return Call("GET", f"{self._team()}/members", s.Page[s.MemberOut])

    def set_grants(
        self, team: str, folders: Sequence[str] | None, networks: Sequence[str] | None
    ) -> Call[s.TeamOut]:
        body = s.GrantsIn(
            source_folders=None if folders is None else list(folders),
            source_networks=None if networks is None else list(networks),
        )
        return Call("PUT", f"/teams/{quoted(team)}/grants", s.TeamOut, body)

    def delete_team(self, team: str) -> Call[None]:
        return Call("DELETE", f"/teams/{quoted(team)}")

    def invite(self, email: str, name: str, role: Any, days: int) -> Call[s.InvitationCreated]:
        body = s.InvitationIn(email=email, name=name, role=role, expires_in_days=days)
        return Call("POST", f"{self._team()}/invitations", s.InvitationCreated, body)

    def list_invitations(self) -> Call[s.Page[s.InvitationOut]]:
        return Call("GET", f"{self._team()}/invitations", s.Page[s.InvitationOut])

    def withdraw_invitation(self, invitation: str) -> Call[None]:
        return Call("DELETE", f"{self._team()}/invitations/{quoted(invitation)}")

    def open_invitation(self, secret: str) -> Call[s.InvitationDetails]:
        return Call(
            "POST", "/invitations/open", s.InvitationDetails, s.InvitationOpen(secret=secret)
        )

    def accept_invitation(
        self, secret: str, name: str | None, password: str | None
    ) -> Call[s.SessionOut]:
        body = s.InvitationAccept(secret=secret, name=name, password=password)
        return Call("POST", "/invitations/accept", s.SessionOut, body)

    def make_password_link(self, email: str) -> Call[s.PasswordLinkCreated]:
        return Call("POST", f"/people/{quoted(email)}/password-link", s.PasswordLinkCreated)

    def set_password(self, secret: str, new: str) -> Call[None]:
        return Call("POST", "/passwords", None, s.PasswordSet(secret=secret, new=new))

    def sign_out(self) -> Call[None]:
        return Call("DELETE", "/session")

    def list_sign_ins(self) -> Call[s.Page[s.SignInOut]]:
        return Call("GET", "/session/sign-ins", s.Page[s.SignInOut])

    def end_other_sign_ins(self) -> Call[None]:
        return Call("DELETE", "/session/sign-ins")

    def change_member(self, member: str, role: RoleName) -> Call[s.MemberOut]:
        path = f"{self._team()}/members/{quoted(member)}"
        return Call("PATCH", path, s.MemberOut, s.MemberChange(role=role))

    def remove_member(self, member: str) -> Call[None]:
        return Call("DELETE", f"{self._team()}/members/{quoted(member)}")

    def erase_person(self, person: str) -> Call[s.ErasureOut]:
        return Call("POST", f"/people/{quoted(person)}/erase", s.ErasureOut)

    def list_erasures(self) -> Call[list[s.ErasureOut]]:
        return Call("GET", "/erasures", list[s.ErasureOut])

    def list_keys(self) -> Call[s.Page[s.KeyOut]]:
        return Call("GET", f"{self._team()}/keys", s.Page[s.KeyOut])

    def make_key(
        self,
        name: str,
        role: Any,
        kbs: Sequence[str] | None,
        days: int | None,
        requests_per_minute: int | None,
    ) -> Call[s.KeyCreated]:
        body = s.KeyIn(
            name=name,
            role=role,
            kbs=None if kbs is None else list(kbs),
            expires_in_days=days,
            requests_per_minute=requests_per_minute,
        )
        return Call("POST", f"{self._team()}/keys", s.KeyCreated, body)

    def revoke_key(self, key: str) -> Call[None]:
        return Call("DELETE", f"{self._team()}/keys/{quoted(key)}")

    def list_kbs(self) -> Call[s.Page[s.KbOut]]:
        return Call("GET", f"{self._team()}/kbs", s.Page[s.KbOut])

    def create_kb(self, body: s.KbIn, key: str | None) -> Call[s.KbOut]:
        headers = {"Idempotency-Key": key} if key else {}
        return Call("POST", f"{self._team()}/kbs", s.KbOut, body, headers=headers)

    def show_kb(self, kb: str) -> Call[s.KbOut]:
        return Call("GET", self._kb(kb), s.KbOut)

    def list_editions(self, kb: str) -> Call[s.Page[s.EditionOut]]:
        return Call("GET", f"{self._kb(kb)}/editions", s.Page[s.EditionOut])

    def build_edition(self, kb: str, body: s.EditionIn) -> Call[s.EditionOut]:
        return Call("POST", f"{self._kb(kb)}/editions", s.EditionOut, body)

    def pause_edition(self, kb: str, number: int) -> Call[s.EditionOut]:
        return Call("POST", f"{self._kb(kb)}/editions/{number}/pause", s.EditionOut)

    def resume_edition(self, kb: str, number: int, body: s.ResumeIn) -> Call[s.EditionOut]:
        return Call("POST", f"{self._kb(kb)}/editions/{number}/resume", s.EditionOut, body)

    def activate_edition(self, kb: str, number: int) -> Call[s.EditionOut]:
        return Call("POST", f"{self._kb(kb)}/editions/{number}/activate", s.EditionOut)

    def drop_edition(self, kb: str, number: int) -> Call[None]:
        return Call("DELETE", f"{self._kb(kb)}/editions/{number}")

    def export_edition(self, kb: str, number: int) -> str:
        return f"{self._kb(kb)}/editions/{number}/pack"

    def import_pack(self) -> str:
        return f"{self._team()}/packs"

    def compare_editions(self, kb: str, body: s.CompareIn) -> Call[s.ComparisonOut]:
        return Call("POST", f"{self._kb(kb)}/editions/compare", s.ComparisonOut, body)

    def change_kb(self, kb: str, change: s.KbChange, version: int | None) -> Call[s.KbOut]:
        return Call("PATCH", self._kb(kb), s.KbOut, change, headers=if_match(version))

    def delete_kb(self, kb: str) -> Call[None]:
        return Call("DELETE", self._kb(kb))

    def list_documents(
        self, kb: str, cursor: str | None, **filters: Any
    ) -> Call[s.Page[s.DocumentOut]]:
        params = {"cursor": cursor, "limit": 500, **filters}
        return Call(
            "GET",
            f"{self._kb(kb)}/documents",
            s.Page[s.DocumentOut],
            params={k: v for k, v in params.items() if v},
        )

    def export_answers(self) -> str:
        return f"{self._team()}/answers/export"

    def kb_feed(self, kb: str) -> str:
        return f"{self._kb(kb)}/feed"

    def watch(self, kb: str) -> str:
        return f"{self._kb(kb)}/events"

    def show_document(self, kb: str, document: str) -> Call[s.DocumentOut]:
        return Call("GET", self._document(kb, document), s.DocumentOut)

    def set_tags(
        self, kb: str, document: str, tags: Mapping[str, str], version: int | None
    ) -> Call[s.DocumentOut]:
        headers = if_match(version)
        body = s.DocumentChange(tags=dict(tags))
        return Call("PATCH", self._document(kb, document), s.DocumentOut, body, headers=headers)

    def delete_document(self, kb: str, document: str) -> Call[None]:
        return Call("DELETE", self._document(kb, document))

    def erase_document(self, kb: str, document: str) -> Call[s.ErasureOut]:
        return Call("POST", f"{self._document(kb, document)}/erase", s.ErasureOut)

    def list_erased_documents(self) -> Call[list[s.ErasureOut]]:
        return Call("GET", f"{self._team()}/erasures", list[s.ErasureOut])

    def mark_document(self, kb: str, document: str, body: s.ValidityIn) -> Call[s.DocumentOut]:
        return Call("PUT", f"{self._document(kb, document)}/validity", s.DocumentOut, body)

    def unmark_document(self, kb: str, document: str) -> Call[s.DocumentOut]:
        return Call("DELETE", f"{self._document(kb, document)}/validity", s.DocumentOut)

    def retry_document(self, kb: str, document: str) -> Call[s.JobOut]:
        return Call("POST", f"{self._document(kb, document)}/retry", s.JobOut)

    def document_text(
        self, kb: str, document: str, revision: str | None
    ) -> Call[s.DocumentTextOut]:
        params = {"revision": revision} if revision else {}
        return Call("GET", f"{self._document(kb, document)}/text", s.DocumentTextOut, params=params)

    def list_passages(
        self, kb: str, document: str, cursor: str | None
    ) -> Call[s.Page[s.PassageOut]]:
        params = {"cursor": cursor, "limit": 500} if cursor else {"limit": 500}
        return Call(
            "GET", f"{self._document(kb, document)}/passages", s.Page[s.PassageOut], params=params
        )

    def page(self, kb: str, document: str, page: int, revision: str | None) -> Call[s.PageOut]:
        params = {"revision": revision} if revision else {}
        return Call("GET", f"{self._document(kb, document)}/pages/{page}", s.PageOut, params=params)

    def document_picture(self, kb: str, document: str, picture: str, revision: str | None) -> str:
        suffix = "" if revision is None else f"?revision={quoted(revision)}"
        return f"{self._document(kb, document)}/pictures/{quoted(picture)}{suffix}"

    def estimate_pictures(self, kb: str, model: str) -> Call[s.PictureEstimateOut]:
        path = f"{self._kb(kb)}/pictures/estimate"
        return Call("GET", path, s.PictureEstimateOut, params={"model": model})

    def page_picture(self, kb: str, document: str, page: int, width: int) -> str:
        return f"{self._document(kb, document)}/pages/{page}/picture?width={width}"

    def preview(self, kb: str) -> str:
        return f"{self._kb(kb)}/preview"

    def original(self, kb: str, document: str, revision: str | None) -> str:
        suffix = "" if revision is None else f"?revision={quoted(revision)}"
        return f"{self._document(kb, document)}/original{suffix}"

    def add_document(self, kb: str) -> str:
        return f"{self._kb(kb)}/documents"

    def write_document(self, kb: str, body: s.WrittenIn) -> Call[s.AddedOut]:
        return Call("POST", f"{self._kb(kb)}/written", s.AddedOut, body)

    def written_text(self, kb: str, document: str) -> Call[s.WrittenOut]:
        return Call("GET", f"{self._document(kb, document)}/written", s.WrittenOut)

    def rewrite_document(self, kb: str, document: str, text: str, version: int) -> Call[s.AddedOut]:
        headers = if_match(version)
        path = f"{self._document(kb, document)}/written"
        return Call("PUT", path, s.AddedOut, s.WrittenChange(text=text), headers=headers)

    def list_revisions(self, kb: str, document: str) -> Call[s.Page[s.RevisionOut]]:
        return Call("GET", f"{self._document(kb, document)}/revisions", s.Page[s.RevisionOut])

    def restore_revision(self, kb: str, document: str, revision: str) -> Call[s.AddedOut]:
        return Call(
            "POST",
            f"{self._document(kb, document)}/revisions/{quoted(revision)}/restore",
            s.AddedOut,
        )

    def compare_revisions(
        self, kb: str, document: str, before: str | None, after: str | None
    ) -> Call[s.DifferencesOut]:
        params = {name: value for name, value in (("before", before), ("after", after)) if value}
        return Call(
            "GET", f"{self._document(kb, document)}/differences", s.DifferencesOut, params=params
        )

    def list_folders(self, kb: str, under: str) -> Call[list[s.FolderOut]]:
        return Call("GET", f"{self._kb(kb)}/folders", list[s.FolderOut], params={"under": under})

    def bulk(self, kb: str, body: s.BulkIn) -> Call[s.BulkOut]:
        return Call("POST", f"{self._kb(kb)}/documents/bulk", s.BulkOut, body)

    def source_kinds(self) -> Call[list[s.KindOut]]:
        return Call("GET", "/source-kinds", list[s.KindOut])

    def _source(self, kb: str, source: str) -> str:
        return f"{self._kb(kb)}/sources/{named(source)}"

    def list_sources(self, kb: str) -> Call[s.Page[s.SourceOut]]:
        return Call("GET", f"{self._kb(kb)}/sources", s.Page[s.SourceOut])

    def show_source(self, kb: str, source: str) -> Call[s.SourceOut]:
        return Call("GET", self._source(kb, source), s.SourceOut)

    def check_source(self, kb: str, body: s.CheckIn) -> Call[s.SourceCheck]:
        return Call("POST", f"{self._kb(kb)}/sources/check", s.SourceCheck, body)

    def check_again(self, kb: str, source: str, body: s.SourceChange | None) -> Call[s.SourceCheck]:
        return Call("POST", f"{self._source(kb, source)}/check", s.SourceCheck, body)

    def connect_source(
        self, kb: str, body: s.SourceIn, idempotency_key: str | None
    ) -> Call[s.SourceOut]:
        headers = {"Idempotency-Key": idempotency_key} if idempotency_key else {}
        return Call("POST", f"{self._kb(kb)}/sources", s.SourceOut, body, headers=headers)

    def change_source(
        self, kb: str, source: str, body: s.SourceChange, version: int | None
    ) -> Call[s.SourceOut]:
        headers = if_match(version)
        return Call("PATCH", self._source(kb, source), s.SourceOut, body, headers=headers)

    def disconnect_source(self, kb: str, source: str, *, keep_documents: bool) -> Call[None]:
        return Call("DELETE", self._source(kb, source), params={"keep_documents": keep_documents})

    def start_sync(self, kb: str, source: str) -> Call[s.SyncOut]:
        return Call("POST", f"{self._source(kb, source)}/syncs", s.SyncOut)

    def list_syncs(self, kb: str, source: str, limit: int) -> Call[s.Page[s.SyncOut]]:
        return Call(
            "GET", f"{self._source(kb, source)}/syncs", s.Page[s.SyncOut], params={"limit": limit}
        )

    def show_sync(self, kb: str, source: str, sync: str) -> Call[s.SyncOut]:
        return Call("GET", f"{self._source(kb, source)}/syncs/{quoted(sync)}", s.SyncOut)

    def list_sync_items(
        self, kb: str, source: str, sync: str, outcome: str | None, cursor: str | None
    ) -> Call[s.Page[s.SyncItemOut]]:
        params = {"outcome": outcome, "cursor": cursor, "limit": 1000}
        path = f"{self._source(kb, source)}/syncs/{quoted(sync)}/items"
        return Call(
            "GET", path, s.Page[s.SyncItemOut], params={k: v for k, v in params.items() if v}
        )

    def decide_sync(self, kb: str, source: str, sync: str, decision: str) -> Call[s.SyncOut]:
        return Call(
            "POST", f"{self._source(kb, source)}/syncs/{quoted(sync)}/{decision}", s.SyncOut
        )

    def make_signal_secret(self, kb: str, source: str) -> Call[s.SignalSecret]:
        return Call("POST", f"{self._source(kb, source)}/signal-secret", s.SignalSecret)

    def push_documents(self, kb: str, source: str, body: s.PushIn) -> Call[s.PushOut]:
        return Call("POST", f"{self._source(kb, source)}/documents", s.PushOut, body)

    def freshness(self) -> Call[list[s.SourceFreshness]]:
        return Call("GET", f"{self._team()}/freshness", list[s.SourceFreshness])

    def list_notices(self, kb: str | None, limit: int) -> Call[s.NoticesOut]:
        params: dict[str, Any] = {"limit": limit, **({"kb": kb} if kb else {})}
        return Call("GET", f"{self._team()}/notices", s.NoticesOut, params=params)

    def mark_notices_seen(self) -> Call[None]:
        return Call("POST", f"{self._team()}/notices/seen")

    def list_receivers(self) -> Call[s.Page[s.ReceiverOut]]:
        return Call("GET", f"{self._team()}/receivers", s.Page[s.ReceiverOut])

    def add_receiver(
        self, url: str, kinds: Sequence[s.NoticeKind | s.EventKind]
    ) -> Call[s.ReceiverCreated]:
        return Call(
            "POST",
            f"{self._team()}/receivers",
            s.ReceiverCreated,
            s.ReceiverIn(url=url, kinds=list(kinds)),
        )

    def remove_receiver(self, receiver: str) -> Call[None]:
        return Call("DELETE", f"{self._team()}/receivers/{quoted(receiver)}")

    def job(self, kb: str, job: str) -> Call[s.JobOut]:
        return Call("GET", f"{self._kb(kb)}/jobs/{quoted(job)}", s.JobOut)

    def search(self, kb: str, body: s.SearchIn) -> Call[s.SearchOut]:
        return Call("POST", f"{self._kb(kb)}/search", s.SearchOut, body)

    def ask(self, kb: str, body: s.AskIn, key: str) -> Call[s.AnswerOut]:
        return Call(
            "POST", f"{self._kb(kb)}/ask", s.AnswerOut, body, headers={"Idempotency-Key": key}
        )

    def _conversations(
        self, kb: str | None, desk: str | None, conversation: str | None = None
    ) -> str:
        if (kb is None) == (desk is None):
            raise ValueError(
                "a conversation is with a knowledge base or at a desk: give one of the two"
            )
        place = f"{self._kb(kb) if kb is not None else self._desk(str(desk))}/conversations"
        return place if conversation is None else f"{place}/{quoted(conversation)}"

    def list_conversations(
        self, kb: str | None, desk: str | None, text: str | None
    ) -> Call[s.Page[s.ConversationOut]]:
        params = {} if text is None else {"text": text}
        return Call("GET", self._conversations(kb, desk), s.Page[s.ConversationOut], params=params)

    def show_conversation(
        self, kb: str | None, desk: str | None, conversation: str
    ) -> Call[s.Page[s.TurnOut]]:
        return Call("GET", self._conversations(kb, desk, conversation), s.Page[s.TurnOut])

    def rename_conversation(
        self, kb: str | None, desk: str | None, conversation: str, title: str
    ) -> Call[s.ConversationOut]:
        body = s.ConversationChange(title=title)
        return Call("PATCH", self._conversations(kb, desk, conversation), s.ConversationOut, body)

    def delete_conversation(
        self, kb: str | None, desk: str | None, conversation: str
    ) -> Call[None]:
        return Call("DELETE", self._conversations(kb, desk, conversation))

    def export_conversation(
        self, kb: str | None, desk: str | None, conversation: str, form: str
    ) -> str:
        return f"{self._conversations(kb, desk, conversation)}/export?form={form}"
