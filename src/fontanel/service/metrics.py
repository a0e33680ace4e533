"""Figures of the records for `/metrics`, computed when they are asked for."""

from __future__ import annotations

import shutil
from collections.abc import Iterator

from prometheus_client.core import GaugeMetricFamily
from prometheus_client.metrics_core import Metric
from prometheus_client.registry import Collector
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.cluster.connection import Cluster
from fontanel.engine.curation.approved import curation_counts
from fontanel.engine.quotas.quotas import quotas_of_all
from fontanel.engine.sync.freshness import freshness_of
from fontanel.records.tables import (
    Backup,
    BackupState,
    Job,
    JobState,
    Kb,
    Source,
    Team,
    now,
)
from fontanel.records.unit_of_work import Records
from fontanel.settings import Settings

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


class ServiceFigures(Collector):
    """Waiting work, quotas, the disk, backups and the cluster."""

    def __init__(self, records: Records, settings: Settings, cluster: Cluster | None) -> None:
        self._records = records
        self._settings = settings
        self._cluster = cluster

    def describe(self) -> list[Metric]:
        return []

    def collect(self) -> Iterator[Metric]:
        jobs = GaugeMetricFamily(
            "fontanel_jobs", "Documents on their way into an index.", labels=["stage", "state"]
        )
        oldest = GaugeMetricFamily(
            "fontanel_oldest_job_seconds",
            "Age of the oldest job that waits or runs.",
            labels=["stage"],
        )
        quotas = GaugeMetricFamily(
            "fontanel_quota_share", "Share of a quota that is used.", labels=["team", "quota"]
        )
        with self._records.reading() as session:
            open_ones = Job.state.in_((JobState.WAITING, JobState.RUNNING))
            counted = select(Job.stage, Job.state, func.count(), func.min(Job.created_at))
            for stage, state, count, first in session.execute(
                counted.where(open_ones).group_by(Job.stage, Job.state)
            ):
                jobs.add_metric([stage.value, state.value], count)
                oldest_now = (now() - first).total_seconds()
                if state == JobState.WAITING:
                    oldest.add_metric([stage.value], max(0.0, oldest_now))
            teams = session.scalars(select(Team)).all()
            for team_id, of_team in quotas_of_all(session, teams).items():
                for quota in of_team:
                    if quota.share is not None:
                        quotas.add_metric([team_id, quota.name], quota.share)
            taken = self._backups(session)
        yield from (jobs, oldest, quotas, self._disk())
        yield from taken
        yield from self._cluster_figures()

    def _cluster_figures(self) -> list[Metric]:
        workers = GaugeMetricFamily(
            "fontanel_cluster_workers", "Workers of the cluster that can be used."
        )
        away = GaugeMetricFamily(
            "fontanel_cluster_away", "1 while a cluster is set and cannot be used."
        )
        cluster = self._cluster
        usable = cluster is not None and cluster.available
        workers.add_metric([], cluster.workers if cluster is not None and usable else 0)
        away.add_metric([], float(cluster is not None and not usable))
        return [workers, away]

    def _disk(self) -> Metric:
        disk = GaugeMetricFamily(
            "fontanel_disk_free_bytes", "Free space on the disk of the data directory."
        )
        disk.add_metric([], shutil.disk_usage(self._settings.data).free)
        return disk

    def _backups(self, session: Session) -> list[Metric]:
        """Return the age of the last backup, and whether one has failed since; if any is taken."""
        age = GaugeMetricFamily("fontanel_backup_age_seconds", "Since the last backup was begun.")
        failed = GaugeMetricFamily("fontanel_backup_failed", "1 if the last backup failed.")
        ended = select(Backup).where(Backup.state.in_((BackupState.DONE, BackupState.FAILED)))
        newest = ended.order_by(Backup.created_at.desc()).limit(1)
        last = session.scalar(newest)
        done = session.scalar(newest.where(Backup.state == BackupState.DONE))
        if last is not None:
            failed.add_metric([], float(last.state == BackupState.FAILED))
        if done is not None:
            age.add_metric([], (now() - done.created_at).total_seconds())
        return [age, failed]


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
