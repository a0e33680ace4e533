"""`fontanel model`: text-generating models."""

from __future__ import annotations

import argparse

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.options.servers import server_values
from fontanel.schemas import (
    ModelChange,
    ModelIn,
    ModelOut,
)

#: Fields that only models have.
_FIELDS = ("remote", "price_read", "price_written")


def list_models(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_models()
    rows = [
        (
            m.name,
            m.url,
            m.remote,
            "on" if m.enabled else "off",
            "all" if m.teams is None else ", ".join(m.teams),
            f"{m.price_read:g} / {m.price_written:g} {m.currency}",
            m.error or "",
        )
        for m in result
    ]
    table = context.table(
        rows,
        model="left",
        address="left",
        remote="left",
        state="left",
        teams="left",
        price="left",
        error="left",
    )
    context.show(
        result,
        table
        if result
        else "No models. Set one up with 'fontanel model create NAME --address URL'.",
    )


def list_usable(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_usable_models()
    rows = [
        (m.name, f"{m.price_read:g} / {m.price_written:g} {m.currency}", m.error or "")
        for m in result
    ]
    table = context.table(rows, model="left", price="left", error="left")
    context.show(
        result, table if result else "None but the built-in composer. An operator sets models up."
    )


def create_model(context: Context, options: argparse.Namespace) -> None:
    model = context.client.create_model(
        ModelIn(name=options.name, **server_values(options, _FIELDS))
    )
    context.show(
        model, f"{model.name} is set up. 'fontanel model check {model.name}' asks it something."
    )


def change_model(context: Context, options: argparse.Namespace) -> None:
    values = server_values(options, _FIELDS)
    if not values:
        raise UsageProblem("Say what to change; see --help.")
    model: ModelOut = context.client.change_model(options.name, ModelChange(**values))
    context.show(model, f"{model.name} is changed.")


def check_model(context: Context, options: argparse.Namespace) -> int:
    result = context.client.check_model(options.name)
    first = (
        f", first words after {result.first_seconds:.2f} s"
        if result.first_seconds is not None
        else ""
    )
    context.show(
        result,
        f"It answers: {result.text!r} in {result.seconds:.2f} s{first}."
        if result.works
        else f"It does not answer: {result.error}.",
    )
    return 0 if result.works else 1


def delete_model(context: Context, options: argparse.Namespace) -> None:
    context.client.delete_model(options.name)
    context.show([], "Removed.")
