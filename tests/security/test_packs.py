"""Packs are hostile input.

No files read, no other team's content, no forged vectors.
"""

from __future__ import annotations

import hashlib
import io
import json
import random
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from fontanel.client import Invalid
from fontanel.engine.editions.pack_reader import verify_pack
from fontanel.errors import Refused
from fontanel.records.blobs import BlobStore
from tests import patient
from tests.conftest import STORM, TeamSetup, new_team
from tests.security.packs import entries_of, mutated, sealed, with_lines

PRIVATE = b"# Wage list\n\nThe pilot of the outer berth earns 4,711 a month."


@pytest.fixture
def pack(team: TeamSetup, storm: str, tmp_path: Path) -> bytes:
    target = tmp_path / "rules.pack.zip"
    team.client.export_edition(storm, 1, target)
    return target.read_bytes()


def refused(team: TeamSetup, pack: bytes, tmp_path: Path) -> str:
    """Import a pack that must be rejected without a trace; return the reason."""
    before = len(team.client.list_kbs())
    (tmp_path / "bad.zip").write_bytes(pack)
    with pytest.raises(Invalid) as caught:
        team.client.import_pack(tmp_path / "bad.zip", "Brought along")
    assert len(team.client.list_kbs()) == before
    return str(caught.value)


@pytest.mark.parametrize("field", ["sha256", "reading"])
@pytest.mark.parametrize(
    "target", ["./../fontanel.db", "./../secret.key", "/etc/passwd", "AB" * 32, "", "0" * 63]
)
def test_a_pack_names_no_file(
    team: TeamSetup, pack: bytes, tmp_path: Path, field: str, target: str
) -> None:
    changed = with_lines(pack, "documents.jsonl", lambda document: document.update({field: target}))
    assert "damaged" in refused(team, changed, tmp_path)


def test_a_pack_does_not_reach_content_that_another_team_stored(
    team: TeamSetup, pack: bytes, tmp_path: Path
) -> None:
    other = new_team(team.service)
    other.client.add_document(
        other.client.create_kb("Private").slug, PRIVATE, "wages.md", wait=True
    )
    stolen = hashlib.sha256(PRIVATE).hexdigest()
    changed = with_lines(pack, "documents.jsonl", lambda document: document.update(sha256=stolen))
    assert "damaged" in refused(team, changed, tmp_path)


@pytest.mark.parametrize(
    "name",
    ["", "../../secret.key", "..", "/etc/passwd", "A" * 64, "a" * 63, "é" * 64, "a" * 63 + "\n"],
)
def test_the_blob_store_takes_hashes_only(tmp_path: Path, name: str) -> None:
    with pytest.raises(ValueError, match="not the sha256"):
        BlobStore(tmp_path).path(name)


def vectors(rows: Any) -> bytes:
    out = io.BytesIO()
    np.save(out, np.asarray(rows))
    return out.getvalue()


def unit(rows: int, columns: int) -> np.ndarray[Any, np.dtype[np.float32]]:
    made = np.random.default_rng(1).normal(size=(rows, columns)).astype(np.float32)
    vectors: np.ndarray[Any, np.dtype[np.float32]] = made / np.linalg.norm(
        made, axis=1, keepdims=True
    )
    return vectors


@pytest.mark.parametrize(
    "kind", ["dimensions", "infinite", "long", "foreign", "doubles", "shape bomb"]
)
def test_vectors_of_its_own_making_are_refused(
    team: TeamSetup, pack: bytes, tmp_path: Path, kind: str
) -> None:
    entries = entries_of(pack)
    rows, columns = np.load(io.BytesIO(entries["vectors.npy"])).shape
    entries["vectors.npy"] = {
        "dimensions": vectors(unit(rows, 7)),
        "infinite": vectors(np.full((rows, columns), np.inf, dtype=np.float32)),
        "long": vectors(unit(rows, columns) * 40),
        "foreign": vectors(unit(rows, columns)),
        "doubles": vectors(unit(rows, columns).astype(np.float64)),
        "shape bomb": (
            entries["vectors.npy"].replace(f"({rows}, {columns})".encode(), b"(999999999, 384)")
        ),
    }[kind]
    assert "damaged" in refused(team, sealed(entries), tmp_path)


def test_passages_say_what_their_document_says(
    team: TeamSetup, pack: bytes, tmp_path: Path
) -> None:
    lie = with_lines(
        pack, "passages.jsonl", lambda p: p.update(text=p["text"].replace("28 knots", "82 knots"))
    )
    assert "damaged" in refused(team, lie, tmp_path)


@pytest.mark.parametrize(
    ("name", "values"),
    [
        ("documents.jsonl", {"created_at": "9999-12-31T23:59:59-23:59"}),
        ("documents.jsonl", {"created_at": "0001-01-01T00:00:00+23:59"}),
        ("documents.jsonl", {"media_type": "text/html\r\nX-Evil: 1"}),
        ("documents.jsonl", {"size": -5}),
        ("documents.jsonl", {"name": "../up.md"}),
        ("documents.jsonl", {"tags": {"a b": "c"}}),
        ("documents.jsonl", {"unknown": 1}),
        ("passages.jsonl", {"document": 99}),
        ("passages.jsonl", {"start": -1}),
        ("passages.jsonl", {"tokens": 2**70}),
    ],
)
def test_values_out_of_bounds_are_refused(
    team: TeamSetup, pack: bytes, tmp_path: Path, name: str, values: dict[str, Any]
) -> None:
    assert "damaged" in refused(
        team, with_lines(pack, name, lambda line: line.update(values)), tmp_path
    )


@pytest.mark.parametrize(
    "splitting", [{"target_tokens": -5}, {"target_tokens": 10**9}, {"table_mode": "none"}]
)
def test_settings_out_of_bounds_are_refused(
    team: TeamSetup, pack: bytes, tmp_path: Path, splitting: dict[str, Any]
) -> None:
    entries = entries_of(pack)
    manifest = json.loads(entries["manifest.json"])
    manifest["splitting"].update(splitting)
    entries["manifest.json"] = json.dumps(manifest).encode()
    assert "damaged" in refused(team, sealed(entries), tmp_path)


def test_deep_nesting_is_refused(team: TeamSetup, pack: bytes, tmp_path: Path) -> None:
    for name in ("documents.jsonl", "manifest.json"):
        entries = entries_of(pack)
        whole = sealed(entries) if name != "manifest.json" else b""
        entries[name] = b"[" * 200_000
        (tmp_path / "deep.zip").write_bytes(whole)
        out = sealed(entries) if name != "manifest.json" else _with_manifest(pack, b"[" * 200_000)
        assert refused(team, out, tmp_path)


def _with_manifest(pack: bytes, manifest: bytes) -> bytes:
    import zipfile

    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, data in {**entries_of(pack), "manifest.json": manifest}.items():
            archive.writestr(name, data)
    return out.getvalue()


def test_mutated_packs_are_verified_or_refused(
    service: Any, team: TeamSetup, pack: bytes, tmp_path: Path
) -> None:
    """`bench/stress/attack.py` does this ten thousand times."""
    manifest = json.loads(entries_of(pack)["manifest.json"])
    dimensions = np.load(io.BytesIO(entries_of(pack)["vectors.npy"])).shape[1]
    draw = random.Random(20)
    outcomes = {"verified": 0, "refused": 0}
    path = tmp_path / "mutated.zip"
    for _ in range(300):
        path.write_bytes(mutated(pack, draw))
        try:
            verify_pack(path, manifest["embedder"], dimensions)
            outcomes["verified"] += 1
        except Refused:
            outcomes["refused"] += 1
    assert outcomes["refused"] > 200, outcomes


def test_teams_do_not_share_vectors(team: TeamSetup, storm: str) -> None:
    """Another team's identical text is embedded again: its count reveals nothing."""
    other = new_team(team.service).client
    kb = other.create_kb("The same")
    added = other.add_document(kb.slug, STORM, "storm-plan.md", wait=True)
    assert added.document.revision.embedded == added.document.revision.passages
    again = other.add_document(other.create_kb("Once more").slug, STORM, "storm-plan.md", wait=True)
    assert again.document.revision.embedded == 0


def test_the_original_of_a_record_with_a_bad_hash_is_not_served(
    team: TeamSetup, storm: str
) -> None:
    with patient.Client(
        base_url=team.service.url, headers={"Authorization": f"Bearer {team.key}"}
    ) as client:
        for revision in ("./../fontanel.db", hashlib.sha256(STORM).hexdigest()):
            url = f"/api/v1/teams/{team.slug}/kbs/{storm}/documents/storm-plan.md/original"
            assert client.get(url, params={"revision": revision}).status_code == 404
