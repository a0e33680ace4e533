"""Knowledge bases and their editions.

Made from its asynchronous twin by `make client`; do not edit.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Sequence
from pathlib import Path

import httpx

from fontanel import schemas as s
from fontanel.client._errors import ClientError, Unreachable, raise_for_problem
from fontanel.client._sync.base import BaseClient
from fontanel.client._upload import Upload
from fontanel.facts import OutdatedRanking


class KbClient(BaseClient):
    """Knowledge bases and their editions."""

    def list_kbs(self) -> list[s.KbOut]:
        return (self._send(self._calls.list_kbs())).items

    def create_kb(
        self,
        name: str,
        description: str = "",
        *,
        temporary: bool = False,
        splitting: s.Splitting | None = None,
        idempotency_key: str | None = None,
        describer: str | None = None,
        outdated: OutdatedRanking | str = OutdatedRanking.LOWER,
        embedder: str | None = None,
        transcriber: str | None = None,
        spoken: str | None = None,
        viewer: str | None = None,
        max_pictures: int = 20,
    ) -> s.KbOut:
        """Create a knowledge base.

        Args:
            transcriber: What transcribes its recordings; default: they wait for one.
            spoken: The language of its recordings, such as "en"; default: it is found out.
            embedder: Default: the service's own.
            viewer: The model that describes pictures; default: none does.
            max_pictures: How many pictures of each document it describes.
            temporary: Delete it after a day.
            describer: The model that describes its documents.
            outdated: How documents that are not in force rank: "lower", "equal" or "exclude".
        """
        body = s.KbIn(
            name=name,
            description=description,
            temporary=temporary,
            splitting=splitting,
            describer=describer,
            outdated=OutdatedRanking(outdated),
            embedder=embedder,
            transcriber=transcriber,
            spoken=spoken,
            viewer=viewer,
            max_pictures=max_pictures,
        )
        key = idempotency_key or secrets.token_hex(12)
        return self._send(self._calls.create_kb(body, key))

    def estimate_pictures(self, kb: str, model: str) -> s.PictureEstimateOut:
        """Return about what it takes to have a model describe the pictures."""
        return self._send(self._calls.estimate_pictures(kb, model))

    def show_kb(self, kb: str) -> s.KbOut:
        return self._send(self._calls.show_kb(kb))

    def kb_feed(self, kb: str) -> bytes:
        """Return the documents whose text changed last, as an Atom feed."""
        return (self._get(self._calls.kb_feed(kb))).content

    def change_kb(
        self,
        kb: str,
        name: str | None = None,
        description: str | None = None,
        version: int | None = None,
        describer: str | None = None,
        outdated: OutdatedRanking | str | None = None,
        *,
        proposes_questions: bool | None = None,
        accepts_proposed_documents: bool | None = None,
        proposer: str | None = None,
        trial_set: str | None = None,
        max_losses: int | None = None,
        transcriber: str | None = None,
        spoken: str | None = None,
        viewer: str | None = None,
        max_pictures: int | None = None,
    ) -> s.KbOut:
        """Change a knowledge base; arguments that are None change nothing.

        Args:
            describer: A model, or "built-in" for none.
            outdated: How documents that are not in force rank: "lower", "equal" or "exclude".
            proposes_questions: Whether the questions that its documents answer are proposed.
            accepts_proposed_documents: Whether programs may propose documents.
            proposer: The model that proposes them, or "built-in" for none.
            trial_set: The question set that another edition has to pass before it is activated;
                an empty string for none.
            max_losses: How many of its questions that edition may lose.
            transcriber: What transcribes its recordings; an empty string for none.
            spoken: The language of its recordings, such as "en"; an empty string: it is found out.
            viewer: The model that describes pictures, or "built-in" for none.
            max_pictures: How many pictures of each document it describes.
            version: Only change it if it still has this version.

        Raises:
            ChangedMeanwhile: it has another version.
        """
        change = s.KbChange(
            name=name,
            description=description,
            describer=describer,
            outdated=None if outdated is None else OutdatedRanking(outdated),
            proposes_questions=proposes_questions,
            accepts_proposed_documents=accepts_proposed_documents,
            proposer=proposer,
            trial_set=trial_set,
            max_losses=max_losses,
            transcriber=transcriber,
            spoken=spoken,
            viewer=viewer,
            max_pictures=max_pictures,
        )
        return self._send(self._calls.change_kb(kb, change, version))

    def delete_kb(self, kb: str) -> None:
        self._send(self._calls.delete_kb(kb))

    def list_editions(self, kb: str) -> list[s.EditionOut]:
        return (self._send(self._calls.list_editions(kb))).items

    def build_edition(
        self,
        kb: str,
        splitting: s.Splitting,
        *,
        embedder: str | None = None,
        budget: float | None = None,
        wait: bool = False,
        seconds: float = 3600.0,
    ) -> s.EditionOut:
        """Build an index with other settings; with `wait`, return once it is built or paused.

        Args:
            embedder: Default: that of the active edition; "built-in" for the service's own.
            budget: The cost of embedding at which the build pauses.

        Raises:
            ClientError: it took longer than `seconds`.
        """
        edition = self._send(
            self._calls.build_edition(
                kb, s.EditionIn(splitting=splitting, embedder=embedder, budget=budget)
            )
        )
        deadline = time.monotonic() + seconds
        while wait and edition.state == "building":
            if time.monotonic() > deadline:
                raise ClientError(
                    f"Edition {edition.number} is still being built after {seconds:.0f} seconds."
                )
            time.sleep(0.1)
            editions = self.list_editions(kb)
            edition = next(other for other in editions if other.id == edition.id)
        return edition

    def pause_edition(self, kb: str, number: int) -> s.EditionOut:
        """Pause the build of an edition.

        Raises:
            Conflict: it is not being built.
        """
        return self._send(self._calls.pause_edition(kb, number))

    def resume_edition(self, kb: str, number: int, *, budget: float | None = None) -> s.EditionOut:
        """Resume the build of an edition.

        Args:
            budget: A new maximum cost; default: as before.

        Raises:
            Conflict: it is not paused.
        """
        return self._send(self._calls.resume_edition(kb, number, s.ResumeIn(budget=budget)))

    def activate_edition(self, kb: str, number: int) -> s.EditionOut:
        """Switch searches and answers to an edition.

        Raises:
            Conflict: documents are still being processed.
        """
        return self._send(self._calls.activate_edition(kb, number))

    def drop_edition(self, kb: str, number: int) -> None:
        self._send(self._calls.drop_edition(kb, number))

    def compare_editions(
        self, kb: str, first: int, second: int, questions: Sequence[str | tuple[str, str]]
    ) -> s.ComparisonOut:
        """Compare what two editions find; a question may name the expected document."""
        asked = [
            s.CompareQuestion(question=item)
            if isinstance(item, str)
            else s.CompareQuestion(question=item[0], document=item[1])
            for item in questions
        ]
        return self._send(
            self._calls.compare_editions(
                kb, s.CompareIn(first=first, second=second, questions=asked)
            )
        )

    def export_edition(self, kb: str, number: int, target: Path) -> None:
        """Export an edition with its documents as one file, for `import_pack`."""
        request = self._http.build_request(
            "GET", self._calls.export_edition(kb, number).removeprefix("/")
        )
        try:
            response = self._http.send(request, stream=True)
        except httpx.TransportError as error:
            raise Unreachable(
                f"The service at {request.url.host} cannot be reached: {error}", request
            ) from error
        try:
            if response.is_error:
                response.read()
                raise_for_problem(response)
            with target.open("wb") as file:
                for chunk in response.iter_bytes():
                    file.write(chunk)
        finally:
            response.close()

    def import_pack(self, source: Path, name: str | None = None) -> s.KbOut:
        """Create a knowledge base from an exported edition, without embedding it again.

        Raises:
            Invalid: the pack is damaged or does not fit this service; the message says why.
        """
        upload = Upload(name or "", source.open("rb"))
        return s.KbOut.model_validate_json(
            self._upload(self._calls.import_pack(), upload, repeat=False)
        )
