"""The routes of the API, in the order in which they are matched and documented."""

from __future__ import annotations

from starlette.routing import BaseRoute

from fontanel.service.routes import facts, health
from fontanel.service.routes.desks import (
    answers,
    channels,
    chat,
    desks,
    embedders,
    embedding,
    followed,
    kb_questions,
    models,
    second,
    transcribers,
    usage,
)
from fontanel.service.routes.kbs import (
    approved,
    documents,
    editions,
    kbs,
    pages,
    preview,
    proposed_documents,
    search,
    watching,
    written,
)
from fontanel.service.routes.operating import audit, backups, doctor, quotas
from fontanel.service.routes.people import erasures, invitations, sessions, single_sign_on, teams
from fontanel.service.routes.quality import (
    changed,
    coverage,
    feedback,
    gaps,
    proposals,
    sets,
    trials,
)
from fontanel.service.routes.sources import notices, sources, syncs

_ROUTERS = (
    sessions.router,
    single_sign_on.router,
    teams.router,
    invitations.router,
    erasures.router,
    kbs.router,
    watching.router,
    editions.router,
    written.router,
    proposed_documents.router,
    documents.router,
    sources.router,
    syncs.router,
    notices.router,
    pages.router,
    preview.router,
    search.router,
    kb_questions.router,
    approved.router,
    desks.router,
    second.router,
    embedding.router,
    channels.router,
    chat.router,
    followed.router,
    answers.router,
    answers.keys,
    gaps.router,
    changed.router,
    proposals.router,
    feedback.router,
    coverage.router,
    sets.router,
    trials.router,
    usage.router,
    audit.router,
    audit.all_logs,
    backups.router,
    doctor.router,
    quotas.router,
    models.router,
    embedders.router,
    transcribers.router,
    editions.packs,
    invitations.links,
    sources.around,
    channels.around,
    followed.around,
    usage.all_teams,
    facts.router,
    health.router,
)


def api_routes() -> list[BaseRoute]:
    """Return the routes of every router."""
    return [route for router in _ROUTERS for route in router.routes]
