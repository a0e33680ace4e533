"""Documents: added, read, written and changed."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Mapping
from pathlib import Path

from fontanel import schemas as s
from fontanel.client._async.base import AsyncBaseClient
from fontanel.client._errors import ClientError
from fontanel.client._upload import Upload
from fontanel.facts import ValidityMark
from fontanel.schemas import SETTLED_STATES


class AsyncDocumentClient(AsyncBaseClient):
    """Documents: added, read, written and changed."""

    async def list_documents(
        self,
        kb: str,
        state: str | None = None,
        name: str | None = None,
        tags: Mapping[str, str] | None = None,
        *,
        warnings: bool = False,
        outdated: bool = False,
        parent: str | None = None,
        source: str | None = None,
        folder: str | None = None,
    ) -> AsyncIterator[s.DocumentOut]:
        """Iterate over all documents in the order of their names.

        Args:
            warnings: Only documents that were read with warnings.
            outdated: Only documents that are not in force.
            parent: Only documents found inside this document.
        """
        cursor: str | None = None
        tag = [f"{key}={value}" for key, value in (tags or {}).items()]
        filters = {
            "state": state,
            "name": name,
            "tag": tag,
            "warnings": warnings,
            "outdated": outdated,
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

    async def list_document_page(
        self, kb: str, cursor: str | None = None, limit: int = 100
    ) -> s.Page[s.DocumentOut]:
        """Return a page of the documents in the order of their names, and the next cursor."""
        return await self._send(self._calls.list_documents(kb, cursor, limit=limit))

    async def watch(self, kb: str) -> AsyncIterator[s.DocumentOut | s.RemovedOut | s.KbOut]:
        """Yield documents that change from now on, removed ones, and the knowledge base.

        Unfinished documents come first, then the knowledge base. The iteration ends when the access
        does.
        """
        request = self._http.build_request("GET", self._calls.watch(kb).removeprefix("/"))
        async for sent in self._sent_events(request):
            if sent.event == "document":
                yield s.DocumentOut.model_validate_json(sent.data)
            elif sent.event == "removed":
                yield s.RemovedOut.model_validate_json(sent.data)
            elif sent.event == "kb":
                yield s.KbOut.model_validate_json(sent.data)

    async def add_document(
        self,
        kb: str,
        source: Path | bytes,
        name: str | None = None,
        tags: Mapping[str, str] | None = None,
        columns: s.Columns | None = None,
        *,
        wait: bool = False,
    ) -> s.AddedOut:
        """Send a file or bytes.

        Args:
            columns: The meaning of a table's columns: its rows become documents.
            wait: Return once the document is indexed or has failed.
        """
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
        """Return how a file would be read and split; nothing is stored."""
        upload = Upload.of(source, name, splitting=splitting, columns=columns)
        return s.PreviewOut.model_validate_json(await self._upload(self._calls.preview(kb), upload))

    async def wait_for_document(
        self, kb: str, document: str, seconds: float = 600.0
    ) -> s.DocumentOut:
        """Return the document once it is indexed or has failed.

        Raises:
            ClientError: it took too long.
        """
        deadline = time.monotonic() + seconds
        while True:
            result = await self.show_document(kb, document)
            if result.state in SETTLED_STATES:
                return result
            if time.monotonic() > deadline:
                raise ClientError(
                    f"{result.name} is still {result.state} after {seconds:.0f} seconds."
                )
            await asyncio.sleep(0.1)

    async def show_document(self, kb: str, document: str) -> s.DocumentOut:
        return await self._send(self._calls.show_document(kb, document))

    async def set_tags(
        self, kb: str, document: str, tags: Mapping[str, str], version: int | None = None
    ) -> s.DocumentOut:
        """Replace a document's tags.

        Args:
            kb: The knowledge base.
            document: Its name or id.
            tags: All tags that it will have.
            version: Only change them if the document still has this version.

        Raises:
            ChangedMeanwhile: it has another version.
        """
        return await self._send(self._calls.set_tags(kb, document, tags, version))

    async def delete_document(self, kb: str, document: str) -> None:
        await self._send(self._calls.delete_document(kb, document))

    async def erase_document(
        self, kb: str, document: str, *, wait: bool = False, seconds: float = 600.0
    ) -> s.ErasureOut:
        """Erase a document, with all that was found in it (owners only). It cannot be undone.

        Args:
            kb: The knowledge base.
            document: Its name or id.
            wait: Whether to wait until its files and its part of the indexes are cleared.
            seconds: How long to wait.

        Raises:
            ClientError: it took too long.
        """
        erased = await self._send(self._calls.erase_document(kb, document))
        deadline = time.monotonic() + seconds
        while wait and erased.finished_at is None:
            if time.monotonic() > deadline:
                raise ClientError(f"Files of {erased.id} are left after {seconds:.0f} seconds.")
            await asyncio.sleep(0.2)
            listed = await self.list_erased_documents()
            erased = next(one for one in listed if one.id == erased.id)
        return erased

    async def list_erased_documents(self) -> list[s.ErasureOut]:
        """Return the proofs of the team's erased documents, the newest first (owners only)."""
        return await self._send(self._calls.list_erased_documents())

    async def mark_document(
        self,
        kb: str,
        document: str,
        mark: ValidityMark | str,
        *,
        replaced_by: str | None = None,
    ) -> s.DocumentOut:
        """Decide whether a document is in force, whatever its text says.

        Args:
            mark: "current", "withdrawn" or "replaced".
            replaced_by: The replacement's id or name, with "replaced".

        Raises:
            Invalid: the replacement is in the end replaced by this document.
        """
        body = s.ValidityIn(mark=ValidityMark(mark), replaced_by=replaced_by)
        return await self._send(self._calls.mark_document(kb, document, body))

    async def unmark_document(self, kb: str, document: str) -> s.DocumentOut:
        """Withdraw the decision: what the document's text says applies again."""
        return await self._send(self._calls.unmark_document(kb, document))

    async def retry_document(self, kb: str, document: str) -> s.JobOut:
        return await self._send(self._calls.retry_document(kb, document))

    async def document_text(
        self, kb: str, document: str, revision: str | None = None
    ) -> s.DocumentTextOut:
        """Return the text whose characters citations refer to."""
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
        """Return which characters of the text are on a page, and where."""
        return await self._send(self._calls.page(kb, document, page, revision))

    async def document_picture(
        self, kb: str, document: str, picture: str, revision: str | None = None
    ) -> bytes:
        """Return a picture of a document as JPEG.

        Args:
            picture: Its hash, as in the locator of a citation.
        """
        path = self._calls.document_picture(kb, document, picture, revision)
        return (await self._get(path)).content

    async def page_picture(self, kb: str, document: str, page: int, width: int = 900) -> bytes:
        """Return a page as a PNG of a given width in pixels."""
        return (await self._get(self._calls.page_picture(kb, document, page, width))).content

    async def original(self, kb: str, document: str, revision: str | None = None) -> bytes:
        """Return the bytes as they were added.

        Args:
            revision: The id of an earlier revision.
        """
        return (await self._get(self._calls.original(kb, document, revision))).content

    async def job(self, kb: str, job: str) -> s.JobOut:
        return await self._send(self._calls.job(kb, job))

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

    async def rewrite_document(self, kb: str, document: str, text: str, version: int) -> s.AddedOut:
        """Add a revision, if the document still has the version that you read.

        Raises:
            ChangedMeanwhile: somebody else changed the document since.
        """
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
        """Compare two revisions, by id or number; by default the last two."""
        return await self._send(self._calls.compare_revisions(kb, document, before, after))

    async def list_folders(self, kb: str, under: str = "") -> list[s.FolderOut]:
        """List the folders directly below a folder, with their numbers of documents."""
        return await self._send(self._calls.list_folders(kb, under))

    async def bulk(self, kb: str, request: s.BulkIn) -> int:
        """Retry, read again, delete or tag many documents; return how many."""
        return (await self._send(self._calls.bulk(kb, request))).documents
