"""`fontanel simulator`: simulated outside services, for trying things out."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from fontanel.cli.context import Context, UsageProblem
from fontanel.simulators.behaviours import EMBEDDERS, MODELS, TRANSCRIBERS, VIEWERS


def add_commands(simulators: Any, verb: Any) -> None:
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
    ears = verb(simulators, "ears", serve_ears, "a server with the transcription protocol")
    _port_option(ears)
    ears.add_argument(
        "--script",
        type=Path,
        metavar="FILE",
        help="WebVTT, as the transcript of recordings in which there are no tones that it knows",
    )
    ears.add_argument(
        "--pause",
        type=float,
        default=0.5,
        metavar="SECONDS",
        help="seconds that a slow one takes (default 0.5)",
    )
    ears.add_argument("--secret", default="", help="the secret that requests need; by default none")
    ears.add_argument(
        "--behaviour",
        choices=list(TRANSCRIBERS),
        default="",
        help="its behaviour; by default the name of the requested transcriber",
    )

    eyes = verb(simulators, "eyes", serve_eyes, "a model that describes pictures")
    _port_option(eyes)
    eyes.add_argument(
        "--pictures",
        type=Path,
        metavar="FOLDER",
        help="pictures that it knows, each with a text of the same name that it answers",
    )
    eyes.add_argument(
        "--pause",
        type=float,
        default=0.5,
        metavar="SECONDS",
        help="seconds that a slow one takes (default 0.5)",
    )
    eyes.add_argument("--secret", default="", help="the secret that requests need; by default none")
    eyes.add_argument(
        "--behaviour",
        choices=list(VIEWERS),
        default="",
        help="its behaviour; by default the name of the requested model",
    )

    chat = verb(simulators, "chat", serve_chat, "a chat room with a page, for a signed webhook")
    _port_option(chat)
    chat.add_argument(
        "--secret", required=True, help="the secret of signatures: 16 characters or more"
    )
    chat.add_argument(
        "--channel", default="", metavar="ADDRESS", help="the address that messages are posted to"
    )


def _port_option(simulator: argparse.ArgumentParser) -> None:
    simulator.add_argument(
        "--port", type=int, required=True, help="port to listen on, on this machine only"
    )


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


def serve_ears(context: Context, options: argparse.Namespace) -> None:
    from fontanel.simulators.ears import ears_app

    script = options.script.read_text() if options.script else ""
    _serve_simulator(ears_app(options.pause, options.secret, script, options.behaviour), options)


def serve_eyes(context: Context, options: argparse.Namespace) -> None:
    from fontanel.simulators.eyes import eyes_app

    app = eyes_app(options.pause, options.secret, options.pictures, options.behaviour)
    _serve_simulator(app, options)


def serve_chat(context: Context, options: argparse.Namespace) -> None:
    from fontanel.simulators.chat import chat_app

    _serve_simulator(chat_app(options.secret, options.channel), options)


def _serve_simulator(app: Any, options: argparse.Namespace) -> None:
    import uvicorn

    if "directory" in options and not options.directory.is_dir():
        raise UsageProblem(f"{options.directory} is not a directory.")
    print(f"A simulator listens on http://127.0.0.1:{options.port}", flush=True)
    uvicorn.run(app, host="127.0.0.1", port=options.port, log_level="warning")
