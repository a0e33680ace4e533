"""`fontanel doctor`: what is wrong with the service, and what to do."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from fontanel.cli.context import Context, UsageProblem
from fontanel.schemas import FindingOut, SupportBundle

_COLOURS = {"ok": "green", "warning": "yellow", "problem": "red"}


def add_commands(commands: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    doctor = verb(
        commands, "doctor", examine_service, "find what is wrong, and what to do about it", common
    )
    doctor.add_argument(
        "--data", type=Path, help="examine this data directory; the service must be stopped"
    )
    doctor.add_argument(
        "--bundle",
        type=Path,
        metavar="FILE",
        help="also write a ZIP archive for support: findings, settings and versions, without"
        " secrets and contents",
    )


def examine_service(context: Context, options: argparse.Namespace) -> int:
    if options.bundle is not None and options.bundle.exists():
        raise UsageProblem(f"{options.bundle} exists. Name a new file.")
    if options.data is not None:
        bundle = _of_directory(options.data)
    elif options.bundle is not None:
        bundle = context.client.support_bundle()
    else:
        return _show(context, context.client.examine())
    if options.bundle is not None:
        from fontanel.engine.doctor.bundle import write_bundle

        write_bundle(options.bundle, bundle.model_dump(mode="json"))
    return _show(context, bundle.findings)


def _show(context: Context, findings: Sequence[FindingOut]) -> int:
    rows = [
        (f"[{_COLOURS[one.state]}]{one.state}[/]", one.check, _plain(one.text))
        if not one.advice
        else (
            f"[{_COLOURS[one.state]}]{one.state}[/]",
            one.check,
            f"{_plain(one.text)}\n-> {_plain(one.advice)}",
        )
        for one in findings
    ]
    context.show(findings, context.table(rows, state="left", check="left", finding="left"))
    return 1 if any(one.state == "problem" for one in findings) else 0


def _plain(text: str) -> str:
    from rich.markup import escape

    return escape(text)


def _of_directory(data: Path) -> SupportBundle:
    """Examine a data directory while the service is stopped."""
    from fontanel.engine.answering.local_models import LocalModels
    from fontanel.engine.doctor import Examined, examine
    from fontanel.engine.doctor.bundle import bundle_parts
    from fontanel.engine.runtime.runtime import lock_directory
    from fontanel.records.unit_of_work import Records
    from fontanel.records.vault import Vault
    from fontanel.settings import Settings

    if not (data / "fontanel.db").is_file():
        raise UsageProblem(f"{data} is not a data directory.")
    settings = Settings().model_copy(update={"data": data})
    models = LocalModels(settings.embedder_directory, settings.evidence_directory)
    with lock_directory(data):
        records = Records(data / "fontanel.db")
        try:
            findings = examine(Examined(settings, records, Vault(data / "secret.key"), models))
            with records.reading() as session:
                parts = bundle_parts(session, settings, findings)
        finally:
            records.close()
    return SupportBundle(**{**parts, "findings": [FindingOut(**asdict(one)) for one in findings]})
