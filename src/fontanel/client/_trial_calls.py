"""The calls for question sets and trials."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from urllib.parse import urlencode

from fontanel import schemas as s
from fontanel.client._call import Call, quoted


class TrialCalls:
    """Mixed into `Calls`."""

    def _team(self) -> str:
        raise NotImplementedError

    def _set(self, question_set: str = "") -> str:
        base = f"{self._team()}/sets"
        return f"{base}/{quoted(question_set)}" if question_set else base

    def _trial(self, trial: str = "") -> str:
        base = f"{self._team()}/trials"
        return f"{base}/{quoted(trial)}" if trial else base

    def list_sets(self) -> Call[s.Page[s.SetOut]]:
        return Call("GET", self._set(), s.Page[s.SetOut])

    def create_set(self, body: s.SetIn, key: str) -> Call[s.SetOut]:
        return Call("POST", self._set(), s.SetOut, body, headers={"Idempotency-Key": key})

    def show_set(self, question_set: str) -> Call[s.SetOut]:
        return Call("GET", self._set(question_set), s.SetOut)

    def change_set(self, question_set: str, change: s.SetChange) -> Call[s.SetOut]:
        return Call("PATCH", self._set(question_set), s.SetOut, change)

    def delete_set(self, question_set: str) -> Call[None]:
        return Call("DELETE", self._set(question_set))

    def list_set_questions(
        self, question_set: str, params: Mapping[str, Any]
    ) -> Call[s.Page[s.SetQuestionOut]]:
        path = f"{self._set(question_set)}/questions"
        return Call("GET", path, s.Page[s.SetQuestionOut], params=params)

    def add_set_questions(
        self, question_set: str, body: s.SetQuestionsIn
    ) -> Call[s.Page[s.SetQuestionOut]]:
        path = f"{self._set(question_set)}/questions"
        return Call("POST", path, s.Page[s.SetQuestionOut], body)

    def replace_set_question(
        self, question_set: str, question: str, body: s.SetQuestionIn
    ) -> Call[s.SetQuestionOut]:
        path = f"{self._set(question_set)}/questions/{quoted(question)}"
        return Call("PUT", path, s.SetQuestionOut, body)

    def remove_set_question(self, question_set: str, question: str) -> Call[None]:
        return Call("DELETE", f"{self._set(question_set)}/questions/{quoted(question)}")

    def collect_set_questions(
        self, question_set: str, body: s.SetCollectIn
    ) -> Call[s.Page[s.SetQuestionOut]]:
        path = f"{self._set(question_set)}/collect"
        return Call("POST", path, s.Page[s.SetQuestionOut], body)

    def import_set(self, question_set: str, body: s.SetImportIn) -> Call[s.SetImport]:
        return Call("POST", f"{self._set(question_set)}/import", s.SetImport, body)

    def export_set(self, question_set: str, form: str) -> str:
        return f"{self._set(question_set)}/export?{urlencode({'form': form})}"

    def list_trials(self, params: Mapping[str, Any]) -> Call[s.Page[s.TrialOut]]:
        return Call("GET", self._trial(), s.Page[s.TrialOut], params=params)

    def begin_trial(self, body: s.TrialIn, key: str) -> Call[s.TrialOut]:
        return Call("POST", self._trial(), s.TrialOut, body, headers={"Idempotency-Key": key})

    def show_trial(self, trial: str) -> Call[s.TrialOut]:
        return Call("GET", self._trial(trial), s.TrialOut)

    def list_trial_results(self, trial: str, result: str | None) -> Call[s.Page[s.TrialResultOut]]:
        params = {} if result is None else {"result": result}
        path = f"{self._trial(trial)}/results"
        return Call("GET", path, s.Page[s.TrialResultOut], params=params)

    def compare_trials(self, before: str, after: str) -> Call[s.TrialComparison]:
        path = f"{self._trial(before)}/compare/{quoted(after)}"
        return Call("GET", path, s.TrialComparison)

    def stop_trial(self, trial: str) -> Call[s.TrialOut]:
        return Call("POST", f"{self._trial(trial)}/stop", s.TrialOut)

    def resume_trial(self, trial: str, body: s.TrialResume) -> Call[s.TrialOut]:
        return Call("POST", f"{self._trial(trial)}/resume", s.TrialOut, body)

    def delete_trial(self, trial: str) -> Call[None]:
        return Call("DELETE", self._trial(trial))

    def export_trial(self, trial: str) -> str:
        return f"{self._trial(trial)}/export"
