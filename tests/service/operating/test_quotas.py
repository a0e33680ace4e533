"""Quotas: what teams may have, use, and send in a minute."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from sqlalchemy import func, select

from fontanel.client import Client, NotAllowed, ProblemError
from fontanel.records.tables import Document, PassageCounts, PassageRow, Revision, TeamCounts
from fontanel.records.unit_of_work import Records
from fontanel.schemas import DeskKb, DeskSettings, QuotaOut, QuotasIn, SourceIn
from tests import patient
from tests.conftest import STORM, Service, TeamSetup, new_team, until

QUESTION = "What is the wind limit at the outer berth?"


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("quotas")


@pytest.fixture(scope="module")
def service(folder: Path) -> Iterator[Service]:
    (folder / "files").mkdir()
    environment = {"FONTANEL_SOURCE_ROOTS": str(folder / "files")}
    result = Service(folder / "data", environment).start()
    yield result
    result.stop()


def limit(team: TeamSetup, quotas: QuotasIn) -> None:
    with team.service.operator() as operator:
        operator.set_quotas(team.slug, quotas)


def quota(team: TeamSetup, name: str) -> QuotaOut:
    [result] = [one for one in team.client.quotas().quotas if one.name == name]
    return result


def kind_of(error: pytest.ExceptionInfo[ProblemError]) -> str:
    return error.value.problem.type.rpartition(":")[2]


def text_of(number: int) -> bytes:
    return f"# Berth {number}\n\nBerth {number} is {number + 5} metres deep.\n".encode()


def test_documents_beyond_the_quota_are_refused_and_nothing_is_lost(
    team: TeamSetup, kb: str
) -> None:
    limit(team, QuotasIn(documents=2))
    for number in range(2):
        team.client.add_document(kb, text_of(number), f"{number}.md")
    with pytest.raises(NotAllowed, match="quota of 2 documents is used up") as refused:
        team.client.add_document(kb, text_of(2), "2.md")
    assert kind_of(refused) == "quota-reached"
    assert "operator" in str(refused.value.problem.advice)
    # A new revision is no new document; another team is not affected.
    assert team.client.add_document(kb, text_of(7), "0.md").outcome == "revised"
    other = new_team(team.service)
    other.client.create_kb("Own")
    for number in range(3):
        other.client.add_document("own", text_of(number), f"{number}.md")
    shown = quota(team, "documents")
    assert (shown.used, shown.limit, shown.state, shown.own) == (2, 2, "reached", True)
    team.client.delete_document(kb, "1.md")
    assert team.client.add_document(kb, text_of(2), "2.md").outcome == "added"


def test_bytes_include_earlier_revisions(team: TeamSetup, kb: str) -> None:
    limit(team, QuotasIn(bytes=1000))
    team.client.add_document(kb, b"The first tide table.\n" * 20, "tide.txt")
    assert quota(team, "bytes").used == 440
    with pytest.raises(NotAllowed, match="1,000 bytes"):
        team.client.add_document(kb, b"The other tide table.\n" * 30, "tide.txt")
    assert team.client.show_document(kb, "tide.txt").revision.size == 440


def test_an_archive_reports_what_the_quota_left_out(team: TeamSetup, kb: str) -> None:
    limit(team, QuotasIn(documents=4))
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        for number in range(6):
            archive.writestr(f"{number}.md", text_of(number))
    team.client.add_document(kb, packed.getvalue(), "berths.zip", wait=True)
    until(lambda: len(list(team.client.list_documents(kb))) == 4)
    report = team.client.show_document(kb, "berths.zip")
    assert any("3 files inside were left out" in warning for warning in report.revision.warnings)


def test_a_run_of_a_source_ends_at_the_quota_and_goes_on_when_it_is_raised(
    team: TeamSetup, kb: str, folder: Path
) -> None:
    files = folder / "files" / team.slug
    files.mkdir()
    for number in range(5):
        (files / f"{number}.md").write_bytes(text_of(number))
    limit(team, QuotasIn(documents=3))
    source = team.client.connect_source(
        kb, SourceIn(name="Files", kind="folder", settings={"path": str(files)})
    )
    run = team.client.wait_for_sync(kb, source.id, "latest")
    assert run.state == "failed"
    assert "quota of 3 documents is used up" in str(run.error)
    assert quota(team, "documents").used == 3
    limit(team, QuotasIn(documents=10))
    assert team.client.sync_source(kb, source.id, wait=True).state == "done"
    assert quota(team, "documents").used == 5


def test_a_document_with_too_many_passages_fails_and_can_be_retried(
    team: TeamSetup, storm: str
) -> None:
    before = quota(team, "passages").used
    assert before
    limit(team, QuotasIn(passages=before))
    added = team.client.add_document(storm, text_of(1), "berth.md", wait=True)
    assert (added.document.state, added.document.error_code) == ("failed", "quota")
    assert "passages is used up" in str(added.document.error)
    # What is there is still found, and the same text again needs no more room.
    assert team.client.search(storm, QUESTION).hits
    again = team.client.add_document(storm, STORM + b"\n", "storm-plan.md", wait=True)
    assert again.document.state == "indexed"
    limit(team, QuotasIn(passages=before + 10))
    team.client.retry_document(storm, "berth.md")
    assert team.client.wait_for_document(storm, "berth.md").state == "indexed"


def test_questions_of_a_month(team: TeamSetup, storm: str) -> None:
    limit(team, QuotasIn(questions=2))
    for _ in range(2):
        assert team.client.ask(storm, QUESTION).outcome == "answered"
    with pytest.raises(NotAllowed, match="all of its 2 questions of this month") as refused:
        team.client.ask(storm, QUESTION)
    assert kind_of(refused) == "quota-reached"
    shown = quota(team, "questions")
    assert (shown.used, shown.state, shown.per) == (2, "reached", "month")
    assert team.client.search(storm, QUESTION).hits


def test_owners_are_warned_once_at_eighty_percent_and_when_it_is_reached(
    team: TeamSetup, kb: str
) -> None:
    def notices() -> list[str]:
        found = [one for one in team.client.list_notices().items if one.kind.startswith("quota.")]
        return sorted(one.message for one in found)

    for number in range(8):
        team.client.add_document(kb, text_of(number), f"{number}.md")
    limit(team, QuotasIn(documents=10))
    low = "The team has used 80% of its 10 documents."
    until(lambda: notices() == [low])
    for number in (8, 9):
        team.client.add_document(kb, text_of(number), f"{number}.md")
    reached = "The team has used up its 10 documents."
    until(lambda: notices() == [low, reached])
    team.client.delete_document(kb, "9.md")
    team.client.add_document(kb, text_of(9), "9.md")
    assert notices() == [low, reached]


def test_requests_of_a_key_are_limited_and_reported(team: TeamSetup) -> None:
    secret = team.client.make_key("paced", "reader", requests_per_minute=3).secret
    headers = {"Authorization": f"Bearer {secret}"}
    url = f"{team.service.url}/api/v1/teams/{team.slug}/kbs"
    replies = [patient.get(url, headers=headers) for _ in range(4)]
    assert [reply.status_code for reply in replies] == [200, 200, 200, 429]
    assert replies[0].headers["ratelimit-policy"] == '"requests";q=3;w=60'
    assert replies[0].headers["ratelimit"].startswith('"requests";r=2;t=')
    assert 1 <= int(replies[3].headers["retry-after"]) <= 60
    assert replies[3].json()["type"] == "urn:fontanel:problem:too-many-requests"
    # Other keys of the team have their own pace, and without a limit nothing is reported.
    assert (
        "ratelimit" not in patient.get(url, headers={"Authorization": f"Bearer {team.key}"}).headers
    )
    limit(team, QuotasIn(requests_per_minute=2))
    other = Client(team.service.url, team.key, team.slug, retry_seconds=0)
    for _ in range(2):
        other.list_kbs()
    with pytest.raises(ProblemError, match="allows 2 requests a minute"):
        other.list_kbs()


def test_questions_and_guests_are_limited(team: TeamSetup, storm: str) -> None:
    desk = team.client.create_desk("Harbour", DeskSettings(kbs=[DeskKb(kb=storm)], audience="link"))
    team.client.publish_desk(desk.slug)
    link = team.client.make_desk_link(desk.slug, "Visitors")
    limit(team, QuotasIn(questions_per_minute=1, requests_per_minute=5))
    patient = Client(team.service.url, team.key, team.slug, retry_seconds=0)
    assert patient.ask(storm, QUESTION).outcome == "answered"
    with pytest.raises(ProblemError, match="allows 1 questions a minute"):
        patient.ask(storm, QUESTION)
    guests = [
        Client(
            team.service.url,
            link.secret,
            team.slug,
            guest=f"guest-{n}-secret-secret",
            retry_seconds=0,
        )
        for n in range(2)
    ]
    for guest in guests:
        assert guest.ask_desk(desk.slug, QUESTION).outcome == "answered"

    # A guest cannot pose as several: those at one address share the pace of requests.
    for guest in (*guests, guests[0]):
        guest.list_conversations(desk=desk.slug)
    with pytest.raises(ProblemError, match="allows 5 requests a minute"):
        guests[1].list_conversations(desk=desk.slug)


def test_streams_and_tokens_have_quotas(team: TeamSetup, kb: str) -> None:
    limit(team, QuotasIn(streams=1, tokens=100))
    url = f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/events"
    headers = {"Authorization": f"Bearer {team.key}"}
    with patient.stream("GET", url, headers=headers) as first:
        assert first.status_code == 200
        assert patient.get(url, headers=headers).status_code == 429
        assert quota(team, "streams").used == 1
    until(lambda: quota(team, "streams").used == 0)
    budget = team.client.usage().budget
    assert (budget.monthly_tokens, budget.limit, budget.state) == (None, 100, "fine")


def test_defaults_apply_to_teams_without_their_own(service: Service, team: TeamSetup) -> None:
    own = new_team(service)
    try:
        with service.operator() as operator:
            operator.set_default_quotas(QuotasIn(documents=7, questions=50))
            operator.set_quotas(own.slug, QuotasIn(documents=None))
            shown = operator.all_quotas()
        assert shown.defaults.documents == 7
        assert (quota(team, "documents").limit, quota(team, "documents").own) == (7, False)
        assert (quota(own, "documents").limit, quota(own, "documents").own) == (None, True)
        assert quota(own, "questions").limit == 50
        assert {team.slug, own.slug} <= {one.team for one in shown.teams}
        with pytest.raises(NotAllowed):
            team.client.set_quotas(team.slug, QuotasIn(documents=100))
        [entry] = [
            one
            for one in own.client.list_audit().items
            if one.action == "quotas.set" or "quota" in one.action
        ]
        assert (entry.actor_kind, entry.name) == ("person", "Operator")
    finally:
        with service.operator() as operator:
            operator.set_default_quotas(QuotasIn())


def test_counts_are_those_of_the_rows(team: TeamSetup, storm: str) -> None:
    for number in range(4):
        team.client.add_document(storm, text_of(number), f"{number}.md", wait=True)
    team.client.add_document(storm, text_of(9), "1.md", wait=True)
    team.client.delete_document(storm, "2.md")
    other = team.client.create_kb("Other")
    team.client.add_document(other.slug, text_of(1), "1.md", wait=True)
    team.client.delete_kb(other.slug)
    records = Records(team.service.data / "fontanel.db")
    try:
        with records.reading() as session:
            rows = session.scalars(select(TeamCounts)).all()
            assert any(row.documents == 4 for row in rows)
            for row in rows:
                of_team = Document.team_id == row.team_id
                assert row.documents == session.scalar(
                    select(func.count()).select_from(Document).where(of_team)
                )
                assert row.bytes == session.scalar(
                    select(func.coalesce(func.sum(Revision.size), 0)).where(
                        Revision.team_id == row.team_id
                    )
                )
            for counted in session.scalars(select(PassageCounts)):
                assert counted.passages == session.scalar(
                    select(func.count())
                    .select_from(PassageRow)
                    .where(PassageRow.edition_id == counted.edition_id)
                )
    finally:
        records.close()
