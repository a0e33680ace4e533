"""What a person wrote in an e-mail, and which messages must not be answered."""

from __future__ import annotations

from email import message_from_bytes, policy
from email.message import EmailMessage
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.channels.mail_text import (
    authenticated,
    automatic,
    header,
    references,
    sender_of,
    written_text,
)

OWN = "ask@skerrow.example"


def parsed(source: bytes) -> EmailMessage:
    message = message_from_bytes(source, policy=policy.default)
    assert isinstance(message, EmailMessage)
    return message


def mail(body: str = "Hello.", *, html: bool = False, **headers: Any) -> EmailMessage:
    message = EmailMessage()
    message["From"] = headers.pop("From", "A mate <mate@skerrow.example>")
    for name, value in headers.items():
        message[name.replace("_", "-")] = value
    message.set_content(body, subtype="html" if html else "plain")
    return parsed(message.as_bytes())


@pytest.mark.parametrize(
    "quoted",
    [
        "On Mon, 1 Dec 2026 at 10:00, Desk <ask@skerrow.example> wrote:\n> 38 knots\n",
        "Am 1. Dezember 2026 schrieb Desk:\n> 38 Knoten\n",
        "Le 1 décembre 2026, Desk a écrit :\n> 38 nœuds\n",
        "-----Original Message-----\nFrom: ask@skerrow.example\n38 knots\n",
        "________________________________\nFrom: Desk\n38 knots\n",
        "From: Desk <ask@skerrow.example>\nSent: Monday\n38 knots\n",
        "-- \nThe mate\nOn watch\n",
        "> 38 knots\n",
    ],
)
def test_quoted_text_and_signatures_are_left_out(quoted: str) -> None:
    assert written_text(mail(f"When is it pinned?\n\n{quoted}")) == "When is it pinned?"


def test_answers_between_quoted_lines_remain() -> None:
    text = "> Which crane?\nThe quay crane.\n\n\n\n> When?\nNow -- if you can.\n"
    assert written_text(mail(text)) == "The quay crane.\n\nNow -- if you can."


def test_html_without_markup() -> None:
    body = (
        "<html><head><style>p{color:red}</style><title>No</title></head><body><p>When is the"
        " <b>crane</b> pinned?</p><p>Thanks &amp; bye<br>Mate</p>"
        "<blockquote>38 knots</blockquote><script>alert(1)</script></body></html>"
    )
    lines = written_text(mail(body, html=True)).split("\n")
    assert [line for line in lines if line] == ["When is the crane pinned?", "Thanks & bye", "Mate"]


def test_plain_text_is_preferred() -> None:
    message = EmailMessage()
    message["From"] = "mate@skerrow.example"
    message.set_content("The plain one.")
    message.add_alternative("<p>The other one.</p>", subtype="html")
    message.add_attachment(b"x", maintype="application", subtype="pdf", filename="x.pdf")
    assert written_text(parsed(message.as_bytes())) == "The plain one."
    only = parsed(b"From: a@b.example\r\nContent-Type: application/pdf\r\n\r\nx")
    assert written_text(only) == ""


@pytest.mark.parametrize(
    ("headers", "reason"),
    [
        ({}, ""),
        ({"Auto_Submitted": "no"}, ""),
        ({"Auto_Submitted": "auto-replied; x=y"}, "automatically"),
        ({"Precedence": "Bulk"}, "to many"),
        ({"List_Id": "<news.skerrow.example>"}, "mailing list"),
        ({"List_Unsubscribe": "<mailto:x@y.example>"}, "mailing list"),
        ({"Return_Path": "<>"}, "automatically"),
        ({"From": "MAILER-DAEMON@skerrow.example"}, "automatically"),
        ({"From": "No-Reply@shop.example"}, "automatically"),
        ({"From": "Ask@Skerrow.example"}, "own address"),
        ({"From": "a@x.example, b@x.example"}, "no sender"),
        ({"From": "nobody"}, "no sender"),
    ],
)
def test_automatic_messages(headers: dict[str, Any], reason: str) -> None:
    found = automatic(mail(**headers), OWN)
    assert reason in found if reason else found == ""


def test_reports_are_not_answered() -> None:
    report = parsed(
        b"From: mate@skerrow.example\r\nContent-Type: multipart/report; boundary=b\r\n\r\n--b--\r\n"
    )
    assert automatic(report, OWN) == "It was sent automatically."


def test_who_attests_the_sender() -> None:
    server = "mx.skerrow.example"
    good = mail(Authentication_Results=f"{server}; spf=pass; dmarc=pass (p=reject)")
    assert authenticated(good, server)
    assert not authenticated(good, "mx.elsewhere.example")
    assert not authenticated(mail(), server)
    assert not authenticated(mail(Authentication_Results=f"{server}; dmarc=fail"), server)
    # The first result of the server counts: what a sender wrote below it does not.
    forged = parsed(
        f"Authentication-Results: {server}; dmarc=fail\r\n"
        f"Authentication-Results: {server}; dmarc=pass\r\n"
        "From: mate@skerrow.example\r\n\r\nx".encode()
    )
    assert not authenticated(forged, server)


def test_threads() -> None:
    assert references(mail(References="<a@x>  <b@x> no-id", In_Reply_To="<c@x>")) == [
        "<a@x>",
        "<b@x>",
    ]
    assert references(mail(In_Reply_To="<c@x>")) == ["<c@x>"]
    assert references(mail()) == []
    assert sender_of(mail(From="“Mate”, the <mate@x.example>"))[1] in ("mate@x.example", "")


@given(st.binary(max_size=400), st.binary(max_size=400))
def test_nothing_that_arrives_breaks_it(head: bytes, body: bytes) -> None:
    message = parsed(b"From: " + head + b"\r\nContent-Type: text/html\r\n\r\n" + body)
    assert isinstance(written_text(message), str)
    assert isinstance(automatic(message, OWN), str)
    assert isinstance(authenticated(message, "mx.skerrow.example"), bool)
    for name in ("From", "Subject", "Message-ID", "Date"):
        assert "\n" not in header(message, name)
    assert all(one.startswith("<") for one in references(message))


@given(
    st.sampled_from(["Content-Type", "Content-Transfer-Encoding", "From", "References", "Subject"]),
    st.text(max_size=200),
)
def test_nothing_in_a_header_breaks_it(name: str, value: str) -> None:
    source = f"{name}: {value}".encode("utf-8", "surrogatepass").replace(b"\n", b" ")
    message = parsed(source + b"\r\nMessage-ID: <a@x>\r\n\r\nHello.")
    assert isinstance(written_text(message), str)
    assert isinstance(automatic(message, OWN), str)
    assert isinstance(references(message), list)
