"""Invitations, keys, sign-ins and grants on the command line."""

from __future__ import annotations

import subprocess

from tests.cli.conftest import Run
from tests.conftest import Service, TeamSetup


def test_an_invitation_is_made_accepted_and_withdrawn(run: Run, team: TeamSetup) -> None:
    email = f"mate-{team.slug}@skerrow.example"
    made = run("invitation", "create", email, "A mate", "--role", "editor")
    link = made.stdout.split()[0]
    assert "#fi_" in link
    assert email in run("invitation", "list").stdout
    assert run("invitation", "accept", link, FONTANEL_PASSWORD="too short").returncode != 0
    password = "long enough to be one"
    accepted = run("invitation", "accept", link, "--name", "The mate", FONTANEL_PASSWORD=password)
    assert accepted.returncode == 0, accepted.stderr
    assert team.name in accepted.stdout
    assert "no open invitations" in run("invitation", "list").stdout
    listed = run("session", "list", "--email", email, FONTANEL_PASSWORD=password)
    assert "this one" in listed.stdout
    assert (
        run("session", "end-others", "--email", email, FONTANEL_PASSWORD=password).returncode == 0
    )
    run("invitation", "create", f"x{email}", "X")
    assert run("invitation", "withdraw", f"x{email}").returncode == 0
    assert "no open invitations" in run("invitation", "list").stdout


def test_a_command_as_a_person_leaves_no_sign_in_behind(run: Run, team: TeamSetup) -> None:
    own = ("--email", team.email)
    run("session", "end-others", *own, FONTANEL_PASSWORD=team.password)
    for _ in range(2):
        listed = run("session", "list", *own, FONTANEL_PASSWORD=team.password).stdout
        assert listed.count("127.0.0.1") == 1, listed


def test_an_operator_makes_short_keys_links_and_grants(
    run: Run, team: TeamSetup, service: Service
) -> None:
    def operate(*command: str) -> subprocess.CompletedProcess[str]:
        return run(*command, "--email", "operator@localhost", FONTANEL_PASSWORD=service.password)

    refused = operate("key", "make", "peek", "--team", team.slug)
    assert refused.returncode == 4
    assert "at most 7 days" in refused.stderr
    assert operate("key", "make", "peek", "--days", "1", "--team", team.slug).returncode == 0
    assert "Operator (operator)" in run("key", "list").stdout
    assert "/password#fp_" in operate("member", "password-link", team.email).stdout
    assert "folders: none; private networks: none" in operate("team", "grant", team.slug).stdout
    assert "folders: all" in operate("team", "grant", team.slug, "--everything").stdout
    wrong = operate("team", "grant", team.slug, "--folder", "/etc")
    assert wrong.returncode != 0
    assert "FONTANEL_SOURCE_ROOTS" in wrong.stderr


def test_a_password_is_set_with_a_link(run: Run, team: TeamSetup) -> None:
    with team.service.operator() as operator:
        link = operator.make_password_link(team.email).url
    assert run("password", "set", link, FONTANEL_PASSWORD="a brand new password").returncode == 0
    assert run("password", "set", link, FONTANEL_PASSWORD="another new password").returncode != 0
    shown = run("whoami", "--email", team.email, FONTANEL_PASSWORD="a brand new password")
    assert team.name in shown.stdout
