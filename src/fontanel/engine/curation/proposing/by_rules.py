"""Propose questions by rules: made of headings, definitions, lists, table rows and sentences."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import islice

from sqlalchemy.orm import Session

from fontanel.core.answering.composing.statements import statements
from fontanel.core.answering.evidence import EvidencePassage
from fontanel.core.proposing import Proposal as Candidate
from fontanel.core.proposing import propose
from fontanel.engine.answering.local_models import LocalModels
from fontanel.engine.answering.targets import TargetKb, target_knowledge
from fontanel.engine.curation.proposing.checking import (
    MAX_TRIED,
    check_all,
    document_passages,
    is_judged_language,
)
from fontanel.engine.curation.proposing.decisions import next_document, store_proposals
from fontanel.engine.editions.store import Editions
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Document, Kb
from fontanel.records.unit_of_work import Records

#: A capitalised word within a sentence.
_NAME = re.compile(r"(?<=[a-z,] )[A-Z][\w-]*")


class RuleProposer:
    """Proposes questions of documents, a document at a time."""

    def __init__(self, records: Records, editions: Editions, local_models: LocalModels) -> None:
        self._records = records
        self._editions = editions
        self._local_models = local_models

    def propose_next(self) -> bool:
        """Propose the questions of a document, if one waits; return whether there was one."""
        with self._records.reading() as session:
            document = next_document(session, by_model=False)
            if document is None:
                return False
            candidates, found = [], []
            error = self._problem(session, document)
            if not error:
                scope = TeamScope(session, document.team_id)
                kb = session.get_one(Kb, document.kb_id)
                known = target_knowledge(
                    scope, [TargetKb(kb.id)], self._editions, self._local_models
                )
                passages = document_passages(session, kb, document)
                candidates = list(islice(_candidates(passages), MAX_TRIED))
                found = check_all(candidates, known.parts[kb.id], judged=True)
        with self._records.writing() as session:
            current = session.get(Document, document.key)
            if current is not None:
                revision_id = document.revision_id or ""
                store_proposals(session, current, revision_id, found, len(candidates), error)
        return True

    def _problem(self, session: Session, document: Document) -> str:
        """Return why a document's questions cannot be proposed; empty if they can."""
        if self._local_models.evidence_name is None:
            return "Without the evidence model no questions are proposed."
        if not is_judged_language(session, document):
            return (
                "Questions are proposed of English documents only, unless the knowledge base names"
                " a model for it."
            )
        return ""


def _candidates(passages: Sequence[EvidencePassage]) -> Iterator[Candidate]:
    names = {name for passage in passages for name in _NAME.findall(passage.text)}
    seen: set[str] = set()
    for passage in passages:
        for candidate in propose(statements(passage), names.__contains__):
            if candidate.question not in seen:
                seen.add(candidate.question)
                yield candidate
