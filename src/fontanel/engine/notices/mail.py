"""Sending e-mail over SMTP (RFC 5321), if the operator has set a mail server."""

from __future__ import annotations

import smtplib
import ssl
from email.message import EmailMessage
from urllib.parse import unquote, urlsplit

from fontanel.errors import MailFailed
from fontanel.settings import Settings

_SECONDS = 15.0


def mails(settings: Settings) -> bool:
    """Whether a mail server is set."""
    return bool(settings.smtp_url)


def send_mail(settings: Settings, to: str, subject: str, text: str) -> None:
    """Send a message. Raises MailFailed.

    FONTANEL_SMTP_URL is `smtp://` (with STARTTLS where the server offers it) or `smtps://`,
    with user and password as needed.
    """
    message = EmailMessage()
    message["From"], message["To"], message["Subject"] = settings.smtp_from, to, subject
    message.set_content(text)
    url = urlsplit(settings.smtp_url)
    context = ssl.create_default_context()
    host = url.hostname or "localhost"
    try:
        with (
            smtplib.SMTP_SSL(host, url.port or 465, timeout=_SECONDS, context=context)
            if url.scheme == "smtps"
            else smtplib.SMTP(host, url.port or 25, timeout=_SECONDS)
        ) as server:
            if url.scheme != "smtps" and server.has_extn("starttls"):
                server.starttls(context=context)
            if url.username:
                server.login(unquote(url.username), unquote(url.password or ""))
            server.send_message(message)
    except (OSError, smtplib.SMTPException, ValueError) as error:
        raise MailFailed(
            f"The mail server did not accept the message for {to}: {error}."
        ) from error
