"""Recordings: transcribed by servers that operators register, searched, cited, and played."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from functools import partial
from itertools import count
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client, Invalid, NotAllowed, NotFound, ProblemError
from fontanel.simulators.ears import WORDS, ears_app
from tests import patient
from tests.conftest import Service, TeamSetup, free_port, new_team, until
from tests.core.recordings import recording, silent_film
from tests.servers import served_on

SAID = list(WORDS[:33])
_numbers = count(1)


@pytest.fixture(scope="module")
def ears() -> Iterator[str]:
    with served_on(ears_app(), free_port()) as url:
        yield url


@pytest.fixture
def operator(service: Service) -> Iterator[Client]:
    with service.operator() as client:
        yield client


def register(operator: Client, url: str, remote: str = "tones", **more: object) -> str:
    """Register a transcriber of its own name; return the name."""
    name = f"ears-{next(_numbers)}"
    fields = {"name": name, "url": url, "remote": remote, "tries": 1, **more}
    operator.register_transcriber(s.TranscriberIn.model_validate(fields))
    return name


def test_a_transcriber_is_registered_changed_checked_and_removed(
    operator: Client, ears: str, team: TeamSetup
) -> None:
    name = register(operator, ears, secret="s3cret", price=0.006)
    shown = operator.show_transcriber(name)
    assert (shown.has_secret, shown.error, shown.used_by) == (True, None, 0)
    assert "s3cret" not in shown.model_dump_json()
    assert name in [one.name for one in operator.list_transcribers()]
    assert name in [one.name for one in team.client.list_usable_transcribers()]
    assert operator.check_transcriber(name).works
    changed = operator.change_transcriber(name, s.TranscriberChange(price=0.5, part_seconds=60))
    assert (changed.price, changed.part_seconds, changed.remote) == (0.5, 60, "tones")
    kb = team.client.create_kb("Notices", transcriber=name).slug
    with pytest.raises(ProblemError, match="is the transcriber of 1 knowledge bases"):
        operator.delete_transcriber(name)
    team.client.change_kb(kb, transcriber="")
    operator.delete_transcriber(name)
    with pytest.raises(NotFound):
        operator.show_transcriber(name)
    with pytest.raises(Invalid, match="there is no transcriber of that name"):
        team.client.change_kb(kb, transcriber=name)
    with pytest.raises(NotAllowed):
        team.client.list_transcribers()


@pytest.mark.parametrize(
    ("remote", "message"),
    [
        ("failing", "status 500"),
        ("busy", "asked too much"),
        ("malformed", "cannot be read"),
        ("refusing", "too large"),
        ("text", "gives no times"),
        ("nobody", "no such model"),
    ],
)
def test_what_does_not_transcribe_is_not_registered(
    operator: Client, ears: str, remote: str, message: str
) -> None:
    with pytest.raises(Invalid, match=message):
        register(operator, ears, remote)


def test_a_recording_waits_for_a_transcriber_and_is_then_answered_from(
    operator: Client, ears: str, team: TeamSetup
) -> None:
    client = team.client
    kb = client.create_kb("Notices").slug
    data = recording(SAID, "mp3", title="Notice of Monday")
    added = client.add_document(kb, data, "notice.mp3", wait=True)
    document = added.document
    assert (document.state, document.error_code) == ("needs_transcript", "needs_transcript")
    assert "Choose a transcriber" in str(document.error)
    assert document.revision.duration == pytest.approx(len(SAID), abs=0.5)
    assert client.show_kb(kb).untranscribed == 1
    name = register(operator, ears, price=0.6, part_seconds=30)
    client.change_kb(kb, transcriber=name, spoken="en")
    until(lambda: client.show_document(kb, "notice.mp3").state == "indexed")
    text = client.document_text(kb, "notice.mp3")
    assert text.title == "Notice of Monday"
    # Two parts that overlap by ten seconds, and each word once.
    assert text.text.split() == SAID
    assert [block.kind for block in text.blocks] == ["cue"] * len(text.blocks)
    hit = client.search(kb, "When do ferries leave?").hits[0]
    assert "ferries leave every hour" in hit.text
    assert hit.locator.seconds == 0.0
    answer = client.ask(kb, "When do ferries leave?")
    assert answer.citations[0].locator.seconds is not None
    cost = client.usage("model").total.cost
    assert cost == pytest.approx(0.6 * (len(SAID) + 10) / 60, rel=0.05)
    # The same recording elsewhere in the team costs nothing more.
    other = client.create_kb("More", transcriber=name, spoken="en").slug
    client.add_document(other, data, "again.mp3", wait=True)
    assert client.document_text(other, "again.mp3").text.split() == SAID
    assert client.usage("model").total.cost == pytest.approx(cost)


def test_recordings_wait_when_the_minutes_of_the_month_are_used_up(
    operator: Client, ears: str, team: TeamSetup
) -> None:
    client = team.client
    name = register(operator, ears)
    kb = client.create_kb("Notices", transcriber=name).slug
    operator.set_quotas(team.slug, s.QuotasIn(recording_minutes=1))
    for number in range(2):
        client.add_document(kb, recording(SAID[: 32 + number]), f"{number}.wav", wait=True)
        assert client.show_document(kb, f"{number}.wav").state == "indexed"
    used = next(one for one in client.quotas().quotas if one.name == "recording_minutes")
    assert (used.used, used.state, used.per) == (1, "reached", "month")
    client.add_document(kb, recording(SAID[:8]), "later.wav")
    until(lambda: "this month (1)" in str(client.show_document(kb, "later.wav").error))
    later = client.show_document(kb, "later.wav")
    assert later.state == "needs_transcript"
    assert "has used all minutes of recordings of this month (1)" in str(later.error)
    operator.set_quotas(team.slug, s.QuotasIn(recording_minutes=2))
    until(lambda: client.show_document(kb, "later.wav").state == "indexed")


def test_the_original_is_played_from_any_second(team: TeamSetup) -> None:
    kb = team.client.create_kb("Notices").slug
    data = recording(SAID[:4], "webm")
    team.client.add_document(kb, data, "notice.webm", wait=True)
    address = f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/documents/notice.webm/original"
    headers = {"Authorization": f"Bearer {team.key}", "Range": "bytes=10-19"}
    played = patient.get(address, headers=headers)
    assert (played.status_code, played.content) == (206, data[10:20])
    assert played.headers["content-type"] == "video/webm"
    assert played.headers["content-disposition"].startswith("inline")


def test_a_silent_film_fails_and_a_preview_says_what_is_missing(team: TeamSetup) -> None:
    client = team.client
    kb = client.create_kb("Notices").slug
    added = client.add_document(kb, silent_film(), "film.mp4", wait=True)
    assert (added.document.state, added.document.error_code) == ("failed", "no_text")
    with pytest.raises(ProblemError, match="has to be transcribed first"):
        client.preview(kb, recording(SAID[:4]), "notice.wav")


def test_a_transcriber_that_is_away_is_waited_for(
    operator: Client, ears: str, team: TeamSetup
) -> None:
    client = team.client
    name = register(operator, ears, price=0.1)
    operator.change_transcriber(name, s.TranscriberChange(remote="failing"))
    kb = client.create_kb("Notices", transcriber=name).slug
    client.add_document(kb, recording(SAID[:6]), "notice.wav")
    until(lambda: client.show_document(kb, "notice.wav").error is not None)
    waiting = client.show_document(kb, "notice.wav")
    assert waiting.state == "needs_transcript"
    assert "is asked again later: its server answers with status 500" in str(waiting.error)
    assert operator.show_transcriber(name).error == "its server answers with status 500"
    operator.change_transcriber(name, s.TranscriberChange(enabled=False))
    until(lambda: "switched off" in str(client.show_document(kb, "notice.wav").error))
    assert client.show_document(kb, "notice.wav").state == "needs_transcript"
    operator.change_transcriber(name, s.TranscriberChange(remote="limited", tries=3, enabled=True))
    until(lambda: client.show_document(kb, "notice.wav").state == "indexed")
    assert operator.show_transcriber(name).error is None


def test_a_recording_that_is_refused_fails_alone(
    operator: Client, ears: str, team: TeamSetup
) -> None:
    client = team.client
    name = register(operator, ears)
    operator.change_transcriber(name, s.TranscriberChange(remote="refusing"))
    kb = client.create_kb("Notices", transcriber=name).slug
    client.add_document(kb, recording(SAID[:6]), "notice.wav", wait=True)
    failed = client.show_document(kb, "notice.wav")
    assert (failed.state, failed.error_code) == ("failed", "not_transcribed")
    assert "refuses the recording" in str(failed.error)
    operator.change_transcriber(name, s.TranscriberChange(remote="speakers"))
    client.retry_document(kb, "notice.wav")
    until(lambda: client.show_document(kb, "notice.wav").state == "indexed")
    assert client.document_text(kb, "notice.wav").text.startswith("Anna: the harbour is closed")


def test_standby_editions_have_the_transcript_too(
    operator: Client, ears: str, team: TeamSetup
) -> None:
    client = team.client
    kb = client.create_kb("Notices").slug
    client.add_document(kb, recording(SAID[:8]), "notice.wav", wait=True)
    edition = client.build_edition(kb, s.Splitting(target_tokens=100))
    name = register(operator, ears)
    client.change_kb(kb, transcriber=name)
    until(lambda: client.show_document(kb, "notice.wav").state == "indexed")
    until(lambda: not [e for e in client.list_editions(kb) if e.state == "building"])
    assert client.search(kb, "closed from noon", edition=edition.number).hits


@pytest.mark.slow
def test_a_killed_service_transcribes_nothing_twice(tmp_path: Path) -> None:
    own = Service(tmp_path / "data").start()
    words = (SAID * 4)[:110]
    try:
        with served_on(ears_app(pause=0.3), free_port()) as url:
            with own.operator() as operator:
                name = register(operator, url, "slow", part_seconds=30, price=1.0)
            team = new_team(own)
            kb = team.client.create_kb("Notices", transcriber=name).slug
            team.client.add_document(kb, recording(words, "ogg"), "notice.ogg")
            for parts in (1, 3):
                until(partial(_has_transcribed, own, parts))
                own.kill()
                own.start()
            until(lambda: team.client.show_document(kb, "notice.ogg").state == "indexed")
            assert team.client.document_text(kb, "notice.ogg").text.split() == words
            # 110 seconds in parts of 30 that begin 20 seconds apart.
            assert _transcribed(own) == 5
            own.kill()
            own.start(FONTANEL_FAULT="transcribed:2")
            team.client.add_document(kb, recording(words[::-1], "ogg"), "back.ogg")
            until(lambda: own.process is not None and own.process.poll() is not None)
            own.start()
            until(lambda: team.client.show_document(kb, "back.ogg").state == "indexed")
            assert team.client.document_text(kb, "back.ogg").text.split() == words[::-1]
            assert _transcribed(own) == 10
    finally:
        own.stop()


def _transcribed(service: Service) -> int:
    """Return how many parts were recorded, in the usage as well."""
    with sqlite3.connect(service.data / "fontanel.db") as records:
        (parts,) = records.execute("select count(*) from transcript_parts").fetchone()
        query = "select count(*) from uses where outcome = 'transcribed'"
        (uses,) = records.execute(query).fetchone()
    assert parts == uses
    return int(parts)


def _has_transcribed(service: Service, parts: int) -> bool:
    return _transcribed(service) >= parts
