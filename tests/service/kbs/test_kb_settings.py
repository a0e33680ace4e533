"""Settings of knowledge bases: what is taken, what is refused, and what stays."""

from __future__ import annotations

import pytest

from fontanel import schemas as s
from fontanel.client import ChangedMeanwhile, Invalid
from tests import patient
from tests.conftest import Service, TeamSetup


def test_what_is_left_out_stays(team: TeamSetup, kb: str) -> None:
    client = team.client
    set_id = client.create_set("Crane").id
    client.change_kb(kb, trial_set="crane", max_losses=4, proposes_questions=True)
    client.change_kb(kb, description="Rules of the harbour.")
    shown = client.show_kb(kb)
    assert (shown.trial_set, shown.max_losses, shown.proposes_questions) == (set_id, 4, True)
    assert (shown.proposer, shown.embedder_error) == (None, None)
    client.change_kb(kb, trial_set=set_id)
    client.change_kb(kb, trial_set="", max_losses=0, proposes_questions=False)
    shown = client.show_kb(kb)
    assert (shown.trial_set, shown.max_losses, shown.proposes_questions) == (None, 0, False)


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"max_losses": -1}, "max_losses"),
        ({"max_losses": 1001}, "max_losses"),
        ({"trial_set": "x" * 201}, "trial_set"),
        ({"proposer": "x" * 61}, "proposer"),
        ({"description": "x" * 501}, "description"),
    ],
)
def test_what_is_out_of_bounds_is_refused(
    team: TeamSetup, kb: str, change: dict[str, object], field: str
) -> None:
    before = team.client.show_kb(kb)
    with pytest.raises(ValueError, match=field):
        s.KbChange.model_validate(change)
    response = patient.patch(
        f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}",
        json=change,
        headers={"Authorization": f"Bearer {team.key}"},
    )
    assert response.status_code == 422
    assert field in response.text
    assert team.client.show_kb(kb) == before


def test_a_proposer_is_a_model_that_the_team_may_use(
    service: Service, team: TeamSetup, kb: str, model_server: str
) -> None:
    client = team.client
    name = f"proposer of {team.slug}"
    with service.operator() as operator:
        operator.create_model(s.ModelIn(name=name, url=model_server, remote="honest", teams=[]))
        with pytest.raises(Invalid, match="the team may not use it"):
            client.change_kb(kb, proposer=name)
        operator.change_model(name, s.ModelChange(teams=[team.slug]))
    assert client.change_kb(kb, proposer=name).proposer == name
    assert client.change_kb(kb, proposer="built-in").proposer is None


def test_two_people_do_not_undo_each_other_s_settings(team: TeamSetup, kb: str) -> None:
    client = team.client
    before = client.show_kb(kb).version
    client.change_kb(kb, max_losses=2, version=before)
    with pytest.raises(ChangedMeanwhile):
        client.change_kb(kb, max_losses=9, version=before)
    assert client.show_kb(kb).max_losses == 2
