"""Question sets and trials."""

from __future__ import annotations

import asyncio
import secrets
import time
from collections.abc import Callable, Mapping, Sequence
from typing import Any, Literal

from fontanel import schemas as s
from fontanel.client._async.base import AsyncBaseClient
from fontanel.client._errors import ClientError


class AsyncTrialClient(AsyncBaseClient):
    """Question sets of a team, and their trials."""

    async def list_sets(self) -> list[s.SetOut]:
        """Return the team's question sets by name."""
        return (await self._send(self._calls.list_sets())).items

    async def create_set(self, name: str, about: str = "") -> s.SetOut:
        """Create an empty question set."""
        body = s.SetIn(name=name, about=about)
        return await self._send(self._calls.create_set(body, secrets.token_hex(12)))

    async def show_set(self, question_set: str) -> s.SetOut:
        return await self._send(self._calls.show_set(question_set))

    async def change_set(self, question_set: str, change: s.SetChange) -> s.SetOut:
        """Change a set's name, description, or the schedule of its trials."""
        return await self._send(self._calls.change_set(question_set, change))

    async def delete_set(self, question_set: str) -> None:
        """Delete a question set with its questions and trials."""
        await self._send(self._calls.delete_set(question_set))

    async def list_set_questions(
        self, question_set: str, text: str | None = None
    ) -> list[s.SetQuestionOut]:
        """Return the questions of a set in their order.

        Args:
            text: Only those that contain it.
        """
        items: list[s.SetQuestionOut] = []
        cursor = "0"
        while True:
            params = {"cursor": cursor, "limit": 1000} | ({} if text is None else {"text": text})
            page = await self._send(self._calls.list_set_questions(question_set, params))
            items += page.items
            if page.next is None:
                return items
            cursor = page.next

    async def add_set_questions(
        self, question_set: str, questions: Sequence[s.SetQuestionIn]
    ) -> list[s.SetQuestionOut]:
        """Add questions at the end of a set."""
        body = s.SetQuestionsIn(questions=list(questions))
        return (await self._send(self._calls.add_set_questions(question_set, body))).items

    async def replace_set_question(
        self, question_set: str, question: str, body: s.SetQuestionIn
    ) -> s.SetQuestionOut:
        """Replace a question of a set, given its id."""
        return await self._send(self._calls.replace_set_question(question_set, question, body))

    async def remove_set_question(self, question_set: str, question: str) -> None:
        await self._send(self._calls.remove_set_question(question_set, question))

    async def collect_set_questions(
        self,
        question_set: str,
        *,
        answers: Sequence[str] = (),
        gaps: Sequence[str] = (),
        proposed_of: str | None = None,
        approved_of: str | None = None,
        category: str | None = None,
        phrasings: bool = True,
    ) -> list[s.SetQuestionOut]:
        """Take over questions into a set; return those that it did not have.

        Args:
            answers: Ids of answers; their citations become what is expected.
            gaps: Ids of gaps; nothing is expected of them unless they were closed with an answer.
            proposed_of: A knowledge base, whose open proposed questions are taken over.
            approved_of: A knowledge base, whose approved questions are taken over.
            category: Only approved answers of this category.
            phrasings: Whether other wordings of both are taken over too.
        """
        body = s.SetCollectIn(
            answers=list(answers),
            gaps=list(gaps),
            proposed_of=proposed_of,
            approved_of=approved_of,
            category=category,
            phrasings=phrasings,
        )
        return (await self._send(self._calls.collect_set_questions(question_set, body))).items

    async def import_set(
        self, question_set: str, text: str, form: Literal["jsonl", "csv"] = "jsonl"
    ) -> s.SetImport:
        """Import questions; nothing is imported if the result lists problems.

        Args:
            text: The content of the file.
            form: "jsonl" (JSON Lines) or "csv".
        """
        body = s.SetImportIn(form=form, text=text)
        return await self._send(self._calls.import_set(question_set, body))

    async def export_set(self, question_set: str, form: Literal["jsonl", "csv"] = "jsonl") -> str:
        """Return the questions of a set as JSON Lines or CSV."""
        return (await self._get(self._calls.export_set(question_set, form))).text

    async def list_trials(
        self, *, question_set: str | None = None, desk: str | None = None, limit: int = 50
    ) -> list[s.TrialOut]:
        """Return trials, newest first."""
        params = {"question_set": question_set, "desk": desk, "limit": limit}
        shown = {name: value for name, value in params.items() if value is not None}
        return (await self._send(self._calls.list_trials(shown))).items

    async def begin_trial(
        self,
        question_set: str,
        *,
        desk: str | None = None,
        version: int | Literal["draft"] | None = None,
        kb: str | None = None,
        edition: int | None = None,
        settings: Mapping[str, Any] | None = None,
        max_tokens: int | None = None,
        compare_with: str | None = None,
    ) -> s.TrialOut:
        """Begin a trial of a question set, with a desk or a knowledge base.

        Args:
            version: The desk's version, or its draft. Default: what is published.
            edition: The number of an edition of the knowledge base. Default: the active one.
            settings: Settings of a desk that replace those of the version.
            max_tokens: The trial is paused when it used as many tokens of a model.
            compare_with: The id of the trial to compare it with.
        """
        body = s.TrialIn(
            question_set=question_set,
            desk=desk,
            version=version,
            kb=kb,
            edition=edition,
            settings=dict(settings or {}),
            max_tokens=max_tokens,
            compare_with=compare_with,
        )
        return await self._send(self._calls.begin_trial(body, secrets.token_hex(12)))

    async def wait_for_trial(
        self,
        trial: str,
        seconds: float = 3600.0,
        progress: Callable[[s.TrialOut], None] | None = None,
    ) -> s.TrialOut:
        """Return a trial once it is done, paused or stopped.

        Args:
            progress: Called with the trial again and again until then.

        Raises:
            ClientError: it took too long.
        """
        deadline = time.monotonic() + seconds
        while True:
            result = await self.show_trial(trial)
            if progress is not None:
                progress(result)
            if result.state not in ("waiting", "running"):
                return result
            if time.monotonic() > deadline:
                raise ClientError(
                    f"The trial has asked {result.asked} of {result.total} questions after"
                    f" {seconds:.0f} seconds."
                )
            await asyncio.sleep(0.3)

    async def show_trial(self, trial: str) -> s.TrialOut:
        """Return a trial with its progress and figures."""
        return await self._send(self._calls.show_trial(trial))

    async def list_trial_results(
        self, trial: str, result: s.ResultName | None = None
    ) -> list[s.TrialResultOut]:
        """Return the results of a trial in the order of the questions."""
        return (await self._send(self._calls.list_trial_results(trial, result))).items

    async def compare_trials(self, before: str, after: str) -> s.TrialComparison:
        """Compare two trials of a set question by question."""
        return await self._send(self._calls.compare_trials(before, after))

    async def stop_trial(self, trial: str) -> s.TrialOut:
        """Stop a trial; it can be resumed."""
        return await self._send(self._calls.stop_trial(trial))

    async def resume_trial(self, trial: str, max_tokens: int | None = None) -> s.TrialOut:
        """Resume a trial that was stopped or paused, perhaps with a larger budget."""
        body = s.TrialResume(max_tokens=max_tokens)
        return await self._send(self._calls.resume_trial(trial, body))

    async def delete_trial(self, trial: str) -> None:
        """Delete a trial with its results and the records of its answers."""
        await self._send(self._calls.delete_trial(trial))

    async def export_trial(self, trial: str) -> str:
        """Return the results of a trial as JSON Lines, equal for equal answers."""
        return (await self._get(self._calls.export_trial(trial))).text
