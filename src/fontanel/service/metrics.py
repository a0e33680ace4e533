"""Figures of sources and of curation for `/metrics`, computed when they are asked for."""

from __future__ import annotations

from collections.abc import Iterator

from prometheus_client.core import GaugeMetricFamily
from prometheus_client.metrics_core import Metric
from prometheus_client.registry import Collector
from sqlalchemy import select

from fontanel.engine.curation.approved import curation_counts
from fontanel.engine.sync.freshness import freshness_of
from fontanel.records.tables import Kb, Source, Team, now
from fontanel.records.unit_of_work import Records

_LABELS = ["team", "kb", "source"]


class CurationFigures(Collector):
    """How many approved answers each knowledge base has, and how many are flagged."""

    def __init__(self, records: Records) -> None:
        self._records = records

    def describe(self) -> list[Metric]:
        return []

    def collect(self) -> Iterator[Metric]:
        approved = GaugeMetricFamily(
            "fontanel_approved_answers", "Approved answers.", labels=["team", "kb"]
        )
        flagged = GaugeMetricFamily(
            "fontanel_approved_answers_flagged",
            "Approved answers whose text has changed.",
            labels=["team", "kb"],
        )
        with self._records.reading() as session:
            for kb in session.scalars(select(Kb)):
                counts = curation_counts(session, kb.id)
                if any(counts):
                    approved.add_metric([kb.team_id, kb.id], counts[0])
                    flagged.add_metric([kb.team_id, kb.id], counts[1])
        yield from (approved, flagged)


class SourceFigures(Collector):
    """The freshness of each source: whether it is late, its last check, and its lags."""

    def __init__(self, records: Records) -> None:
        self._records = records

    def describe(self) -> list[Metric]:
        return []  # nothing is asked of the records when this is registered

    def collect(self) -> Iterator[Metric]:
        late = GaugeMetricFamily(
            "fontanel_source_late", "1 while changes are not answerable in time.", labels=_LABELS
        )
        failing = GaugeMetricFamily(
            "fontanel_source_failing", "1 while the source cannot be read.", labels=_LABELS
        )
        age = GaugeMetricFamily(
            "fontanel_source_seen_seconds",
            "Seconds since the moment up to which changes have been seen.",
            labels=_LABELS,
        )
        lag = GaugeMetricFamily(
            "fontanel_source_lag_seconds",
            "From a change at the source until it was answerable, over seven days.",
            labels=[*_LABELS, "of"],
        )
        within = GaugeMetricFamily(
            "fontanel_source_within_target",
            "Share of changes that were answerable in time, 0-1.",
            labels=_LABELS,
        )
        pending = GaugeMetricFamily(
            "fontanel_source_pending",
            "Watchers that were seen and are not answerable yet.",
            labels=_LABELS,
        )
        with self._records.reading() as session:
            joined = (
                select(Source, Kb, Team)
                .join(Kb, Kb.id == Source.kb_id)
                .join(Team, Team.id == Source.team_id)
            )
            for source, kb, team in session.execute(joined):
                # Ids only: readers of metrics need not know what teams store.
                labels = [team.id, kb.id, source.id]
                result = freshness_of(session, source)
                late.add_metric(labels, float(result.state == "late"))
                failing.add_metric(labels, float(source.failing_since is not None))
                pending.add_metric(labels, result.pending)
                if result.as_of is not None:
                    age.add_metric(labels, max(0.0, (now() - result.as_of).total_seconds()))
                if (
                    result.within is not None
                    and result.median_seconds is not None
                    and result.worst_seconds is not None
                ):
                    within.add_metric(labels, result.within)
                    lag.add_metric([*labels, "median"], result.median_seconds)
                    lag.add_metric([*labels, "worst"], result.worst_seconds)
        yield from (late, failing, age, lag, within, pending)
