"""Serve the demo scenario: Skerrow Harbour Trust with its two teams. The first run loads the documents."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import httpx

from fontanel.client import Client
from fontanel.schemas import Columns

HERE = Path(__file__).parent
DATA = HERE.parent / "var" / "demo"
NOTES = DATA / "demo.json"

#: Team, its owner, and its knowledge base with the folder it is filled from.
TEAMS = (
    ("Marine Operations", ("I. Varda", "varda@skerrow.example"), ("Harbour rules", "Pilotage, berths, storms, cranes, buoys, the lock")),
    ("Passenger Services", ("T. Osmund", "osmund@skerrow.example"), ("Passenger handbook", "Tickets, access, luggage, pets, the winter timetable")),
)  # fmt: skip
#: One team's second knowledge base: slides, sheets, a scan, a transcript, mail, a table of questions, an archive.
NOTICES = ("Notices and returns", "Briefings, returns, notices and letters, as they came")
#: What the columns of a table mean, by document: its rows become documents.
COLUMNS = {"yard-questions.csv": Columns(title="Question", text=["Answer"], tags=["Area"])}
#: Tags that narrow a search, by document.
TAGS = {
    "heavy-weather-notice-2019.txt": {"status": "superseded", "year": "2019"},
    "storm-plan.pdf": {"status": "in force", "year": "2024"},
}


def main() -> int:
    port = os.environ.get("FONTANEL_PORT", "8460")
    url = f"http://127.0.0.1:{port}"
    service = subprocess.Popen(
        [sys.executable, "-m", "fontanel.cli", "serve", "--data", str(DATA)],
        stdout=subprocess.PIPE, stderr=(_log_file()).open("ab"), text=True, start_new_session=True,
    )  # fmt: skip
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, lambda *_: service.send_signal(signal.SIGINT))
    password: list[str] = []
    assert service.stdout is not None
    threading.Thread(target=_listen, args=(service.stdout, password), daemon=True).start()
    if not _wait_until_ready(url, service):
        print(f"The service did not start; see {_log_file()}.", file=sys.stderr)
        return service.wait() or 1
    notes = json.loads(NOTES.read_text()) if NOTES.exists() else _set_up(url, password[0])
    _load(url, notes)
    _tell(url, notes)
    return service.wait()


def _log_file() -> Path:
    DATA.mkdir(parents=True, exist_ok=True)
    return DATA / "service.log"


def _listen(lines: Any, password: list[str]) -> None:
    for line in lines:
        if match := re.search(r"with the password (\S+)", line):
            password.append(match.group(1))


def _wait_until_ready(url: str, service: subprocess.Popen[str]) -> bool:
    while service.poll() is None:
        try:
            if httpx.get(f"{url}/health/ready").is_success:
                return True
        except httpx.TransportError:
            time.sleep(0.1)
    return False


def _set_up(url: str, password: str) -> dict[str, Any]:
    """Create teams, owners, keys and knowledge bases; keep what is shown only once in the demo's data directory."""
    notes: dict[str, Any] = {"operator": password, "teams": []}
    with Client(url) as operator:
        operator.sign_in("operator@localhost", password)
        for name, (person, email), (kb, description) in TEAMS:
            team = operator.create_team(name)
            operator.use_team(team.slug)
            owner = operator.add_member(email, person, "owner")
            key = operator.make_key("demo", "owner")
            with Client(url, key.secret, team.slug) as client:
                slug = client.create_kb(kb, description).slug
            notes["teams"].append(
                {
                    "team": team.slug,
                    "name": name,
                    "email": email,
                    "password": owner.password,
                    "key": key.secret,
                    "kb": slug,
                }
            )
    NOTES.touch(mode=0o600)
    NOTES.write_text(json.dumps(notes, indent=2))
    return notes


def _load(url: str, notes: dict[str, Any]) -> None:
    """Add the documents; those that are there already are left as they are."""
    for item in notes["teams"]:
        profile = DATA / f"{item['team']}.toml"
        profile.touch(mode=0o600)
        profile.write_text("".join(f'{name} = "{value}"\n' for name, value in
                                   (("url", url), ("key", item["key"]), ("team", item["team"]), ("kb", item["kb"]))))  # fmt: skip
        with Client(url, item["key"], item["team"]) as client:
            folders = [(item["kb"], HERE / "documents" / item["team"])]
            if item is notes["teams"][0]:
                there = {kb.name: kb.slug for kb in client.list_kbs()}
                slug = there.get(NOTICES[0]) or client.create_kb(*NOTICES).slug
                folders.append((slug, HERE / "notices"))
            for kb, folder in folders:
                known = {document.name for document in client.list_documents(kb)}
                files = [path for path in sorted(folder.iterdir()) if path.name not in known]
                for path in files:
                    client.add_document(kb, path, tags=TAGS.get(path.name), columns=COLUMNS.get(path.name))
                for path in files:
                    document = client.wait_for_document(kb, path.name)
                    print(f"  {document.state:8} {item['name']} / {document.title}", flush=True)


def _tell(url: str, notes: dict[str, Any]) -> None:
    marine = notes["teams"][0]
    profile = os.path.relpath(DATA / f"{marine['team']}.toml")
    print(f"\nSkerrow Harbour Trust is served on {url}\n")
    print("Sign in as")
    for item in notes["teams"]:
        print(f"  {item['email']:24} {item['password']}   ({item['name']})")
    print(f"  {'operator@localhost':24} {notes['operator']}   (operator of the service)")
    print("\nTry on the command line")
    print(f"  export FONTANEL_PROFILE={profile} PATH=$PWD/.venv/bin:$PATH")
    print('  fontanel ask "What is the wind limit for leaving the outer berth?"')
    print('  fontanel search "quay crane gust"')
    print('  fontanel ask --file demo/documents/passenger-services/vehicles.md "What does a motorcycle cost?"')
    print("\nCtrl-C stops the service. The data stay in var/demo.", flush=True)


if __name__ == "__main__":
    sys.exit(main())
