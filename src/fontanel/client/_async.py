"""The asynchronous client: `Client`, awaited. Made from `_sync.py`; do not edit."""

from __future__ import annotations

import asyncio
import secrets
import time
from collections.abc import AsyncIterator, Awaitable, Mapping, Sequence
from pathlib import Path
from typing import Literal, overload

import httpx

from fontanel import schemas as s
from fontanel.client._calls import Upload
from fontanel.client._async_conversations import AsyncConversationClient
from fontanel.client._async_desks import AsyncDeskClient
from fontanel.client._errors import ClientError, Unreachable, raise_for_problem

_SETTLED = ("indexed", "failed")


class AsyncClient(AsyncDeskClient, AsyncConversationClient):
    """A connection to the service. `kb` and `document` are ids, or the short name and the name; `team` likewise.

    `key` is an access key, or the secret of a desk's link, for a guest: then `guest` is the guest's own secret, 16 random characters
    or more. Every method raises `Unreachable`, or the `ProblemError` that the service answered with.
    """

    # Who, and the team

    async def sign_in(self, email: str, password: str) -> s.SessionOut:
        """Go on as this person instead of with a key; operators, who have no keys, work this way."""
        self._http.headers["X-Fontanel-Console"] = "client"
        return await self._send(self._calls.sign_in(email, password))

    async def sign_out(self) -> None:
        """End the sign-in that `sign_in` began."""
        await self._send(self._calls.sign_out())

    async def session(self) -> s.SessionOut:
        """Who the key stands for, and the teams it reaches."""
        return await self._send(self._calls.session())

    async def list_teams(self) -> list[s.TeamOut]:
        return (await self._send(self._calls.list_teams())).items

    async def create_team(self, name: str) -> s.TeamOut:
        """For operators."""
        return await self._send(self._calls.create_team(name))

    async def change_team(self, change: s.TeamChange) -> s.TeamOut:
        """For owners. Only the fields that are set are changed."""
        return await self._send(self._calls.change_team(change))

    async def list_members(self) -> list[s.MemberOut]:
        return (await self._send(self._calls.list_members())).items

    async def invite(
        self,
        email: str,
        name: str,
        role: Literal["reader", "editor", "owner"] = "reader",
        expires_in_days: int = 7,
    ) -> s.InvitationCreated:
        """Invite somebody to the team. `.url` is the link to hand over, None when it was sent by e-mail."""
        return await self._send(self._calls.invite(email, name, role, expires_in_days))

    async def list_invitations(self) -> list[s.InvitationOut]:
        return (await self._send(self._calls.list_invitations())).items

    async def withdraw_invitation(self, invitation: str) -> None:
        """By id or e-mail; its link stops working at once."""
        await self._send(self._calls.withdraw_invitation(invitation))

    async def open_invitation(self, secret: str) -> s.InvitationDetails:
        """What the link with this secret invites to. `secret` is what follows the number sign of the link."""
        self._http.headers["X-Fontanel-Console"] = "client"
        return await self._send(self._calls.open_invitation(secret))

    async def accept_invitation(
        self, secret: str, name: str | None = None, password: str | None = None
    ) -> s.SessionOut:
        """Join the team: with a password for a new account, which is signed in then; without one as the person who is signed in."""
        self._http.headers["X-Fontanel-Console"] = "client"
        return await self._send(self._calls.accept_invitation(secret, name, password))

    async def make_password_link(self, email: str) -> s.PasswordLinkCreated:
        """For operators: a link by which a person who forgot their password sets a new one."""
        return await self._send(self._calls.make_password_link(email))

    async def set_password(self, secret: str, new: str) -> None:
        """Set a new password with the secret of such a link; all sign-ins of the person end."""
        self._http.headers["X-Fontanel-Console"] = "client"
        await self._send(self._calls.set_password(secret, new))

    async def list_sign_ins(self) -> list[s.SignInOut]:
        """Where the person is signed in, newest first."""
        return (await self._send(self._calls.list_sign_ins())).items

    async def end_other_sign_ins(self) -> None:
        """Sign the person out everywhere but here."""
        await self._send(self._calls.end_other_sign_ins())

    async def set_grants(
        self, team: str, folders: Sequence[str] | None, networks: Sequence[str] | None
    ) -> s.TeamOut:
        """For operators: folders and private networks that the team's sources may read; None for all that the service allows."""
        return await self._send(self._calls.set_grants(team, folders, networks))

    async def delete_team(self, team: str) -> None:
        """For operators. Everything the team has goes with it."""
        await self._send(self._calls.delete_team(team))

    async def remove_member(self, member: str) -> None:
        """By id or e-mail."""
        await self._send(self._calls.remove_member(member))

    async def list_keys(self) -> list[s.KeyOut]:
        return (await self._send(self._calls.list_keys())).items

    async def make_key(
        self,
        name: str,
        role: Literal["reader", "editor", "owner"] = "reader",
        kbs: Sequence[str] | None = None,
        expires_in_days: int | None = None,
    ) -> s.KeyCreated:
        """The key itself is in `.secret` of this answer only."""
        return await self._send(self._calls.make_key(name, role, kbs, expires_in_days))

    async def revoke_key(self, key: str) -> None:
        await self._send(self._calls.revoke_key(key))

    # Knowledge bases

    async def list_kbs(self) -> list[s.KbOut]:
        return (await self._send(self._calls.list_kbs())).items

    async def create_kb(
        self,
        name: str,
        description: str = "",
        temporary: bool = False,
        splitting: s.Splitting | None = None,
        idempotency_key: str | None = None,
        describer: str | None = None,
    ) -> s.KbOut:
        """A temporary knowledge base vanishes by itself after a day. `describer`: the model that describes its documents."""
        return await self._send(
            self._calls.create_kb(
                name, description, temporary, splitting, describer, idempotency_key
            )
        )

    async def show_kb(self, kb: str) -> s.KbOut:
        return await self._send(self._calls.show_kb(kb))

    async def change_kb(
        self,
        kb: str,
        name: str | None = None,
        description: str | None = None,
        version: int | None = None,
        describer: str | None = None,
    ) -> s.KbOut:
        """What is None stays; the describer "built-in" takes the model away. With `version`, raises ChangedMeanwhile when the
        knowledge base is at another one."""
        return await self._send(self._calls.change_kb(kb, name, description, describer, version))

    async def delete_kb(self, kb: str) -> None:
        await self._send(self._calls.delete_kb(kb))

    # Editions

    async def list_editions(self, kb: str) -> list[s.EditionOut]:
        return (await self._send(self._calls.list_editions(kb))).items

    async def build_edition(self, kb: str, splitting: s.Splitting) -> s.EditionOut:
        """Begin to build an index with other settings beside the one that serves; `list_editions` tells how far it is."""
        return await self._send(self._calls.build_edition(kb, splitting))

    async def activate_edition(self, kb: str, number: int) -> s.EditionOut:
        """Switch searches and answers to an edition. Raises Conflict while documents are on their way."""
        return await self._send(self._calls.activate_edition(kb, number))

    async def drop_edition(self, kb: str, number: int) -> None:
        await self._send(self._calls.drop_edition(kb, number))

    async def compare_editions(
        self, kb: str, first: int, second: int, questions: Sequence[str | tuple[str, str]]
    ) -> s.ComparisonOut:
        """What two editions find. A question may come with the name of the document that should be found."""
        asked = [
            s.CompareQuestion(question=item)
            if isinstance(item, str)
            else s.CompareQuestion(question=item[0], document=item[1])
            for item in questions
        ]
        return await self._send(
            self._calls.compare_editions(
                kb, s.CompareIn(first=first, second=second, questions=asked)
            )
        )

    async def export_edition(self, kb: str, number: int, target: Path) -> None:
        """Write an edition with its documents as one file, which `import_pack` takes in."""
        request = self._http.build_request(
            "GET", self._calls.export_edition(kb, number).removeprefix("/")
        )
        try:
            response = await self._http.send(request, stream=True)
        except httpx.TransportError as error:
            raise Unreachable(
                f"The service at {request.url.host} cannot be reached: {error}", request
            ) from error
        try:
            if response.is_error:
                await response.aread()
                raise_for_problem(response)
            with target.open("wb") as file:
                async for chunk in response.aiter_bytes():
                    file.write(chunk)
        finally:
            await response.aclose()

    async def import_pack(self, source: Path, name: str | None = None) -> s.KbOut:
        """Make a knowledge base of an exported edition; nothing is embedded anew. Raises Invalid with the reason when the pack is
        damaged or does not fit this service."""
        upload = Upload(name or "", source.open("rb"))
        return s.KbOut.model_validate_json(await self._upload(self._calls.import_pack(), upload))

    # Documents

    async def list_documents(
        self,
        kb: str,
        state: str | None = None,
        name: str | None = None,
        tags: Mapping[str, str] | None = None,
        warnings: bool = False,
        parent: str | None = None,
        source: str | None = None,
        folder: str | None = None,
    ) -> AsyncIterator[s.DocumentOut]:
        """All documents, page after page, in the order of their names; with `warnings` those whose reading gave some, with
        `parent` those found inside that document."""
        cursor: str | None = None
        tag = [f"{key}={value}" for key, value in (tags or {}).items()]
        filters = {
            "state": state,
            "name": name,
            "tag": tag,
            "warnings": warnings,
            "parent": parent,
            "source": source,
            "folder": folder,
        }
        while True:
            page = await self._send(self._calls.list_documents(kb, cursor, **filters))
            for item in page.items:
                yield item
            if page.next is None:
                return
            cursor = page.next

    async def add_document(
        self,
        kb: str,
        source: Path | bytes,
        name: str | None = None,
        tags: Mapping[str, str] | None = None,
        columns: s.Columns | None = None,
        wait: bool = False,
    ) -> s.AddedOut:
        """Send a file or bytes. With `columns`, the rows of a table become documents. With `wait`, return once it is indexed
        or has failed."""
        upload = Upload.of(source, name, tags=tags, columns=columns)
        added = s.AddedOut.model_validate_json(
            await self._upload(self._calls.add_document(kb), upload)
        )
        if wait:
            added.document = await self.wait_for_document(kb, added.document.id)
        return added

    async def preview(
        self,
        kb: str,
        source: Path | bytes,
        name: str | None = None,
        splitting: s.Splitting | None = None,
        columns: s.Columns | None = None,
    ) -> s.PreviewOut:
        """What would become of a file, by these settings or the knowledge base's own. Nothing is kept."""
        upload = Upload.of(source, name, splitting=splitting, columns=columns)
        return s.PreviewOut.model_validate_json(await self._upload(self._calls.preview(kb), upload))

    async def _upload(self, path: str, upload: Upload) -> bytes:
        try:
            request = self._http.build_request("POST", path.removeprefix("/"), **upload.form())
            return (await self._exchange(request)).content
        finally:
            upload.close()

    async def wait_for_document(
        self, kb: str, document: str, seconds: float = 600.0
    ) -> s.DocumentOut:
        """Return the document once it is indexed or has failed. Raises ClientError when that takes too long."""
        deadline = time.monotonic() + seconds
        while True:
            found = await self.show_document(kb, document)
            if found.state in _SETTLED:
                return found
            if time.monotonic() > deadline:
                raise ClientError(
                    f"{found.name} is still {found.state} after {seconds:.0f} seconds."
                )
            await asyncio.sleep(0.1)

    async def show_document(self, kb: str, document: str) -> s.DocumentOut:
        return await self._send(self._calls.show_document(kb, document))

    async def set_tags(self, kb: str, document: str, tags: Mapping[str, str]) -> s.DocumentOut:
        return await self._send(self._calls.set_tags(kb, document, tags))

    async def delete_document(self, kb: str, document: str) -> None:
        await self._send(self._calls.delete_document(kb, document))

    async def retry_document(self, kb: str, document: str) -> s.JobOut:
        return await self._send(self._calls.retry_document(kb, document))

    async def document_text(
        self, kb: str, document: str, revision: str | None = None
    ) -> s.DocumentTextOut:
        """The text that citations give their characters in."""
        return await self._send(self._calls.document_text(kb, document, revision))

    async def list_passages(self, kb: str, document: str) -> AsyncIterator[s.PassageOut]:
        cursor: str | None = None
        while True:
            page = await self._send(self._calls.list_passages(kb, document, cursor))
            for item in page.items:
                yield item
            if page.next is None:
                return
            cursor = page.next

    async def page(
        self, kb: str, document: str, page: int, revision: str | None = None
    ) -> s.PageOut:
        """Which characters of the text stand on a page, and where."""
        return await self._send(self._calls.page(kb, document, page, revision))

    async def page_picture(self, kb: str, document: str, page: int, width: int = 900) -> bytes:
        """A page as a PNG of so many pixels across."""
        request = self._http.build_request(
            "GET", self._calls.page_picture(kb, document, page, width).removeprefix("/")
        )
        return (await self._exchange(request)).content

    async def original(self, kb: str, document: str) -> bytes:
        """The bytes as they were added."""
        request = self._http.build_request(
            "GET", self._calls.original(kb, document).removeprefix("/")
        )
        return (await self._exchange(request)).content

    async def job(self, kb: str, job: str) -> s.JobOut:
        return await self._send(self._calls.job(kb, job))

    # Written here, and many at once

    async def write_document(
        self, kb: str, name: str, text: str, tags: Mapping[str, str] | None = None
    ) -> s.AddedOut:
        """A document of Markdown, plain text or, as CSV, a small table."""
        return await self._send(
            self._calls.write_document(kb, s.WrittenIn(name=name, text=text, tags=dict(tags or {})))
        )

    async def written_text(self, kb: str, document: str) -> s.WrittenOut:
        """A document's own text, as it is edited."""
        return await self._send(self._calls.written_text(kb, document))

    async def rewrite_document(
        self, kb: str, document: str, text: str, version: int | None = None
    ) -> s.AddedOut:
        """A new revision. With `version`, only if nobody changed it since."""
        return await self._send(self._calls.rewrite_document(kb, document, text, version))

    async def list_revisions(self, kb: str, document: str) -> list[s.RevisionOut]:
        """Newest first."""
        return (await self._send(self._calls.list_revisions(kb, document))).items

    async def restore_revision(self, kb: str, document: str, revision: str) -> s.AddedOut:
        """Make an earlier revision's content the newest."""
        return await self._send(self._calls.restore_revision(kb, document, revision))

    async def compare_revisions(
        self, kb: str, document: str, before: str | None = None, after: str | None = None
    ) -> s.DifferencesOut:
        """What changed between two revisions, by their ids or numbers; by default between the last two."""
        return await self._send(self._calls.compare_revisions(kb, document, before, after))

    async def list_folders(self, kb: str, under: str = "") -> list[s.FolderOut]:
        """The folders right below a folder, with how many documents lie in and below each."""
        return await self._send(self._calls.list_folders(kb, under))

    async def bulk(self, kb: str, request: s.BulkIn) -> int:
        """Retry, read again, delete or tag many documents at once; return how many it was done to."""
        return (await self._send(self._calls.bulk(kb, request))).documents

    # Sources

    async def source_kinds(self) -> list[s.KindOut]:
        """What kinds of sources there are, with the JSON Schemas of their settings and credentials."""
        return await self._send(self._calls.source_kinds())

    async def list_sources(self, kb: str) -> list[s.SourceOut]:
        return (await self._send(self._calls.list_sources(kb))).items

    async def show_source(self, kb: str, source: str) -> s.SourceOut:
        """By id, name or folder."""
        return await self._send(self._calls.show_source(kb, source))

    async def check_source(self, kb: str, source: s.CheckIn) -> s.TrialOut:
        """Connect and list, to see what would be taken. Nothing is kept."""
        return await self._send(self._calls.check_source(kb, source))

    async def check_again(
        self, kb: str, source: str, other: s.SourceChange | None = None
    ) -> s.TrialOut:
        """Look at a connected source, with `other` settings or credentials if they are given."""
        return await self._send(self._calls.check_again(kb, source, other))

    async def connect_source(
        self, kb: str, source: s.SourceIn, idempotency_key: str | None = None
    ) -> s.SourceOut:
        """Its first run starts at once."""
        return await self._send(self._calls.connect_source(kb, source, idempotency_key))

    async def change_source(
        self, kb: str, source: str, change: s.SourceChange, version: int | None = None
    ) -> s.SourceOut:
        """Only the fields that are set are changed."""
        return await self._send(self._calls.change_source(kb, source, change, version))

    async def disconnect_source(self, kb: str, source: str, keep_documents: bool = False) -> None:
        await self._send(self._calls.disconnect_source(kb, source, keep_documents))

    async def sync_source(
        self, kb: str, source: str, wait: bool = False, seconds: float = 3600.0
    ) -> s.SyncOut:
        """Run a source now; with `wait`, return when the run has ended or is held."""
        sync = await self._send(self._calls.start_sync(kb, source))
        return await self.wait_for_sync(kb, source, sync.id, seconds) if wait else sync

    async def wait_for_sync(
        self, kb: str, source: str, sync: str, seconds: float = 3600.0
    ) -> s.SyncOut:
        """Return the run once it has ended or is held and its documents are indexed. Raises ClientError when that takes
        too long."""
        deadline = time.monotonic() + seconds
        while True:
            found = await self.show_sync(kb, source, sync)
            if found.state not in ("waiting", "running") and not found.indexing:
                return found
            if time.monotonic() > deadline:
                raise ClientError(
                    f"The run {found.id} is still {found.state} after {seconds:.0f} seconds."
                )
            await asyncio.sleep(0.1)

    async def list_syncs(self, kb: str, source: str, limit: int = 50) -> list[s.SyncOut]:
        """The last runs of a source, newest first."""
        return (await self._send(self._calls.list_syncs(kb, source, limit))).items

    async def show_sync(self, kb: str, source: str, sync: str = "latest") -> s.SyncOut:
        return await self._send(self._calls.show_sync(kb, source, sync))

    async def list_sync_items(
        self, kb: str, source: str, sync: str = "latest", outcome: s.OutcomeName | None = None
    ) -> AsyncIterator[s.SyncItemOut]:
        """What a run did, item by item."""
        cursor: str | None = None
        while True:
            page = await self._send(self._calls.list_sync_items(kb, source, sync, outcome, cursor))
            for item in page.items:
                yield item
            if page.next is None:
                return
            cursor = page.next

    async def confirm_sync(self, kb: str, source: str, sync: str = "latest") -> s.SyncOut:
        """Let a held run remove what it showed."""
        return await self._send(self._calls.decide_sync(kb, source, sync, "confirm"))

    async def reject_sync(self, kb: str, source: str, sync: str = "latest") -> s.SyncOut:
        """Keep what a held run would remove, or end one that goes on."""
        return await self._send(self._calls.decide_sync(kb, source, sync, "reject"))

    async def make_signal_secret(self, kb: str, source: str) -> s.SignalSecret:
        """The secret that signals of changes are signed with; only this answer holds it."""
        return await self._send(self._calls.make_signal_secret(kb, source))

    async def push_documents(
        self, kb: str, source: str, documents: Sequence[s.PushedIn] = (), remove: Sequence[str] = ()
    ) -> s.PushOut:
        """Send documents to a source of the kind `push`, and say which are gone. Sending the same again changes nothing."""
        body = s.PushIn(documents=list(documents), remove=list(remove))
        return await self._send(self._calls.push_documents(kb, source, body))

    async def freshness(self) -> list[s.SourceFreshness]:
        """How fresh the team's sources are."""
        return await self._send(self._calls.freshness())

    # Notices

    async def list_notices(self, kb: str | None = None, limit: int = 50) -> s.NoticesOut:
        """What happened to the team's sources, newest first."""
        return await self._send(self._calls.list_notices(kb, limit))

    async def mark_notices_seen(self) -> None:
        await self._send(self._calls.mark_notices_seen())

    async def list_receivers(self) -> list[s.ReceiverOut]:
        return (await self._send(self._calls.list_receivers())).items

    async def add_receiver(self, url: str, kinds: Sequence[s.NoticeKind] = ()) -> s.ReceiverCreated:
        """Have notices sent to an address as signed CloudEvents; only this answer holds the secret."""
        return await self._send(self._calls.add_receiver(url, kinds))

    async def remove_receiver(self, receiver: str) -> None:
        await self._send(self._calls.remove_receiver(receiver))

    # Search and asking

    async def search(
        self,
        kb: str,
        question: str,
        mode: Literal["hybrid", "lexical", "vector"] = "hybrid",
        limit: int = 10,
        per_document: int = 3,
        tags: Mapping[str, str] | None = None,
        documents: Sequence[str] | None = None,
        *,
        operators: bool = True,
        keyword_weight: float | None = None,
        prefer_newer: bool = False,
        boost: Mapping[str, float] | None = None,
        join_neighbours: bool = False,
        edition: int | None = None,
        explain: bool = False,
    ) -> s.SearchOut:
        """Ranked passages with their scores. `boost` multiplies the scores of documents with a tag ("key=value")."""
        body = s.SearchIn(
            question=question,
            mode=mode,
            limit=limit,
            per_document=per_document,
            tags=dict(tags or {}),
            documents=None if documents is None else list(documents),
            operators=operators,
            keyword_weight=keyword_weight,
            prefer_newer=prefer_newer,
            boost=dict(boost or {}),
            join_neighbours=join_neighbours,
            edition=edition,
            explain=explain,
        )
        return await self._send(self._calls.search(kb, body))

    @overload
    def ask(
        self,
        kb: str,
        question: str,
        conversation: str | None = None,
        *,
        tags: Mapping[str, str] | None = None,
        documents: Sequence[str] | None = None,
        idempotency_key: str | None = None,
        stream: Literal[False] = False,
    ) -> Awaitable[s.AnswerOut]: ...
    @overload
    def ask(
        self,
        kb: str,
        question: str,
        conversation: str | None = None,
        *,
        tags: Mapping[str, str] | None = None,
        documents: Sequence[str] | None = None,
        idempotency_key: str | None = None,
        stream: Literal[True],
    ) -> AsyncIterator[s.Event]: ...
    def ask(
        self,
        kb: str,
        question: str,
        conversation: str | None = None,
        *,
        tags: Mapping[str, str] | None = None,
        documents: Sequence[str] | None = None,
        idempotency_key: str | None = None,
        stream: bool = False,
    ) -> Awaitable[s.AnswerOut] | AsyncIterator[s.Event]:
        """Ask, and get the answer, or with `stream` its events as they come. `conversation` goes on with an earlier one."""
        body = s.AskIn(
            question=question,
            conversation_id=conversation,
            tags=dict(tags or {}),
            documents=None if documents is None else list(documents),
        )
        call = self._calls.ask(kb, body, idempotency_key or secrets.token_hex(12))
        return self._events(call) if stream else self._persist(call)
