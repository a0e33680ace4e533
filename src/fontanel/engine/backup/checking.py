"""Checking a backup by opening it and asking it a question.

The records are restored to a temporary directory, with the segments of one knowledge base. A
question made from a passage must be answered from what was restored.
"""

from __future__ import annotations

import sqlite3
import tempfile
import threading
from contextlib import closing
from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.answering.asking import Asked, Asking, Recorded
from fontanel.engine.answering.local_models import LocalModels
from fontanel.engine.answering.retrieval import Options
from fontanel.engine.answering.targets import kb_target, target_knowledge
from fontanel.engine.backup.places import BackupFailed
from fontanel.engine.backup.repository import DATABASES, BackedUpFile, Manifest, Repository
from fontanel.engine.curation.serving import ApprovedStore
from fontanel.engine.editions.store import Editions
from fontanel.llm import ModelClient
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Document, DocumentState, Kb, PassageRow, Segment
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault
from fontanel.records.vector_cache import VectorCache

#: How the names of the temporary directories begin.
CHECKED = "backup-check-"
#: Words of a passage that are asked for.
_WORDS = 12


def check_backup(
    repository: Repository,
    manifest: Manifest,
    local_models: LocalModels,
    scratch: Path | None = None,
    *,
    full: bool = False,
) -> str:
    """Check a backup; return what was done, for people.

    Args:
        repository: Where it is.
        manifest: The backup.
        local_models: The embedder and the evidence model to ask with.
        scratch: Where the temporary directory is made; None for the system's place for these.
        full: Whether all contents are read and compared with their hashes, not only listed.

    Raises:
        BackupFailed: a part of it is missing or damaged, or it cannot be asked.
    """
    for file in manifest.files:
        if not all(map(repository.has, file.pieces)):
            raise BackupFailed(f"{file.path} is missing from the backup.")
        if full:
            for piece in file.pieces:
                repository.content(piece)
    files = {file.path: file for file in manifest.files}
    with tempfile.TemporaryDirectory(prefix=CHECKED, dir=scratch) as folder:
        data = Path(folder)
        for name in DATABASES:
            repository.write_file(files[name], data / name)
            _check_database(data / name)
        records = Records(data / "fontanel.db")
        try:
            result = _ask(records, data, repository, files_by_path=files, models=local_models)
        finally:
            records.close()
    read = "all contents read" if full else "all contents there"
    return f"{read}; {result}"


def _check_database(path: Path) -> None:
    with closing(sqlite3.connect(path)) as database:
        (result,) = database.execute("PRAGMA quick_check").fetchone()
    if result != "ok":
        raise BackupFailed(f"The copy of {path.name} is damaged: {result}.")


def _ask(
    records: Records,
    data: Path,
    repository: Repository,
    *,
    files_by_path: dict[str, BackedUpFile],
    models: LocalModels,
) -> str:
    with records.reading() as session:
        kb = _smallest_kb(session)
        if kb is None:
            return "opened; no knowledge base has indexed documents yet"
        segments = select(Segment.id).where(Segment.edition_id == kb.edition_id)
        for segment in session.scalars(segments):
            path = f"editions/{kb.edition_id}/{segment}"
            repository.write_file(files_by_path[path], data / path)
        passage, document = _passage_of(session, kb)
    vectors = VectorCache(data / "vectors")
    editions = Editions(data / "editions", records)
    question = " ".join(passage.text.split()[:_WORDS])
    try:
        with records.reading() as session:
            scope = TeamScope(session, kb.team_id)
            target = kb_target(kb, {}, None)
            knowledge = target_knowledge(scope, target.kbs, editions, models).parts[kb.id]
            hits = knowledge.search(question, Options(limit=10)).hits
            if document.id not in {hit.document.id for hit in hits}:
                raise BackupFailed(
                    f"The copy was opened, but a search in {kb.name} does not find {document.name}."
                )
        asking = Asking(
            records=records,
            editions=editions,
            local_models=models,
            models=ModelClient(),
            vault=Vault(data / "secret.key"),
            approved=ApprovedStore(records, vectors, models),
        )
        asked = Asked(question=question, asker="backup", request_id="backup", keep=False)
        *_, recorded = asking.ask(target, asked, None, threading.Event())
        if not isinstance(recorded, Recorded):
            raise BackupFailed(
                f"The copy was opened, but a question in {kb.name} was not answered."
            )
    finally:
        vectors.close()
    return f"opened, and asked about {document.name} in {kb.name}: {recorded.answer.outcome.value}"


def _smallest_kb(session: Session) -> Kb | None:
    """Return the knowledge base with the fewest passages, of those with an indexed document."""
    query = (
        select(Kb)
        .join(PassageRow, PassageRow.edition_id == Kb.edition_id)
        .join(Document, Document.key == PassageRow.document_key)
        .join(Segment, Segment.edition_id == Kb.edition_id)
        .where(Kb.expires_at.is_(None), Document.state == DocumentState.INDEXED)
        .group_by(Kb.id)
        .order_by(func.count(PassageRow.id))
        .limit(1)
    )
    return session.scalar(query)


def _passage_of(session: Session, kb: Kb) -> tuple[PassageRow, Document]:
    query = (
        select(PassageRow, Document)
        .join(Document, Document.key == PassageRow.document_key)
        .where(PassageRow.edition_id == kb.edition_id, Document.state == DocumentState.INDEXED)
        .order_by(PassageRow.id)
        .limit(1)
    )
    passage, document = session.execute(query).one()
    return passage, document
