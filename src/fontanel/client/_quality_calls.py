"""The calls for gaps, feedback, coverage and proposed questions."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from fontanel import schemas as s
from fontanel.client._call import Call, named, quoted


class QualityCalls:
    """Mixed into `Calls`."""

    def _team(self) -> str:
        raise NotImplementedError

    def _kb(self, kb: str) -> str:
        raise NotImplementedError

    def _desk(self, desk: str) -> str:
        raise NotImplementedError

    def show_second_version(self, desk: str) -> Call[s.SecondVersionOut]:
        return Call("GET", f"{self._desk(desk)}/second", s.SecondVersionOut)

    def set_second_version(self, desk: str, body: s.SecondVersionIn) -> Call[s.DeskOut]:
        return Call("PUT", f"{self._desk(desk)}/second", s.DeskOut, body)

    def end_second_version(self, desk: str) -> Call[s.DeskOut]:
        return Call("DELETE", f"{self._desk(desk)}/second", s.DeskOut)

    def promote_second_version(self, desk: str) -> Call[s.DeskOut]:
        return Call("POST", f"{self._desk(desk)}/second/promote", s.DeskOut)

    def _gap(self, gap: str) -> str:
        return f"{self._team()}/gaps/{quoted(gap)}"

    def list_gaps(self, params: Mapping[str, Any]) -> Call[s.Page[s.GapOut]]:
        return Call("GET", f"{self._team()}/gaps", s.Page[s.GapOut], params=params)

    def show_gap(self, gap: str) -> Call[s.GapDetail]:
        return Call("GET", self._gap(gap), s.GapDetail)

    def change_gap(self, gap: str, change: s.GapChange) -> Call[s.GapDetail]:
        return Call("PATCH", self._gap(gap), s.GapDetail, change)

    def comment_on_gap(self, gap: str, body: s.GapCommentIn) -> Call[s.GapDetail]:
        return Call("POST", f"{self._gap(gap)}/comments", s.GapDetail, body)

    def take_question_out(self, gap: str, answer: str) -> Call[s.GapDetail]:
        path = f"{self._gap(gap)}/questions/{quoted(answer)}/take-out"
        return Call("POST", path, s.GapDetail)

    def list_changed_answers(self, params: Mapping[str, Any]) -> Call[s.Page[s.ChangedAnswer]]:
        path = f"{self._team()}/changed-answers"
        return Call("GET", path, s.Page[s.ChangedAnswer], params=params)

    def list_feedback(self, params: Mapping[str, Any]) -> Call[s.Page[s.FeedbackItem]]:
        return Call("GET", f"{self._team()}/feedback", s.Page[s.FeedbackItem], params=params)

    def change_feedback(self, feedback: str, change: s.FeedbackChange) -> Call[s.FeedbackItem]:
        path = f"{self._team()}/feedback/{quoted(feedback)}"
        return Call("PATCH", path, s.FeedbackItem, change)

    def show_coverage(self, kb: str, params: Mapping[str, Any]) -> Call[s.Page[s.DocumentCoverage]]:
        path = f"{self._kb(kb)}/coverage"
        return Call("GET", path, s.Page[s.DocumentCoverage], params=params)

    def show_document_coverage(self, kb: str, document: str) -> Call[s.Page[s.PassageCoverage]]:
        path = f"{self._kb(kb)}/documents/{named(document)}/coverage"
        return Call("GET", path, s.Page[s.PassageCoverage])

    def list_proposals(self, kb: str, params: Mapping[str, Any]) -> Call[s.Page[s.ProposalOut]]:
        path = f"{self._kb(kb)}/proposals"
        return Call("GET", path, s.Page[s.ProposalOut], params=params)

    def document_proposals(self, kb: str, document: str) -> Call[s.DocumentProposals]:
        path = f"{self._kb(kb)}/documents/{named(document)}/proposals"
        return Call("GET", path, s.DocumentProposals)

    def propose_questions(self, kb: str, document: str) -> Call[s.DocumentProposals]:
        path = f"{self._kb(kb)}/documents/{named(document)}/proposals"
        return Call("POST", path, s.DocumentProposals)

    def change_proposal(
        self, kb: str, proposal: str, change: s.ProposalChange
    ) -> Call[s.ProposalOut]:
        path = f"{self._kb(kb)}/proposals/{quoted(proposal)}"
        return Call("PATCH", path, s.ProposalOut, change)

    def decide_proposals(self, kb: str, body: s.ProposalsDecision) -> Call[s.Page[s.ProposalOut]]:
        return Call("POST", f"{self._kb(kb)}/proposals/decide", s.Page[s.ProposalOut], body)
