"""E-mail: a mailbox is read over IMAP (RFC 9051), answers are sent over SMTP (RFC 5321).

Automatic messages are not answered, and answers are marked as such (RFC 3834). A thread is what
References name (RFC 5322).
"""

from __future__ import annotations

import smtplib
import ssl
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from email import message_from_bytes, policy
from email.headerregistry import Address
from email.message import EmailMessage
from email.utils import format_datetime
from ipaddress import ip_address
from typing import Any
from urllib.parse import urlsplit

import structlog
from imapclient import IMAPClient
from imapclient.exceptions import IMAPClientError, LoginError
from pydantic import Field

from fontanel.channels.mail_text import (
    authenticated,
    automatic,
    header,
    references,
    sender_of,
    written_text,
)
from fontanel.channels.protocol import (
    MAX_NAME,
    Channel,
    ChannelSettings,
    ChannelUnavailable,
    Incoming,
    Kind,
    MessageRefused,
    Outgoing,
    Take,
    checked_address,
)
from fontanel.channels.writing import html_text, plain_text
from fontanel.sources.network.named_tls import named_context
from fontanel.sources.protocol import SettingsModel, SettingsRefused, SourceLimits

log = structlog.get_logger()

#: The beginning of a message that is read, and how long its header may be.
_MAX_BYTES, _MAX_HEADER = 1_000_000, 100_000
_BATCH = 20
#: Seconds between two looks at whether to stop.
_LOOK = 1.0
_REFUSED_FROM = 500
_MAX_REFERENCES = 20


class MailSettings(ChannelSettings):
    address: str = Field(
        min_length=3,
        max_length=320,
        pattern=r"^[^\s@<>,;\"]+@[^\s@<>,;\"]+$",
        title="Address",
        description="The address that people write to, which answers come from.",
        examples=["ask@skerrow.example"],
    )
    imap: str = Field(
        min_length=1,
        max_length=500,
        title="Mailbox server",
        description="imaps://host, or imap://host with STARTTLS; with a port if it is unusual.",
        examples=["imaps://mail.skerrow.example"],
    )
    smtp: str = Field(
        min_length=1,
        max_length=500,
        title="Server for sending",
        description="smtps://host, or smtp://host with STARTTLS.",
        examples=["smtps://mail.skerrow.example"],
    )
    sender_name: str = Field("", max_length=120, title="Name of the sender")
    folder: str = Field("INBOX", min_length=1, max_length=200, title="Folder")
    poll_seconds: int = Field(
        20,
        ge=1,
        le=3600,
        title="Seconds between looks",
        description="A server that reports new messages is looked at sooner.",
    )
    authentication_server: str = Field(
        "",
        max_length=253,
        title="Trusted mail server",
        description="The name that your mail server writes into Authentication-Results. With it,"
        " only messages that pass DMARC are answered; without it, senders can be forged.",
    )


class MailCredentials(SettingsModel):
    user: str = Field("", max_length=320, title="User name")
    password: str = Field("", max_length=1000, title="Password")
    smtp_user: str = Field(
        "", max_length=320, title="User name for sending", description="If it is another one."
    )
    smtp_password: str = Field("", max_length=1000, title="Password for sending")


class _Server:
    """A host with a checked address, and whether TLS is used from the start."""

    def __init__(
        self, url: str, field: str, schemes: tuple[str, str], ports: tuple[int, int]
    ) -> None:
        parts = urlsplit(url)
        try:
            port = parts.port
        except ValueError as error:
            raise SettingsRefused(field, f"{url[:200]!r} has no valid port.") from error
        if parts.scheme not in schemes or not parts.hostname or parts.path not in ("", "/"):
            raise SettingsRefused(
                field, f"{url[:200]!r} is not an address like {schemes[1]}://host."
            )
        if parts.username or parts.password:
            raise SettingsRefused(field, "Enter name and password as credentials.")
        self.host = parts.hostname
        self.secure = parts.scheme == schemes[1]
        self.port = port or ports[self.secure]

    def address(self, limits: SourceLimits) -> str:
        """Return an allowed address of the host. Raises ChannelUnavailable."""
        return checked_address(self.host, self.port, limits)


def _check_secret(address: str, host: str) -> None:
    """Check that a password may be sent without encryption: only within this machine."""
    if not ip_address(address).is_loopback:
        raise ChannelUnavailable(
            f"{host} offers no encryption, so the password is not sent.", again=False
        )


class MailChannel(Channel):
    """A mailbox; it is read in one thread, and answers are sent in others."""

    def __init__(
        self,
        settings: MailSettings,
        credentials: MailCredentials,
        limits: SourceLimits,
        position: str,
    ) -> None:
        self._settings = settings
        self._credentials = credentials
        self._limits = limits
        self._position = position
        self._imap = _Server(settings.imap, "imap", ("imap", "imaps"), (143, 993))
        self._smtp = _Server(settings.smtp, "smtp", ("smtp", "smtps"), (25, 465))
        if not settings.address.isascii():
            raise SettingsRefused("address", "The address has letters that are not ASCII.")

    def receive(self, take: Take, stopping: Callable[[], bool]) -> None:
        """Read new messages, and wait for more."""
        address = self._imap.address(self._limits)
        try:
            with self._connected(address) as mailbox:
                self._watch(mailbox, take, stopping)
        except LoginError as error:
            raise ChannelUnavailable(
                f"{self._imap.host} refuses the user name or password: {_text(error)}", again=False
            ) from error
        except (IMAPClientError, OSError) as error:
            raise ChannelUnavailable(f"{self._imap.host} failed: {_text(error)}") from error

    def _connected(self, address: str) -> IMAPClient:
        """Return a connection with the folder selected."""
        context = named_context(self._imap.host)
        mailbox = IMAPClient(
            address,
            self._imap.port,
            ssl=self._imap.secure,
            ssl_context=context if self._imap.secure else None,
            timeout=self._limits.seconds,
        )
        if not self._imap.secure:
            if mailbox.has_capability("STARTTLS"):
                mailbox.starttls(context)
            else:
                _check_secret(address, self._imap.host)
        mailbox.login(self._credentials.user, self._credentials.password)
        return mailbox

    def _watch(self, mailbox: IMAPClient, take: Take, stopping: Callable[[], bool]) -> None:
        state = mailbox.select_folder(self._settings.folder)
        validity, following = int(state[b"UIDVALIDITY"]), int(state.get(b"UIDNEXT", 1))
        before, _, last_text = self._position.partition(":")
        last = int(last_text or 0)
        if not self._position:
            last = following - 1  # what was there before the channel is not answered
        elif before != str(validity):
            # The folder was made again: look at the last days; known messages stay known.
            since = (datetime.now(UTC) - timedelta(days=2)).date()
            last = min(mailbox.search(["SINCE", since]), default=following) - 1
        take([], f"{validity}:{last}")
        while not stopping():
            last = self._read(mailbox, take, validity, last)
            self._wait(mailbox, stopping)

    def _read(self, mailbox: IMAPClient, take: Take, validity: int, last: int) -> int:
        """Pass on the messages after one; return the last one now."""
        uids = sorted(uid for uid in mailbox.search(["UID", f"{last + 1}:*"]) if uid > last)
        for start in range(0, len(uids), _BATCH):
            batch = uids[start : start + _BATCH]
            parts = mailbox.fetch(batch, [f"BODY.PEEK[]<0.{_MAX_BYTES}>"])
            messages = [
                self._incoming(body)
                for uid in batch
                for name, body in parts.get(uid, {}).items()
                if name.startswith(b"BODY[")
            ]
            last = batch[-1]
            take([message for message in messages if message is not None], f"{validity}:{last}")
            mailbox.add_flags(batch, [b"\\Seen"], silent=True)
        return last

    def _wait(self, mailbox: IMAPClient, stopping: Callable[[], bool]) -> None:
        """Wait until the server reports something, or it is time to look again."""
        deadline = time.monotonic() + self._settings.poll_seconds
        if not mailbox.has_capability("IDLE"):
            while not stopping() and time.monotonic() < deadline:
                time.sleep(min(_LOOK, self._settings.poll_seconds))
            mailbox.noop()
            return
        mailbox.idle()
        try:
            while not stopping() and time.monotonic() < deadline:
                if mailbox.idle_check(timeout=_LOOK):
                    return
        finally:
            mailbox.idle_done()

    def _incoming(self, body: bytes) -> Incoming | None:
        """Return a message; None if it is none, or cannot be read."""
        if not 0 < _header_length(body) <= _MAX_HEADER:
            return None
        try:
            message = message_from_bytes(body, policy=policy.default)
            assert isinstance(message, EmailMessage)
            return self._message(message)
        except Exception:  # the parser of headers raises what it stumbles over
            # It must not stand in the way of those after it.
            log.exception("a message could not be read")
            return None

    def _message(self, message: EmailMessage) -> Incoming | None:
        message_id = header(message, "Message-ID")[:MAX_NAME]
        if not message_id:
            return None
        name, sender = sender_of(message)
        ignored = automatic(message, self._settings.address)
        server = self._settings.authentication_server
        if not ignored and server and not authenticated(message, server):
            ignored = "The mail server does not attest that the sender is who they say."
        earlier = references(message)
        subject = header(message, "Subject")[:MAX_NAME]
        return Incoming(
            id=message_id,
            sender=sender.lower()[:MAX_NAME] or "(no sender)",
            sender_name=name[:MAX_NAME],
            thread=(earlier[0] if earlier else message_id)[:MAX_NAME],
            text=written_text(message) or subject,
            address={
                "to": sender[:MAX_NAME],
                "subject": subject,
                "references": [*earlier[:1], *earlier[1:][-_MAX_REFERENCES:], message_id],
            },
            ignored=ignored,
        )

    def send(self, message: Outgoing) -> str:
        """Send an answer; its Message-ID stays the same over all attempts."""
        mail = self._mail(message)
        address = self._smtp.address(self._limits)
        user = self._credentials.smtp_user or self._credentials.user
        password = self._credentials.smtp_password or self._credentials.password
        context = named_context(self._smtp.host)
        try:
            with _smtp(address, self._smtp, context, self._limits.seconds) as server:
                if not self._smtp.secure and server.has_extn("starttls"):
                    server.starttls(context=context)
                if user and server.has_extn("auth"):
                    if not isinstance(server.sock, ssl.SSLSocket):
                        _check_secret(address, self._smtp.host)
                    server.login(user, password)
                server.send_message(mail)
        except smtplib.SMTPAuthenticationError as error:
            raise ChannelUnavailable(
                f"{self._smtp.host} refuses the user name or password: {_text(error)}", again=False
            ) from error
        except smtplib.SMTPNotSupportedError as error:
            raise MessageRefused(
                f"{self._smtp.host} cannot send to {message.address['to']}: {_text(error)}"
            ) from error
        except smtplib.SMTPRecipientsRefused as error:
            _raise_refused(message, [code for code, _ in error.recipients.values()], error)
        except smtplib.SMTPResponseException as error:
            _raise_refused(message, [error.smtp_code], error)
        except (OSError, smtplib.SMTPException, ValueError) as error:
            raise ChannelUnavailable(f"{self._smtp.host} failed: {_text(error)}") from error
        return str(mail["Message-ID"])

    def _mail(self, message: Outgoing) -> EmailMessage:
        address = message.address
        mail = EmailMessage(policy=policy.SMTP)
        name, _, domain = self._settings.address.partition("@")
        mail["From"] = Address(self._settings.sender_name, name, domain)
        mail["To"] = str(address["to"])
        subject = str(address.get("subject") or "A message from Fontanel")
        mail["Subject"] = subject if subject.lower().startswith("re:") else f"Re: {subject}"
        mail["Date"] = format_datetime(datetime.now(UTC))
        mail["Message-ID"] = f"<{message.id}@{domain}>"
        if message.in_reply_to:
            mail["In-Reply-To"] = message.in_reply_to
            mail["References"] = " ".join(address.get("references", []))
        mail["Auto-Submitted"] = "auto-replied" if message.in_reply_to else "auto-generated"
        mail.set_content(plain_text(message.text, message.sources))
        mail.add_alternative(html_text(message.text, message.sources), subtype="html")
        return mail


def _header_length(body: bytes) -> int:
    """Return the length of a message's header; that of all of it if nothing follows."""
    ends = [at for at in (body.find(b"\r\n\r\n"), body.find(b"\n\n")) if at >= 0]
    return min(ends, default=len(body))


def _smtp(address: str, server: _Server, context: ssl.SSLContext, seconds: float) -> smtplib.SMTP:
    if server.secure:
        return smtplib.SMTP_SSL(address, server.port, timeout=seconds, context=context)
    return smtplib.SMTP(address, server.port, timeout=seconds)


def _raise_refused(message: Outgoing, codes: Sequence[int], error: Exception) -> None:
    """Raise what a server's reply codes mean: 5xx will not change (RFC 5321, section 4.2.1)."""
    if codes and min(codes) >= _REFUSED_FROM:
        raise MessageRefused(
            f"The mail server refuses the message to {message.address['to']}: {_text(error)}"
        ) from error
    raise ChannelUnavailable(f"The mail server asks to try later: {_text(error)}") from error


def _text(error: Exception) -> str:
    parts = [
        part.decode("utf-8", "replace") if isinstance(part, bytes) else str(part)
        for part in error.args
    ]
    return (" ".join(parts) or type(error).__name__)[:500]


def _address(settings: Any, room: str) -> Mapping[str, Any]:
    return {"to": room or settings.address, "subject": "", "references": []}


def _destination(settings: Any) -> str:
    hosts = []
    for url in (settings.imap, settings.smtp):
        with suppress(ValueError):
            hosts.append(f"{urlsplit(url).hostname}:{urlsplit(url).port or ''}")
    return " and ".join(hosts)


KIND = Kind(
    name="email",
    title="E-mail",
    description="A mailbox: people write to its address, and are answered by e-mail.",
    settings=MailSettings,
    credentials=MailCredentials,
    open=MailChannel,
    address=_address,
    destination=_destination,
    set_up=(
        "Make a mailbox of its own for the desk; messages that are there already are not answered.",
        "People ask by writing to the address, and follow up by replying.",
        "Mail can be forged: name your mail server as trusted, if it writes"
        " Authentication-Results.",
        "Automatic messages, mailing lists and bounces are not answered.",
    ),
)
