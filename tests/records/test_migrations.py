"""The schema grows without losing what was there."""

from __future__ import annotations

import sqlite3
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.script import ScriptDirectory
from sqlalchemy import create_engine, select

import fontanel.records
from fontanel.records.tables import Conversation, Document, Revision, Turn, TurnState
from fontanel.records.unit_of_work import Records


def at(path: Path, revision: str) -> None:
    """A database as it was at a revision of the schema."""
    engine = create_engine(f"sqlite:///{path}")
    config = Config()
    config.set_main_option(
        "script_location", str(Path(fontanel.records.__file__).parent / "migrations")
    )
    with engine.connect() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, revision)
        connection.commit()
    engine.dispose()


def test_documents_of_the_first_schema_are_still_there(tmp_path: Path) -> None:
    path = tmp_path / "fontanel.db"
    at(path, "0001")
    moment = "2026-01-02 03:04:05.000000"
    with sqlite3.connect(path) as db:
        db.execute(
            "insert into teams (id, slug, name, created_at, version) values ('t', 'team', 'Team',"
            " ?, 1)",
            (moment,),
        )
        db.execute(
            "insert into kbs (id, team_id, slug, name, description, edition_id, created_at,"
            " version) values ('k', 't', 'kb', 'Kb', '', 'e', ?, 1)",
            (moment,),
        )
        db.execute(
            "insert into documents (key, id, team_id, kb_id, name, title, state,"
            " latest_revision_id, tags, created_at, changed_at, version) values (7, 'd', 't', 'k',"
            " 'a.md', 'A', 'indexed', 'r', '{}', ?, ?, 1)",
            (moment, moment),
        )
        db.execute(
            "insert into revisions (id, team_id, document_key, number, sha256, size, warnings,"
            " seconds, created_at) values ('r', 't', 7, 1, 'ab', 3, '[]', '{}', ?)",
            (moment,),
        )
    records = Records(path)
    with records.reading() as session:
        document = session.scalars(select(Document)).one()
        revision = session.scalars(select(Revision)).one()
        assert (document.key, document.description, document.parent_key) == (7, "", None)
        assert (revision.report, revision.columns) == (None, None)
    records.close()


def test_opening_twice_changes_nothing(tmp_path: Path) -> None:
    path = tmp_path / "fontanel.db"
    for _ in range(2):
        records = Records(path)
        records.close()
    with sqlite3.connect(path) as db:
        assert db.execute("select count(*) from alembic_version").fetchone() == (1,)
        assert db.execute("pragma integrity_check").fetchone() == ("ok",)


def test_conversations_keep_their_turns_when_their_table_is_rebuilt(tmp_path: Path) -> None:
    path = tmp_path / "fontanel.db"
    at(path, "0004")
    moment = "2026-01-02 03:04:05.000000"
    with sqlite3.connect(path) as db:
        db.execute(
            "insert into teams (id, slug, name, created_at, version) values ('t', 'team', 'Team',"
            " ?, 1)",
            (moment,),
        )
        db.execute(
            "insert into kbs (id, team_id, slug, name, description, edition_id, created_at,"
            " version) values ('k', 't', 'kb', 'Kb', '', 'e', ?, 1)",
            (moment,),
        )
        db.execute(
            "insert into conversations (id, team_id, kb_id, asker, title, created_at, changed_at) "
            "values ('c', 't', 'k', 'person:1', 'When?', ?, ?)",
            (moment, moment),
        )
        db.execute(
            "insert into turns (id, team_id, conversation_id, number, question, standalone,"
            " outcome, text, sufficiency, citations, evidence, edition_id, composer, seconds,"
            " request_id, created_at) values ('n', 't', 'c', 1, 'When?', 'When?', 'answered', 'At"
            " noon.', 0.9, '[]', '[]', 'e', 'built-in', '{}', 'r', ?)",
            (moment,),
        )
    records = Records(path)
    with records.reading() as session:
        turn = session.scalars(select(Turn)).one()
        assert (turn.text, turn.asker, turn.state, turn.steps) == (
            "At noon.",
            "person:1",
            TurnState.DONE,
            None,
        )
    with records.writing() as session:
        session.delete(session.get_one(Conversation, "c"))
    with records.reading() as session:
        assert session.scalars(select(Turn)).all() == []


def test_the_newest_migration_is_the_one_whose_file_is_named_so() -> None:
    config = Config()
    config.set_main_option(
        "script_location", str(Path(fontanel.records.__file__).parent / "migrations")
    )
    scripts = ScriptDirectory.from_config(config)
    for script in scripts.walk_revisions():
        assert Path(script.path).name.startswith(f"v{script.revision}_")
    assert scripts.get_current_head() == max(script.revision for script in scripts.walk_revisions())
