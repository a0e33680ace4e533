"""Serve the demo: Skerrow Harbour Trust with two teams.

The first run adds documents.
"""

from __future__ import annotations

import json
import os
import re
import secrets
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import httpx

from channels import build_channel
from desks import build
from fontanel.client import Client
from fontanel.schemas import (
    Columns,
    ModelChange,
    ModelIn,
    SourceIn,
    TagRule,
    TranscriberChange,
    TranscriberIn,
)
from trials import build_trials

HERE = Path(__file__).parent
DATA = HERE.parent / "var" / "demo"
NOTES = DATA / "demo.json"

#: Team, its owner, and its knowledge base with the folder it is filled from.
TEAMS = (
    (
        "Marine Operations",
        ("I. Varda", "varda@skerrow.example"),
        ("Harbour rules", "Pilotage, berths, storms, cranes, buoys, the lock"),
    ),
    (
        "Passenger Services",
        ("T. Osmund", "osmund@skerrow.example"),
        ("Passenger handbook", "Tickets, access, luggage, pets, the winter timetable"),
    ),
)
#: A team's second knowledge base: slides, sheets, a scan, mail, a table of questions.
NOTICES = ("Notices and returns", "Briefings, returns, notices and letters, as they came")
#: What is heard in its recordings.
EARS = "duty-ears"
#: What describes its pictures.
EYES = "harbour-eyes"
#: A third one has only sources: a watched folder, a site, a bucket, a drive, a table.
LIVE = ("Live sources", "Kept by a folder, a web site, a bucket, a drive and a database")
LIVE_DATA = DATA / "live"
#: The simulated outside services: name, options; each on a port above the service's.
SIMULATORS = (
    ("site", "site"),
    ("bucket", "bucket", "--access-key", "skerrow", "--secret-key", "a key for the demo"),
    ("drive", "drive", "--user", "skerrow", "--password", "tide-table"),
)
BUOYS = (
    (
        "Garrack",
        "red can",
        "Fl R 5s",
        "outer channel",
        "2026-09-14",
        "Lifted and painted in September; the topmark was straightened.",
    ),
    (
        "Whelk North",
        "north cardinal",
        "Q",
        "outer channel",
        "2026-04-02",
        "Its battery was replaced; the next is due in April 2028.",
    ),
    (
        "Skate",
        "green cone",
        "Fl G 3s",
        "inner channel",
        "2026-06-20",
        "Marks the turn to the lock. Kept 15 metres west of the pipeline.",
    ),
    (
        "Old Kirk",
        "special, yellow",
        "Fl Y 10s",
        "roads",
        "2025-11-08",
        "Wave gauge buoy; vessels keep 200 metres off.",
    ),
    (
        "Brannock",
        "red can",
        "Fl(2) R 6s",
        "inner channel",
        "2026-05-11",
        "Reported adrift on 3 May 2026 and laid again on 11 May.",
    ),
    (
        "Ferry Bell",
        "safe water",
        "Iso 6s",
        "roads",
        "2026-07-30",
        "Carries a bell. The pilot boards half a mile east of it.",
    ),
)

#: What the columns of a table mean, by document: its rows become documents.
COLUMNS = {"yard-questions.csv": Columns(title="Question", text=["Answer"], tags=["Area"])}
#: What is in recordings and pictures, for the simulators alone.
SCRIPTS = {"visitors-pontoon.vtt", "quay-photo.txt"}
#: Tags that narrow a search, by document.
TAGS = {
    "heavy-weather-notice-2019.txt": {"status": "superseded", "year": "2019"},
    "storm-plan.pdf": {"status": "in force", "year": "2024"},
}


def main() -> int:
    port = os.environ.get("FONTANEL_PORT", "8460")
    url = f"http://127.0.0.1:{port}"
    log = _log_file()
    _lay_out()
    environment = {
        **os.environ,
        "FONTANEL_SOURCE_ROOTS": str(LIVE_DATA),
        "FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8",
    }
    service = subprocess.Popen(
        [sys.executable, "-m", "fontanel.cli", "serve", "--data", str(DATA)],
        stdout=subprocess.PIPE,
        stderr=log.open("ab"),
        text=True,
        start_new_session=True,
        env=environment,
    )
    models = int(port) + len(SIMULATORS) + 1
    notes = json.loads(NOTES.read_text()) if NOTES.exists() else {}
    chat_secret = notes.get("chat_secret") or secrets.token_urlsafe(24)
    started = [
        *((kind, str(LIVE_DATA / folder), *options) for kind, folder, *options in SIMULATORS),
        ("model", "--pace", "0.02"),
        ("ears", "--script", str(HERE / "recordings" / "visitors-pontoon.vtt")),
        ("eyes", "--pictures", str(HERE / "pictures")),
        ("chat", "--secret", chat_secret),
    ]
    simulators = [
        _simulator(log, int(port) + number, *words) for number, words in enumerate(started, start=1)
    ]
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, lambda *_: service.send_signal(signal.SIGINT))
    try:
        return _serve(service, url, models, chat_secret)
    finally:
        for simulator in simulators:
            simulator.terminate()


def _simulator(log: Path, port: int, kind: str, *options: str) -> subprocess.Popen[bytes]:
    """Start a simulator on a port."""
    return subprocess.Popen(
        [
            sys.executable,
            "-m",
            "fontanel.cli",
            "simulator",
            kind,
            *options,
            "--port",
            str(port),
        ],
        stdout=subprocess.DEVNULL,
        stderr=log.open("ab"),
        start_new_session=True,
    )


def _lay_out() -> None:
    """Copy what the sources read to where it may be edited; make the table of buoys."""
    if LIVE_DATA.exists():
        return
    scratch = LIVE_DATA.with_suffix(".part")
    shutil.rmtree(scratch, ignore_errors=True)
    shutil.copytree(HERE / "live", scratch)
    with sqlite3.connect(scratch / "buoys.db") as db:
        db.execute(
            "create table buoys (name text primary key, shape text, light text, area text, checked"
            " text, remarks text)"
        )
        db.executemany("insert into buoys values (?, ?, ?, ?, ?, ?)", BUOYS)
    scratch.rename(LIVE_DATA)


def _serve(service: subprocess.Popen[str], url: str, models: int, chat_secret: str) -> int:
    password: list[str] = []
    assert service.stdout is not None
    threading.Thread(target=_listen, args=(service.stdout, password), daemon=True).start()
    if not _wait_until_ready(url, service):
        print(f"The service did not start; see {_log_file()}.", file=sys.stderr)
        return service.wait() or 1
    notes = json.loads(NOTES.read_text()) if NOTES.exists() else _set_up(url, password[0])
    _load(url, notes)
    build(url, notes, models)
    notes["chat_secret"] = chat_secret
    build_channel(url, notes, models + 3)
    build_trials(url, notes)
    NOTES.write_text(json.dumps(notes, indent=2))
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
    """Create teams, owners, keys and knowledge bases.

    Store one-time secrets with the demo.
    """
    notes: dict[str, Any] = {"operator": password, "teams": []}
    with Client(url) as operator:
        operator.sign_in("operator@localhost", password)
        for name, (person, email), (kb, description) in TEAMS:
            team = operator.create_team(name)
            operator.use_team(team.slug)
            operator.set_grants(team.slug, None, None)
            secret, password = (
                operator.invite(email, person, "owner").secret,
                secrets.token_urlsafe(9),
            )
            with Client(url, team=team.slug) as owner:
                owner.accept_invitation(str(secret), password=password)
                key = owner.make_key("demo", "owner")
            with Client(url, key.secret, team.slug) as client:
                slug = client.create_kb(kb, description).slug
            notes["teams"].append(
                {
                    "team": team.slug,
                    "name": name,
                    "email": email,
                    "password": password,
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
        profile.write_text(
            "".join(
                f'{name} = "{value}"\n'
                for name, value in (
                    ("url", url),
                    ("key", item["key"]),
                    ("team", item["team"]),
                    ("kb", item["kb"]),
                )
            )
        )
        if item is notes["teams"][0]:
            _register_eyes_and_ears(url, notes)
        with Client(url, item["key"], item["team"]) as client:
            folders = [(item["kb"], HERE / "documents" / item["team"])]
            if item is notes["teams"][0]:
                there = {kb.name: kb.slug for kb in client.list_kbs()}
                slug = there.get(NOTICES[0]) or client.create_kb(*NOTICES).slug
                client.change_kb(slug, transcriber=EARS, viewer=EYES)
                folders += [(slug, HERE / name) for name in ("notices", "recordings", "pictures")]
            for kb, folder in folders:
                existing = {document.name for document in client.list_documents(kb)}
                files = [
                    path
                    for path in sorted(folder.iterdir())
                    if path.name not in existing and path.name not in SCRIPTS
                ]
                for path in files:
                    client.add_document(
                        kb, path, tags=TAGS.get(path.name), columns=COLUMNS.get(path.name)
                    )
                for path in files:
                    document = client.wait_for_document(kb, path.name)
                    print(f"  {document.state:8} {item['name']} / {document.title}", flush=True)
            if item is notes["teams"][1] and not client.list_approved(item["kb"], limit=1):
                client.import_approved(item["kb"], (HERE / "approved.jsonl").read_text())
            if item is notes["teams"][0]:
                _connect(client, int(url.rpartition(":")[2]))


def _register_eyes_and_ears(url: str, notes: dict[str, Any]) -> None:
    """Register the simulated transcriber, and the model that sees."""
    port = int(url.rpartition(":")[2]) + len(SIMULATORS) + 2
    address, eyes = (f"http://127.0.0.1:{port + n}/v1" for n in range(2))
    with Client(url) as operator:
        operator.sign_in("operator@localhost", notes["operator"])
        if EYES in {one.name for one in operator.list_models()}:
            operator.change_model(EYES, ModelChange(url=eyes))
        else:
            operator.create_model(
                ModelIn(name=EYES, url=eyes, remote="colours", price_read=0.4, price_written=1.6)
            )
        if EARS in {one.name for one in operator.list_transcribers()}:
            operator.change_transcriber(EARS, TranscriberChange(url=address))
            return
        _wait_for_port(address)
        operator.register_transcriber(
            TranscriberIn(name=EARS, url=address, remote="tones", price=0.006)
        )


def _wait_for_port(address: str) -> None:
    while True:
        try:
            httpx.get(address)
            return
        except httpx.TransportError:
            time.sleep(0.1)


def _connect(client: Client, port: int) -> None:
    """Connect the live knowledge base's sources, and wait for their first runs."""
    there = {kb.name: kb.slug for kb in client.list_kbs()}
    kb = there.get(LIVE[0]) or client.create_kb(*LIVE).slug
    existing = {source.name for source in client.list_sources(kb)}
    for source in _sources(port):
        if source.name not in existing:
            made = client.connect_source(kb, source)
            run = client.wait_for_sync(kb, made.id, "latest")
            print(
                f"  {run.state:8} {LIVE[0]} / {source.name}: {run.added} added, {run.skipped}"
                " skipped",
                flush=True,
            )


def _sources(port: int) -> list[SourceIn]:
    local = "http://127.0.0.1"
    rule = TagRule(pattern="2026/**", tags={"year": "2026"})
    return [
        SourceIn(
            name="Notices folder",
            kind="folder",
            settings={"path": str(LIVE_DATA / "notices")},
            tag_rules=[rule],
            target_minutes=1,
        ),
        SourceIn(
            name="Web site",
            kind="site",
            settings={"start": [f"{local}:{port + 1}/"], "delay": 0},
            every_minutes=5,
        ),
        SourceIn(
            name="Crane manuals",
            kind="bucket",
            settings={"endpoint": f"{local}:{port + 2}", "bucket": "crane-manuals"},
            credentials={"access_key": "skerrow", "secret_key": "a key for the demo"},
            every_minutes=5,
        ),
        SourceIn(
            name="Lock drive",
            kind="webdav",
            settings={"url": f"{local}:{port + 3}/"},
            credentials={"user": "skerrow", "password": "tide-table"},
            every_minutes=5,
        ),
        SourceIn(
            name="Buoys",
            kind="sql",
            every_minutes=5,
            settings={
                "system": "sqlite",
                "database": str(LIVE_DATA / "buoys.db"),
                "query": "select * from buoys",
                "identity": ["name"],
                "title": "name",
                "text": ["shape", "light", "area", "checked", "remarks"],
                "tags": ["area"],
                "changed_at": "checked",
            },
        ),
    ]


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
    print(
        '  fontanel ask --file demo/documents/passenger-services/vehicles.md "What does a'
        ' motorcycle cost?"'
    )
    notice = os.path.relpath(LIVE_DATA / "notices/2026/small-craft-basin.md")
    print("\nWatch an answer follow its source")
    print('  fontanel ask --kb live-sources "What is the speed limit in the small craft basin?"')
    print(f"  sed -i 's/is 4 knots/is 3 knots/' {notice}")
    print('  fontanel ask --kb live-sources "What is the speed limit in the small craft basin?"')
    print("  fontanel source list --kb live-sources")
    print("\nTalk to a desk")
    for name, link in notes["links"]:
        print(f"  {name}, open to anyone: {link}")
    print(
        '  fontanel ask --desk written-answers "What is the wind limit for leaving the outer'
        ' berth?"'
    )
    print("  fontanel desk answers written-answers")
    print(f"  In a chat room: {notes['chat_room']}")
    print("\nMeasure the answers")
    print("  fontanel trial list")
    print("\nCtrl-C stops the service. The data stay in var/demo.", flush=True)


if __name__ == "__main__":
    sys.exit(main())
