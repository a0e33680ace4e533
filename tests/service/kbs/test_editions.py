"""Editions: built, compared, switched and deleted during operation."""

from __future__ import annotations

import pytest

from fontanel.client import Client, Conflict, Invalid, NotFound
from fontanel.schemas import EditionOut, Splitting
from tests.conftest import STORM, TeamSetup, new_team

LONG = "# Lock\n\n" + "\n\n".join(
    f"The lock keeper notes the draught of ship {n} and the level of the basin before the gates are"
    f" opened at tide {n}."
    for n in range(60)
)
SMALL = Splitting(target_tokens=60, min_tokens=20)


def built(client: Client, kb: str, number: int) -> EditionOut:
    """The edition once it is ready; each look waits for the service."""
    while True:
        result = next(edition for edition in client.list_editions(kb) if edition.number == number)
        if result.state == "ready":
            assert result.failed == 0
            return result


@pytest.fixture
def two(team: TeamSetup, kb: str) -> str:
    """A kb of two documents with a second edition of small passages, ready."""
    team.client.add_document(kb, STORM, "storm-plan.md", wait=True)
    team.client.add_document(kb, LONG.encode(), "lock.md", wait=True)
    team.client.build_edition(kb, SMALL)
    built(team.client, kb, 2)
    return kb


def test_an_edition_is_built_beside_the_serving_one(team: TeamSetup, two: str) -> None:
    first, second = team.client.list_editions(two)
    assert (first.active, second.active) == (True, False)
    assert second.passages > first.passages
    assert second.splitting.target_tokens == 60
    assert (second.done, second.failed, second.total) == (2, 0, 2)
    assert all(document.state == "indexed" for document in team.client.list_documents(two))
    question = "draught of ship 7"
    usual = team.client.search(two, question).hits[0]
    beside = team.client.search(two, question, edition=2).hits[0]
    assert len(beside.text) < len(usual.text)
    assert beside.similarity is not None


def test_an_edition_can_keep_its_vectors_as_bytes(team: TeamSetup, two: str) -> None:
    client = team.client
    client.build_edition(two, Splitting(target_tokens=60, min_tokens=20, compact=True))
    third = built(client, two, 3)
    assert third.splitting.compact

    def size(edition: str) -> int:
        files = (team.service.data / "editions" / edition).glob("vectors_*")
        return sum(file.stat().st_size for file in files)

    floats = next(edition for edition in client.list_editions(two) if edition.number == 2)
    assert size(third.id) < 0.45 * size(floats.id)
    question = "who closes the port in a storm"
    plain, bytewise = (
        client.search(two, question, mode="vector", edition=number).hits for number in (2, 3)
    )
    assert [hit.text for hit in plain[:3]] == [hit.text for hit in bytewise[:3]]
    for one, other in zip(plain[:3], bytewise[:3], strict=True):
        assert one.similarity == pytest.approx(other.similarity, abs=0.02)


def test_changes_reach_both(team: TeamSetup, two: str) -> None:
    team.client.add_document(
        two, b"# Pilots\n\nThe pilot boards at the fairway buoy.", "pilots.md", wait=True
    )
    built(team.client, two, 2)
    for edition in (1, 2):
        assert (
            team.client.search(two, "fairway buoy", edition=edition).hits[0].document_name
            == "pilots.md"
        )
    team.client.add_document(
        two, b"# Pilots\n\nThe pilot boards at the outer mole.", "pilots.md", wait=True
    )
    built(team.client, two, 2)
    for edition in (1, 2):
        hits = team.client.search(two, "where does the pilot board", edition=edition).hits
        assert "outer mole" in hits[0].text
        assert not any("fairway" in hit.text for hit in hits)
    team.client.delete_document(two, "pilots.md")
    for edition in (1, 2):
        assert all(
            hit.document_name != "pilots.md"
            for hit in team.client.search(two, "pilot", edition=edition).hits
        )


def test_switching_and_switching_back(team: TeamSetup, two: str) -> None:
    before = team.client.search(two, "draught of ship 7").hits[0].text
    switched = team.client.activate_edition(two, 2)
    assert switched.active
    for document in team.client.list_documents(two):
        shown = list(team.client.list_passages(two, document.id))
        assert [passage.ordinal for passage in shown] == list(
            range(document.revision.passages or 0)
        )
        assert sum(passage.tokens for passage in shown) == document.revision.tokens
    small = team.client.search(two, "draught of ship 7").hits[0]
    assert len(small.text) < len(before)
    assert team.client.show_kb(two).splitting.target_tokens == 60
    assert team.client.ask(two, "Who notes the draught of ship 7?").outcome == "answered"
    team.client.add_document(
        two, b"# Pilots\n\nThe pilot boards at the fairway buoy.", "pilots.md", wait=True
    )
    built(team.client, two, 1)
    team.client.activate_edition(two, 1)
    assert team.client.search(two, "draught of ship 7").hits[0].text == before
    assert team.client.search(two, "fairway buoy").hits[0].document_name == "pilots.md"


def test_two_editions_are_compared_on_questions(team: TeamSetup, two: str) -> None:
    result = team.client.compare_editions(
        two,
        1,
        2,
        [
            "level of the basin",
            ("wind limit for departure", "storm-plan.md"),
            ("wind limit", "nowhere.md"),
        ],
    )
    assert [row.first[0] for row in result.questions[:2]] == ["lock.md", "storm-plan.md"]
    assert result.questions[1].first_rank == result.questions[1].second_rank == 1
    assert result.questions[2].second_rank is None
    assert result.first_mrr == 0.5


def test_what_cannot_be_done_is_refused(team: TeamSetup, two: str) -> None:
    with pytest.raises(Conflict, match="is active"):
        team.client.drop_edition(two, 1)
    with pytest.raises(Invalid, match="these very settings"):
        team.client.build_edition(two, SMALL)
    with pytest.raises(NotFound, match="no edition 7"):
        team.client.search(two, "wind", edition=7)
    with pytest.raises(NotFound):
        team.client.activate_edition(two, 7)


def test_a_dropped_edition_is_gone_and_its_number_never_comes_back(
    team: TeamSetup, two: str
) -> None:
    team.client.build_edition(two, Splitting(target_tokens=80, min_tokens=20))
    built(team.client, two, 3)
    team.client.drop_edition(two, 2)
    assert [edition.number for edition in team.client.list_editions(two)] == [1, 3]
    assert team.client.search(two, "draught").hits
    assert team.client.build_edition(two, SMALL).number == 4


def test_another_teams_editions_are_out_of_reach(team: TeamSetup, two: str) -> None:
    other = new_team(team.service)
    for call in (other.client.list_editions, lambda kb: other.client.drop_edition(kb, 2)):
        with pytest.raises(NotFound):
            call(two)
