"""`fontanel receipt`: signed records of answers."""

from __future__ import annotations

import argparse
import hashlib
import json
from pathlib import Path
from typing import Any

from fontanel.cli.context import Context, UsageProblem


def add_commands(group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    export = verb(group, "export", export_receipt, "print the receipt of an answer", common)
    export.add_argument("answer", metavar="ID")
    verb(group, "key", print_key, "print the service's public key, to verify receipts with", common)
    verify = verb(
        group, "verify", verify_file, "check that a receipt was not changed, without the service"
    )
    verify.add_argument("file", type=Path)
    verify.add_argument(
        "--key", type=Path, help="the public key of the service, as 'receipt key' prints it"
    )
    verify.add_argument(
        "--document", type=Path, help="also check that the answer cites this very file"
    )


def export_receipt(context: Context, options: argparse.Namespace) -> None:
    print(context.client.answer_receipt(options.answer).model_dump_json())


def print_key(context: Context, options: argparse.Namespace) -> None:
    print(json.dumps(context.client.receipt_key()))


def verify_file(context: Context, options: argparse.Namespace) -> int:
    from fontanel.engine.answering.receipts import verify_receipt

    key = None if options.key is None else _json(options.key)
    verified = verify_receipt(_text(options.file), key)
    answer = verified.payload["answer"]
    context.say(f"Question: {answer['question']}\nAnswer:   {answer['text']}", markup=False)
    for cited in verified.payload["citations"]:
        context.say(f"  [{cited['number']}] {cited['title']}: “{cited['quote']}”", markup=False)
    context.say(f"\nIssued by {verified.payload['issuer']} at {verified.payload['issued_at']}.")
    if key is None:
        context.say(
            "The receipt was not changed since it was signed with the key"
            f" {verified.key_id}. Compare that with the 'kid' that 'fontanel receipt key' prints,"
            " or pass --key."
        )
    else:
        context.say("The signature is right: this service issued the receipt, unchanged.")
    return 0 if options.document is None else _check_document(context, verified.payload, options)


def _check_document(context: Context, payload: Any, options: argparse.Namespace) -> int:
    try:
        with options.document.open("rb") as file:
            sha256 = hashlib.file_digest(file, "sha256").hexdigest()
    except OSError as error:
        raise UsageProblem(f"{options.document} cannot be read: {error.strerror}.") from error
    cited = [str(one["number"]) for one in payload["citations"] if one["sha256"] == sha256]
    if not cited:
        context.say(f"None of the citations is from {options.document}.", markup=False)
        return 1
    which = ", ".join(cited)
    context.say(f"{options.document} is the very file that citation {which} is from.", markup=False)
    return 0


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise UsageProblem(f"{path} cannot be read: {error}") from error


def _json(path: Path) -> dict[str, Any]:
    try:
        key = json.loads(_text(path))
    except ValueError as error:
        raise UsageProblem(f"{path} is not a key.") from error
    if not isinstance(key, dict):
        raise UsageProblem(f"{path} is not a key.")
    return key
