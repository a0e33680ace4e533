"""A request to a fork server. Imports little: its launcher runs it for each command."""

from __future__ import annotations

import json
import os
import socket
import sys


def request(
    address: str,
    arguments: list[str],
    environment: dict[str, str],
    streams: list[int],
    folder: str,
    session: bool,
) -> socket.socket:
    """Ask for a process; return the connection that sends its id and its exit code.

    The process is killed when the connection is closed before its end.
    """
    connection = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    connection.connect(address)
    content = {
        "arguments": arguments,
        "environment": environment,
        "folder": folder,
        "session": session,
    }
    socket.send_fds(connection, [json.dumps(content).encode()], streams)
    return connection


def launch(address: str) -> int:
    """Run `fontanel` with this process's arguments and streams; return its exit code."""
    connection = request(
        address, sys.argv[1:], dict(os.environ), [0, 1, 2], os.getcwd(), session=False
    )
    connection.recv(100)
    code: int = json.loads(connection.recv(100))
    return code if code >= 0 else 128 - code
