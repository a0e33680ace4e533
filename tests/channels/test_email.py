"""E-mail: questions in a mailbox of a real server, and answers sent by SMTP."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fontanel import schemas as s
from tests.channels.conftest import FOLLOW_UP, QUESTION, UNKNOWN, open_desk
from tests.channels.mailing import ADDRESS, MailSystem, mail_system, running
from tests.conftest import Service, TeamSetup, new_team, until


@pytest.fixture
def mail() -> Iterator[MailSystem]:
    # The paths of Dovecot's sockets must be short.
    with (
        tempfile.TemporaryDirectory(prefix="mail", dir="/tmp") as base,
        mail_system(Path(base) / "m") as system,
    ):
        yield system


def connect(team: TeamSetup, mail: MailSystem, **settings: object) -> None:
    team.client.create_channel(
        s.ChannelIn(
            name="Mail",
            desk="harbour-desk",
            kind="email",
            settings=mail.settings(**settings),
            credentials={"user": "ask", "password": "tide-table"},
        )
    )
    until(lambda: team.client.show_channel("Mail").connected_at)


def states(team: TeamSetup) -> dict[str, tuple[str, str]]:
    """Return the state of each message by its text, with the reason."""
    return {one.text: (one.state, one.reason) for one in team.client.list_channel_messages("Mail")}


def test_a_thread_by_mail(asked: TeamSetup, mail: MailSystem) -> None:
    mail.write("It was written before the channel was added.")
    connect(asked, mail, sender_name="Harbour desk", hand_over_to="watch@skerrow.example")
    first = mail.write(f"{QUESTION}\n\n-- \nThe mate\nOn watch", Subject="Cranes")
    answer = mail.answer_to(first)
    assert answer["From"] == f"Harbour desk <{ADDRESS}>"
    assert answer["To"] == "mate@skerrow.example"
    assert answer["Subject"] == "Re: Cranes"
    assert answer["Auto-Submitted"] == "auto-replied"
    plain, html = answer.get_body(("plain",)), answer.get_body(("html",))
    assert plain is not None
    assert html is not None
    assert "38 knots" in plain.get_content()
    assert "[1] Storm plan" in plain.get_content()
    assert f'<a href="{asked.service.url}/t/' in html.get_content()

    quoted = f"{FOLLOW_UP}\n\nOn Monday, Harbour desk wrote:\n> 38 knots\n"
    second = mail.answer_to(mail.write(quoted, to=answer, Subject="Re: Cranes"))
    body = second.get_body(("plain",))
    assert body is not None
    assert "44 knots" in body.get_content()
    assert second["Subject"] == "Re: Cranes"
    assert str(second["References"]).split()[0] == first["Message-ID"]

    declined = mail.answer_to(mail.write("", Subject=UNKNOWN))
    mail.answer_to(mail.write("person", to=declined))
    until(lambda: [one for one in mail.sent if one["To"] == "watch@skerrow.example"])
    mail.write("Thanks!", to=second)
    until(lambda: asked.client.list_feedback(helpful=True))
    until(
        lambda: (
            {one.state for one in asked.client.list_channel_messages("Mail")} == {"sent", "noted"}
        )
    )
    messages = list(asked.client.list_channel_messages("Mail"))
    assert len({one.conversation_id for one in messages if one.conversation_id}) == 2


def test_mail_that_is_not_answered(asked: TeamSetup, mail: MailSystem) -> None:
    connect(asked, mail, authentication_server="mx.skerrow.example")
    passed: dict[str, Any] = {
        "Authentication_Results": "mx.skerrow.example; dmarc=pass header.from=skerrow.example"
    }
    mail.write("Away until Monday. 1", Auto_Submitted="auto-replied", **passed)
    mail.write("News for you. 2", List_Id="<news.skerrow.example>", **passed)
    mail.write("News for you. 3", Precedence="bulk", **passed)
    mail.write("To myself. 4", From=ADDRESS, **passed)
    mail.write("Bounced. 5", From="MAILER-DAEMON@skerrow.example", **passed)
    mail.write("Two of us. 6", From="a@skerrow.example, b@skerrow.example", **passed)
    mail.write("Forged. 7")
    mail.write("Forged. 8", Authentication_Results="mx.skerrow.example; dmarc=fail, dkim=pass")
    mail.write("Forged. 9", Authentication_Results="mx.elsewhere.example; dmarc=pass")
    mail.deliver(b"no header at all")
    mail.deliver(
        b"From: a@skerrow.example\r\nMessage-ID: <bad@x>\r\nContent-Type: text/plain;"
        b" charset=no-such\r\n\r\nStrange. 10 \xff\r\n"
    )
    mail.deliver(
        b"From: \xff\xfe <m\xe9te@skerrow.example>\r\nSubject: \xe9\xff\r\n"
        b"Message-ID: <bytes@x>\r\nContent-Type: multipart/alternative; boundary\r\n"
        b"References: <\xff@x>\r\n\r\nEight. \xe9\r\n"
    )
    question = mail.write(QUESTION, **passed)
    mail.answer_to(question)
    assert len(mail.sent) == 1
    found = states(asked)
    assert {text[-2:].strip() for text, (state, _) in found.items() if state == "ignored"} >= {
        *"123456789"
    }
    assert found["Away until Monday. 1"][1] == "It was sent automatically."
    assert "attest" in found["Forged. 8"][1]


def test_a_message_that_is_there_twice_is_answered_once(asked: TeamSetup, mail: MailSystem) -> None:
    connect(asked, mail, max_words=20)
    first = mail.write(QUESTION, Message_ID="<twice@skerrow.example>")
    mail.answer_to(first)
    mail.write(QUESTION, Message_ID="<twice@skerrow.example>")
    mail.answer_to(mail.write("At what gust is the quay crane pinned?"))
    assert len(mail.sent) == 2


def test_the_servers_are_away_for_a_while(asked: TeamSetup, mail: MailSystem) -> None:
    connect(asked, mail)
    mail.refusals += ["451 try later", "550 no such user"]
    mail.write(QUESTION)
    until(lambda: states(asked).get(QUESTION, ("",))[0] == "failed")
    assert "550" in states(asked)[QUESTION][1]
    assert asked.client.show_channel("Mail").failing is None or mail.refusals == []
    asked.client.change_channel(
        "Mail", s.ChannelChange(credentials={"user": "ask", "password": "wrong"})
    )
    until(lambda: asked.client.show_channel("Mail").failing)
    assert "password" in str(asked.client.show_channel("Mail").failing)
    asked.client.change_channel(
        "Mail", s.ChannelChange(credentials={"user": "ask", "password": "tide-table"})
    )
    until(lambda: asked.client.show_channel("Mail").failing is None)
    mail.answer_to(mail.write("At what gust is the quay crane pinned?"))


def test_the_mailbox_server_restarts(tmp_path: Path, reaching: Service) -> None:
    team = new_team(reaching)
    open_desk(team)
    with tempfile.TemporaryDirectory(prefix="mail", dir="/tmp") as base:
        with mail_system(Path(base) / "m", "imap_capability = IMAP4rev1 LITERAL+") as mail:
            connect(team, mail)
            mail.answer_to(mail.write(QUESTION))
        # Neither server runs now.
        until(lambda: team.client.show_channel("Mail").failing)
        with running(mail):
            late = mail.write("At what gust is the quay crane pinned?")
            mail.answer_to(late)
    assert team.client.show_channel("Mail").failing is None


@pytest.mark.parametrize("point", ["message_taken", "message_answered"])
def test_killed_between_receipt_and_answer(asked: TeamSetup, mail: MailSystem, point: str) -> None:
    connect(asked, mail)
    service = asked.service
    service.stop()
    service.start(FONTANEL_FAULT=point)
    question = mail.write(QUESTION)
    until(lambda: service.process is not None and service.process.poll() is not None)
    service.start()
    mail.answer_to(question)
    until(lambda: states(asked)[QUESTION][0] == "sent")
    assert len(mail.sent) == 1
    assert len(list(asked.client.export_answers("harbour-desk"))) == 1
