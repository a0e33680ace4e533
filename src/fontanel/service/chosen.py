"""Models, embedders, transcribers and question sets that settings name."""

from __future__ import annotations

from fontanel.engine.answering.models import usable_model
from fontanel.engine.embedding.registered import EmbedderUnusable, usable_embedder
from fontanel.engine.transcription.registered import TranscriberUnusable, usable_transcriber
from fontanel.engine.trials.sets import find_set
from fontanel.errors import ModelUnusable, NotFound, Refused
from fontanel.service.auth.access import Access


def chosen_model(access: Access, field: str, name: str) -> str:
    """Return the name of a model that the team may use.

    Raises:
        Refused: it may not, or there is none; names the field.
    """
    try:
        return usable_model(access.session, name, access.team.id).name
    except ModelUnusable as error:
        raise Refused(field, f"The model {name!r} cannot be used: {error}.") from error


def chosen_embedder(access: Access, name: str | None, default: str | None) -> str | None:
    """Return the embedder that an edition is built with.

    Args:
        name: What was asked for; None for the default, "built-in" for the service's own.

    Raises:
        Refused: the team cannot use it.
    """
    own = access.runtime.local_models.name
    if name is None:
        return default
    if name in ("", "built-in", own):
        return own
    try:
        return usable_embedder(access.session, name, access.team.id).name
    except EmbedderUnusable as error:
        raise Refused("embedder", f"The embedder {name!r} cannot be used: {error}.") from error


def chosen_transcriber(access: Access, name: str) -> str:
    """Return the name of a transcriber that the team may use.

    Raises:
        Refused: it may not, or there is none.
    """
    try:
        return usable_transcriber(access.session, name, access.team.id).name
    except TranscriberUnusable as error:
        raise Refused(
            "transcriber", f"The transcriber {name!r} cannot be used: {error}."
        ) from error


def chosen_set(access: Access, field: str, ref: str) -> str:
    """Return the id of a question set of the team.

    Raises:
        Refused: there is none.
    """
    try:
        return find_set(access.scope, ref).id
    except NotFound as error:
        raise Refused(field, f"The team has no question set {ref!r}.") from error
