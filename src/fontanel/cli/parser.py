"""The command line: `fontanel <noun> <verb>`, and a few commands without a noun."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from typing import Any

from fontanel import __version__
from fontanel.cli.commands import (
    answers,
    asking,
    audit,
    backups,
    channels,
    desks,
    doctor,
    documents,
    editions,
    kbs,
    local,
    people,
    proposed_documents,
    quotas,
    receipts,
    sources,
    teams,
    tools,
    written,
)
from fontanel.cli.commands.curation import approved, coverage, gaps, proposals, sets, trials
from fontanel.cli.commands.servers import embedders, simulators, transcribers

Run = Callable[..., Any]


class Parser(argparse.ArgumentParser):
    """An argument parser whose errors are one line that says what to do next."""

    def error(self, message: str) -> Any:
        self.exit(2, f"fontanel: {message}. See '{self.prog} --help'.\n")


def _common() -> argparse.ArgumentParser:
    common = argparse.ArgumentParser(add_help=False)
    group = common.add_argument_group("connection and output")
    group.add_argument("--url", help="address of the service (FONTANEL_URL)")
    group.add_argument("--key", help="access key (FONTANEL_KEY)")
    group.add_argument(
        "--email",
        help="sign in as this person instead; asks for the password (or FONTANEL_PASSWORD)",
    )
    group.add_argument("--team", help="the team (FONTANEL_TEAM)")
    group.add_argument("--json", action="store_true", help="print JSON for programs")
    return common


def _kb_option() -> argparse.ArgumentParser:
    parent = argparse.ArgumentParser(add_help=False)
    parent.add_argument("--kb", help="the knowledge base (FONTANEL_KB)")
    return parent


def build_parser() -> Parser:
    """The whole command line."""
    parser = Parser(
        prog="fontanel",
        description="Knowledge bases for teams, and answers with exact citations.",
    )
    parser.add_argument("--version", action="version", version=f"fontanel {__version__}")
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", parser_class=Parser)
    common, kb = _common(), _kb_option()

    def noun(name: str, about: str) -> Any:
        result = commands.add_parser(name, help=about, description=about)
        result.set_defaults(noun_parser=result)
        return result.add_subparsers(title="verbs", metavar="VERB", parser_class=Parser)

    def verb(
        group: Any, name: str, run: Run, about: str, *parents: argparse.ArgumentParser
    ) -> argparse.ArgumentParser:
        result: argparse.ArgumentParser = group.add_parser(
            name, help=about, description=about, parents=[*parents]
        )
        result.set_defaults(run=run)
        return result

    asking.add_commands(commands, verb, common, kb)
    kb_group = noun("kb", "knowledge bases")
    kbs.add_commands(kb_group, verb, common)
    coverage.add_kb_command(kb_group, verb, common, kb)
    editions.add_commands(
        noun("edition", "indexes of a knowledge base with different settings"), verb, common, kb
    )
    document = noun("document", "documents of a knowledge base")
    documents.add_commands(document, verb, common, kb)
    written.add_commands(document, verb, common, kb)
    proposed_documents.add_commands(document, verb, common, kb)
    coverage.add_document_command(document, verb, common, kb)
    sources.add_commands(
        noun("source", "sources of a knowledge base, synced automatically"), verb, common, kb
    )
    asking.add_conversation_commands(noun("conversation", "your conversations"), verb, common, kb)
    approved.add_commands(
        noun("approved", "answers that people approved, served before any search"),
        verb,
        common,
        kb,
    )
    proposals.add_commands(
        noun("proposal", "questions that documents answer, proposed for approval"),
        verb,
        common,
        kb,
    )
    desks.add_commands(noun, verb, common)
    channels.add_commands(
        noun("channel", "ways to ask a desk from a chat or by e-mail"), verb, common
    )
    sets.add_commands(noun("set", "question sets, to measure answers with"), verb, common)
    gaps.add_gap_commands(noun("gap", "questions that were not answered well"), verb, common)
    gaps.add_feedback_commands(noun("feedback", "what chat users said of answers"), verb, common)
    trials.add_commands(noun("trial", "trials of question sets"), verb, common)
    answers.add_commands(noun, verb, common)
    doctor.add_commands(commands, verb, common)
    receipts.add_commands(noun("receipt", "signed records of answers"), verb, common)
    teams.add_commands(noun, verb, common)
    people.add_commands(noun, verb, commands, common)
    quotas.add_commands(noun("quota", "what teams may have and use"), verb, common)
    audit.add_commands(noun("audit", "who did what"), verb, common)
    backups.add_upgrade_commands(noun("upgrade", "copies from before upgrades"), verb)
    backups.add_commands(commands, noun("backup", "copies of the service's data"), verb, common)
    embedder = noun("embedder", "models that turn text into vectors")
    embedders.add_commands(embedder, verb, common)
    transcribers.add_commands(
        noun("transcriber", "servers that turn recordings into text"), verb, common
    )
    simulators.add_commands(
        noun("simulator", "simulated outside services, for trying things out"), verb
    )
    local.add_commands(commands, noun, verb, embedder)
    tools.add_commands(verb, commands, common)
    return parser
