"""People, teams, keys and sign-ins.

Made from its asynchronous twin by `make client`; do not edit.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from fontanel import schemas as s
from fontanel.client._sync.base import BaseClient
from fontanel.schemas.base import RoleName


class PeopleClient(BaseClient):
    """People, teams, keys and sign-ins."""

    def sign_in(self, email: str, password: str) -> s.SessionOut:
        """Sign in as a person, instead of using a key. Operators work this way."""
        self._http.headers["X-Fontanel-Console"] = "client"
        return self._send(self._calls.sign_in(email, password))

    def sign_out(self) -> None:
        """End the sign-in that `sign_in` began."""
        self._send(self._calls.sign_out())

    def session(self) -> s.SessionOut:
        """Return who the key belongs to, and the teams it has access to."""
        return self._send(self._calls.session())

    def list_teams(self) -> list[s.TeamOut]:
        return (self._send(self._calls.list_teams())).items

    def create_team(self, name: str) -> s.TeamOut:
        """For operators."""
        return self._send(self._calls.create_team(name))

    def change_team(self, change: s.TeamChange) -> s.TeamOut:
        """For owners. Only the fields that are set are changed."""
        return self._send(self._calls.change_team(change))

    def list_members(self) -> list[s.MemberOut]:
        return (self._send(self._calls.list_members())).items

    def invite(
        self,
        email: str,
        name: str,
        role: Literal["reader", "editor", "owner"] = "reader",
        expires_in_days: int = 7,
    ) -> s.InvitationCreated:
        """Invite somebody; `.url` is the link to pass on, None when it was sent by e-mail."""
        return self._send(self._calls.invite(email, name, role, expires_in_days))

    def list_invitations(self) -> list[s.InvitationOut]:
        return (self._send(self._calls.list_invitations())).items

    def withdraw_invitation(self, invitation: str) -> None:
        """By id or e-mail; its link stops working at once."""
        self._send(self._calls.withdraw_invitation(invitation))

    def open_invitation(self, secret: str) -> s.InvitationDetails:
        """Return what the link with this secret, the part after the `#`, invites to."""
        self._http.headers["X-Fontanel-Console"] = "client"
        return self._send(self._calls.open_invitation(secret))

    def accept_invitation(
        self, secret: str, name: str | None = None, password: str | None = None
    ) -> s.SessionOut:
        """Join the team, as the person who is signed in or with a new account.

        Args:
            password: The password of the new account, which is then signed in.
        """
        self._http.headers["X-Fontanel-Console"] = "client"
        return self._send(self._calls.accept_invitation(secret, name, password))

    def make_password_link(self, email: str) -> s.PasswordLinkCreated:
        """Create a link to set a new password with (operators only)."""
        return self._send(self._calls.make_password_link(email))

    def set_password(self, secret: str, new: str) -> None:
        """Set a new password with a link's secret; this ends all sign-ins of the person."""
        self._http.headers["X-Fontanel-Console"] = "client"
        self._send(self._calls.set_password(secret, new))

    def list_sign_ins(self) -> list[s.SignInOut]:
        """Where the person is signed in, newest first."""
        return (self._send(self._calls.list_sign_ins())).items

    def end_other_sign_ins(self) -> None:
        """Sign the person out everywhere but here."""
        self._send(self._calls.end_other_sign_ins())

    def set_grants(
        self, team: str, folders: Sequence[str] | None, networks: Sequence[str] | None
    ) -> s.TeamOut:
        """Set the folders and networks that the team's sources may read (operators only).

        None grants everything that the service allows.
        """
        return self._send(self._calls.set_grants(team, folders, networks))

    def delete_team(self, team: str) -> None:
        """Delete a team with all that it has (operators only)."""
        self._send(self._calls.delete_team(team))

    def change_member(self, member: str, role: RoleName) -> s.MemberOut:
        """Give a member another role; by id or e-mail."""
        return self._send(self._calls.change_member(member, role))

    def remove_member(self, member: str) -> None:
        """By id or e-mail."""
        self._send(self._calls.remove_member(member))

    def erase_person(self, person: str) -> s.ErasureOut:
        """Erase a person, by e-mail address or id (operators only). It cannot be undone."""
        return self._send(self._calls.erase_person(person))

    def list_erasures(self) -> list[s.ErasureOut]:
        """Return the proofs of erasures, the newest first (operators only)."""
        return self._send(self._calls.list_erasures())

    def list_keys(self) -> list[s.KeyOut]:
        return (self._send(self._calls.list_keys())).items

    def make_key(
        self,
        name: str,
        role: Literal["reader", "editor", "owner"] = "reader",
        kbs: Sequence[str] | None = None,
        expires_in_days: int | None = None,
        requests_per_minute: int | None = None,
    ) -> s.KeyCreated:
        """The key itself is in `.secret` of this answer only.

        Args:
            requests_per_minute: Its own limit; None for that of the team's quota.
        """
        call = self._calls.make_key(name, role, kbs, expires_in_days, requests_per_minute)
        return self._send(call)

    def revoke_key(self, key: str) -> None:
        self._send(self._calls.revoke_key(key))
