"""A mail system on this machine: aiosmtpd takes mail, Dovecot serves the mailboxes."""

from __future__ import annotations

import getpass
import grp
import os
import shutil
import smtplib
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from email import message_from_bytes, policy
from email.message import EmailMessage
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller

from tests.conftest import free_port, until

ADDRESS = "ask@skerrow.example"
_DOVECOT = "/usr/sbin/dovecot"
#: The user of mailboxes, where the tests run as root.
_OWNER = "mail"
_CONFIGURATION = """
base_dir = {base}/run
state_dir = {base}/state
log_path = {base}/dovecot.log
protocols = imap
listen = 127.0.0.1
ssl = no
disable_plaintext_auth = no
default_internal_user = {internal}
default_internal_group = {internal_group}
default_login_user = {login}
first_valid_uid = 0
first_valid_gid = 0
mail_location = maildir:{base}/mail
{capability}
passdb {{
  driver = static
  args = password=tide-table
}}
userdb {{
  driver = static
  args = uid={user} gid={group} home={base}
}}
service imap-login {{
  chroot =
  inet_listener imap {{
    port = {port}
  }}
  inet_listener imaps {{
    port = 0
  }}
}}
service anvil {{
  chroot =
}}
"""


@dataclass
class MailSystem:
    """Mail to `ADDRESS` is put into its mailbox; all other mail is collected."""

    base: Path
    imap_port: int
    smtp_port: int
    sent: list[EmailMessage] = field(default_factory=list)
    #: Replies to the next messages for others than `ADDRESS`, such as "451 later".
    refusals: list[str] = field(default_factory=list)
    number: int = 0

    async def handle_DATA(  # noqa: N802 - aiosmtpd calls it
        self, server: Any, session: Any, envelope: Any
    ) -> str:
        content = bytes(envelope.content)
        if envelope.rcpt_tos == [ADDRESS]:
            self.deliver(content)
        elif self.refusals:
            return self.refusals.pop(0)
        else:
            message = message_from_bytes(content, policy=policy.default)
            assert isinstance(message, EmailMessage)
            self.sent.append(message)
        return "250 OK"

    def deliver(self, content: bytes) -> None:
        """Put a message into the mailbox, as mail servers do with a Maildir."""
        self.number += 1
        name = f"{time.time_ns()}.{self.number}.test"
        file = self.base / "mail" / "tmp" / name
        file.write_bytes(content)
        _give(file)
        file.rename(self.base / "mail" / "new" / name)

    def make_mailbox(self) -> None:
        """Create the directories of the Maildir."""
        for name in ("", "tmp", "new", "cur"):
            folder = self.base / "mail" / name
            folder.mkdir(exist_ok=True)
            _give(folder)

    def write(self, text: str, to: EmailMessage | None = None, **headers: str) -> EmailMessage:
        """Send a message to the channel over SMTP, as an answer to another one if one is named."""
        self.number += 1
        message = EmailMessage()
        message["From"] = headers.pop("From", "A mate <mate@skerrow.example>")
        message["To"] = ADDRESS
        message["Subject"] = headers.pop("Subject", "The harbour")
        message["Message-ID"] = headers.pop("Message_ID", f"<{self.number}@skerrow.example>")
        if to is not None:
            message["In-Reply-To"] = to["Message-ID"]
            message["References"] = f"{to['References'] or ''} {to['Message-ID']}".strip()
        for name, value in headers.items():
            message[name.replace("_", "-")] = value
        message.set_content(text)
        with smtplib.SMTP("127.0.0.1", self.smtp_port) as server:
            server.send_message(message)
        return message

    def answer_to(self, message: EmailMessage) -> EmailMessage:
        """Wait for the answer to a message, which is the only one."""

        def mine() -> list[EmailMessage]:
            return [one for one in self.sent if one["In-Reply-To"] == message["Message-ID"]]

        until(mine)
        (answer,) = mine()
        return answer

    def settings(self, **more: Any) -> dict[str, Any]:
        return {
            "address": ADDRESS,
            "imap": f"imap://127.0.0.1:{self.imap_port}",
            "smtp": f"smtp://127.0.0.1:{self.smtp_port}",
            "poll_seconds": 1,
            **more,
        }


def _give(path: Path) -> None:
    """Make the mailbox's user the owner of a file or folder."""
    if os.getuid() == 0:
        shutil.chown(path, _OWNER, _OWNER)


@contextmanager
def dovecot(system: MailSystem, capability: str = "") -> Iterator[None]:
    """Run Dovecot on the mailbox while the block runs."""
    root = os.getuid() == 0
    own = getpass.getuser(), grp.getgrgid(os.getgid()).gr_name
    # Processes that strangers talk to, and those that open mailboxes, do not run as root.
    user, group = (_OWNER, _OWNER) if root else own
    system.make_mailbox()
    (system.base / "dovecot.conf").write_text(
        _CONFIGURATION.format(
            base=system.base,
            port=system.imap_port,
            user=user,
            group=group,
            internal="dovecot" if root else user,
            internal_group="dovecot" if root else group,
            login="dovenull" if root else user,
            capability=capability,
        )
    )
    command = [_DOVECOT, "-F", "-c", str(system.base / "dovecot.conf")]
    process = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
    log = system.base / "dovecot.log"
    until(lambda: (log.exists() and "starting up" in log.read_text()) or process.poll() is not None)
    assert process.poll() is None, process.communicate()[1]
    try:
        yield
    finally:
        process.terminate()
        process.wait(20)


@contextmanager
def mail_system(base: Path, capability: str = "") -> Iterator[MailSystem]:
    """Run a new mail system while the block runs."""
    base.mkdir()
    base.parent.chmod(0o755)
    system = MailSystem(base, free_port(), free_port())
    with running(system, capability):
        yield system


@contextmanager
def running(system: MailSystem, capability: str = "") -> Iterator[None]:
    """Run both servers of a mail system while the block runs."""
    controller = Controller(system, hostname="127.0.0.1", port=system.smtp_port)
    controller.start()
    try:
        with dovecot(system, capability):
            yield
    finally:
        controller.stop()
