"""The second stage of ingest.

Embed the passages of a revision, for semantic search.
"""

from __future__ import annotations

import time
from collections.abc import Collection, Iterator, Mapping, Sequence
from concurrent.futures import CancelledError, ThreadPoolExecutor, as_completed
from dataclasses import dataclass, field

from sqlalchemy.orm import Session

from fontanel import tracing
from fontanel.core.embedding.encoder import estimate_read_tokens, text_key
from fontanel.engine.documents import states
from fontanel.engine.editions.pausing import stop_at_budget
from fontanel.engine.editions.store import Editions
from fontanel.engine.ingest.failures import InterruptedJobs, attempt_failed
from fontanel.engine.ingest.passage_embedders import (
    Allowance,
    Embedded,
    EmbedderAway,
    MayEmbed,
    Owned,
    PassageEmbedder,
    TextKey,
)
from fontanel.engine.ingest.passages import embedded_passages, write_vectors
from fontanel.engine.ingest.progress import ProgressReporter
from fontanel.engine.ingest.queue import (
    claim,
    edition_of_job,
    loaded,
    postpone,
    put_back,
    waiting_teams,
)
from fontanel.engine.runtime.fault_points import fault
from fontanel.engine.workers.processes import WorkerDied
from fontanel.facts import DocumentState
from fontanel.records.tables import Document, Edition, Job, JobStage, JobState, Revision, now
from fontanel.records.unit_of_work import Records
from fontanel.records.vector_cache import VectorCache

#: Texts embedded in one round. When several teams wait, a round is about as long as `_TURN` seconds
#: instead, but has no fewer than `_MIN_ROUND` texts.
_ROUND, _MIN_ROUND = 512, 32
#: Seconds after which a team's round ends early because another team waits.
_TURN = 2.0
#: Jobs claimed together, and how many texts each has at least, as a rule.
_MAX_JOBS, _TEXTS_OF_JOB = 64, 8

_BROKE = "Embedding broke its process each time. Retry the document."


@dataclass(slots=True)
class _Round:
    """The texts to embed in one round, and which jobs are complete with them."""

    texts: dict[TextKey, Owned] = field(default_factory=dict)
    needed: dict[str, set[TextKey]] = field(default_factory=dict)
    """The texts of each job that were not cached."""
    new: dict[str, dict[TextKey, bool]] = field(default_factory=dict)
    """Texts that are embedded for each job, and whether they are whole passages."""
    totals: dict[str, int] = field(default_factory=dict)
    """How many texts each job has in all."""
    complete: list[Job] = field(default_factory=list)
    left: list[Job] = field(default_factory=list)
    """Jobs that there was no room to look at."""
    unfinished: list[tuple[Job, int, int]] = field(default_factory=list)
    """Jobs that need a further round, with texts done and in all."""
    allowed: dict[str, float | None] = field(default_factory=dict)
    """Tokens that each edition may still use."""
    paying: set[str] = field(default_factory=set)
    """Editions with a budget of which texts are embedded."""
    stopped: set[str] = field(default_factory=set)
    """Editions whose budget has no room for a single text."""

    def take(self, texts: Mapping[TextKey, Owned], room: int) -> int:
        """Add the first texts that there is room for, within budgets; return how many."""
        taken = 0
        for key, one in texts.items():
            if taken >= room or not self._pays(one):
                break
            self.texts[key] = one
            taken += 1
        return taken

    def stop_at(self, done: Collection[TextKey]) -> None:
        """Leave the texts that are not done to a further round."""
        for job in list(self.complete):
            missing = len(self.needed[job.id].difference(done))
            if missing:
                self.complete.remove(job)
                total = self.totals[job.id]
                self.unfinished.append((job, total - missing, total))
        for job_id, texts in self.new.items():
            self.new[job_id] = {key: whole for key, whole in texts.items() if key in done}

    def embedded(self, job_id: str) -> int:
        """Return how many passages are embedded for a job; they share the round's time."""
        return sum(self.new[job_id].values())

    def _pays(self, text: Owned) -> bool:
        """Take a text's tokens from its edition's budget; return whether it has them."""
        edition_id = text.edition_id
        left = self.allowed.get(edition_id)
        if left is None:
            return True
        tokens = estimate_read_tokens([text.text])[0]
        if tokens > left:
            if edition_id not in self.paying:
                self.stopped.add(edition_id)
            return False
        self.allowed[edition_id] = left - tokens
        self.paying.add(edition_id)
        return True


class EmbedStage:
    """Embeds passages of several documents together, taking turns between teams."""

    def __init__(
        self,
        *,
        records: Records,
        vectors: VectorCache,
        editions: Editions,
        progress: ProgressReporter,
    ) -> None:
        self._records = records
        self._vectors = vectors
        self._editions = editions
        self._progress = progress
        self._interrupted = InterruptedJobs(records)
        self._last_team = ""
        #: Texts a second of each embedder, as measured last.
        self._rates: dict[str, float] = {}

    def round(
        self,
        with_: PassageEmbedder,
        embedder: str,
        may: MayEmbed | None = None,
        allowance: Allowance | None = None,
    ) -> bool:
        """Embed a round's worth of texts and commit the documents that are complete.

        Args:
            embedder: Only documents of editions with this embedder.
            may: Whether a team may use it now; the others wait.
            allowance: The tokens of each edition; one whose budget is used up is paused.

        Returns:
            Whether there was anything to embed.
        """
        self._interrupted.queue_again(_BROKE)
        with self._records.reading() as session:
            teams = waiting_teams(session, JobStage.EMBED, self._last_team, embedder=embedder)
            if teams:
                self._last_team = teams[0] if may is None else teams[-1]
            teams = [team for team in teams if may is None or may(session, team)]
        room = self._room(embedder) if len(teams) > 1 else _ROUND
        limit = min(_MAX_JOBS, max(len(teams), room // _TEXTS_OF_JOB))
        jobs = claim(self._records, JobStage.EMBED, limit, teams, room, embedder)
        if not jobs:
            return False
        self._last_team = teams[0]
        with self._interrupted.queued_again(jobs):
            self._embed_jobs(with_, embedder, jobs, allowance, room)
        return True

    def _room(self, embedder: str) -> int:
        """Return how many texts are embedded in one turn when several teams wait."""
        rate = self._rates.get(embedder, 0.0)
        return int(min(max(rate * _TURN, _MIN_ROUND), _ROUND))

    def _embed_jobs(
        self,
        with_: PassageEmbedder,
        embedder: str,
        jobs: Sequence[Job],
        allowance: Allowance | None,
        room: int,
    ) -> None:
        """Embed what there is room for; finish the jobs that are complete with it."""
        started = time.monotonic()
        work = self._plan(jobs, embedder, allowance, room)
        if work.stopped:
            with self._records.writing() as session:
                for edition_id in work.stopped:
                    stop_at_budget(session, edition_id)
        if work.left:
            postpone(self._records, work.left, 0.0)
        try:
            with tracing.span("embed", embedder=embedder, texts=len(work.texts), jobs=len(jobs)):
                self._embed(with_, embedder, work)
        except WorkerDied:
            for job in jobs:
                attempt_failed(self._records, job, _BROKE)
            return
        except EmbedderAway as away:
            self._put_off(with_, embedder, jobs, allowance, away, room)
            return
        # Each passage's share, so that the documents' times add up to the round's.
        each = (time.monotonic() - started) / max(sum(map(work.embedded, work.new)), 1)
        for edition_id, group in self._by_edition(work.complete).items():
            with self._editions.writer(edition_id):
                self._commit(edition_id, group, embedder, each, work)
                fault("vectors_committed")
        if work.unfinished:
            self._put_back(work, each)

    def _put_off(
        self,
        with_: PassageEmbedder,
        embedder: str,
        jobs: Sequence[Job],
        allowance: Allowance | None,
        away: EmbedderAway,
        room: int,
    ) -> None:
        """Have jobs wait for their embedder; what was embedded already is cached.

        A text that the embedder refuses fails its own document alone.
        """
        if not away.refused:
            postpone(self._records, jobs, away.pause)
        elif len(jobs) > 1:
            for job in jobs:
                self._embed_jobs(with_, embedder, [job], allowance, room)
        else:
            attempt_failed(self._records, jobs[0], f"The embedder {embedder} failed: {away}")

    def _plan(
        self, jobs: Sequence[Job], embedder: str, allowance: Allowance | None, size: int
    ) -> _Round:
        """Choose the texts of this round: those that are not cached, up to its size."""
        work = _Round()
        texts_of = self._texts(jobs)
        for job in jobs:
            if len(work.texts) >= size:
                work.left.append(job)
                continue
            edition_id, texts, whole = texts_of[job.id]
            if allowance is not None and edition_id not in work.allowed:
                with self._records.reading() as session:
                    work.allowed[edition_id] = allowance(session, edition_id)
            keys = [text_key(embedder, text) for text in texts]
            cached = self._vectors.get(job.team_id, keys)
            missing = {
                (job.team_id, key): Owned(text, job, edition_id)
                for key, text in zip(keys, texts, strict=True)
                if key not in cached and (job.team_id, key) not in work.texts
            }
            # A long document takes half a round while others wait.
            room = min(size - len(work.texts), size // 2 if len(jobs) > 1 else size)
            taken = work.take(missing, max(room, 0))
            new = set(list(missing)[:taken])
            work.totals[job.id] = len(keys)
            work.needed[job.id] = {(job.team_id, key) for key in keys if key not in cached}
            work.new[job.id] = {
                (job.team_id, key): is_whole
                for key, is_whole in zip(keys, whole, strict=True)
                if (job.team_id, key) in new
            }
            if taken == len(missing):
                work.complete.append(job)
            else:
                done = len(keys) - len(missing) + taken
                work.unfinished.append((job, done, len(keys)))
        return work

    def _texts(self, jobs: Sequence[Job]) -> dict[str, tuple[str, list[str], list[bool]]]:
        """Return the edition of each job, its texts, and which are those of whole passages."""
        result: dict[str, tuple[str, list[str], list[bool]]] = {}
        with self._records.reading() as session, loaded(session, jobs):
            for job in jobs:
                edition = edition_of_job(session, job)
                if edition is None:
                    result[job.id] = "", [], []
                    continue
                passages = embedded_passages(session, edition, job.revision_id)
                texts = [text for _, some in passages for text in some]
                whole = [number == 0 for _, some in passages for number in range(len(some))]
                result[job.id] = edition.id, texts, whole
        return result

    def _embed(self, with_: PassageEmbedder, embedder: str, work: _Round) -> None:
        """Embed texts, shortest first so that batches have similar lengths.

        Cache each batch; end early when another team has waited for its turn.
        """
        started = time.monotonic()
        teams = {team for team, _ in work.texts}
        order = sorted(work.texts, key=lambda key: len(work.texts[key].text))
        parts = [order[at : at + with_.at_once] for at in range(0, len(order), with_.at_once)]
        done: set[TextKey] = set()
        for keys, made in _embedded(with_, work.texts, parts):
            for team_id in dict.fromkeys(team for team, _ in keys):
                rows = [row for row, (team, _) in enumerate(keys) if team == team_id]
                self._vectors.put(team_id, [keys[row][1] for row in rows], made.vectors[rows])
            made.record()
            fault("vectors_cached")
            done.update(keys)
            seconds = time.monotonic() - started
            self._rates[embedder] = len(done) / max(seconds, 0.001)
            share = len(done) / len(order)
            if share == 1:
                return
            self._progress.report(work.complete, DocumentState.KEYWORD_READY, share)
            if with_.calls == 1 and seconds > _TURN and self._others_wait(teams, embedder):
                work.stop_at(done)
                return

    def _others_wait(self, teams: Collection[str], embedder: str) -> bool:
        """Return whether a team waits for the embedder that this round is not for."""
        with self._records.reading() as session:
            waiting = waiting_teams(
                session, JobStage.EMBED, limit=len(teams) + 1, embedder=embedder
            )
        return not set(waiting) <= set(teams)

    def _by_edition(self, jobs: Sequence[Job]) -> dict[str, list[Job]]:
        groups: dict[str, list[Job]] = {}
        with self._records.reading() as session, loaded(session, jobs):
            for job in jobs:
                edition = edition_of_job(session, job)
                if edition is not None:
                    groups.setdefault(edition.id, []).append(job)
        return groups

    def _commit(
        self,
        edition_id: str,
        jobs: Sequence[Job],
        embedder: str,
        each: float,
        work: _Round,
    ) -> None:
        """Name the vectors of complete documents, in one unit of work."""
        with self._records.writing() as session:
            edition = session.get(Edition, edition_id)
            if edition is None:
                return
            passages: list[tuple[int, list[bytes]]] = []
            with loaded(session, jobs):
                for job in jobs:
                    # There are none when a newer revision has replaced this one.
                    for passage_id, texts in embedded_passages(session, edition, job.revision_id):
                        passages.append((passage_id, [text_key(embedder, text) for text in texts]))
                    _finish(session, job, work.embedded(job.id), each)
            write_vectors(self._editions, self._vectors, session, edition, passages)

    def _put_back(self, work: _Round, each: float) -> None:
        """Have jobs of which a part is embedded wait for the next round."""
        with self._records.writing() as session:
            for job, done, total in work.unfinished:
                row, document = session.get(Job, job.id), session.get(Document, job.document_key)
                if row is None or document is None:
                    continue
                put_back(session, row)
                row.done, row.total = done, total
                if states.moves(row, document):
                    states.report_progress(document, row, DocumentState.KEYWORD_READY, done / total)
                    revision = session.get_one(Revision, job.revision_id)
                    _add_embedded(revision, work.embedded(job.id), each)


def _embedded(
    with_: PassageEmbedder, texts: Mapping[TextKey, Owned], parts: Sequence[list[TextKey]]
) -> Iterator[tuple[list[TextKey], Embedded]]:
    """Yield each part with its vectors as they come; others are under way meanwhile.

    Raises:
        WorkerDied: the process of the embedder broke.
        EmbedderAway: it gives no vectors now; those that came before have been yielded.
    """
    if with_.calls == 1:
        for keys in parts:
            yield keys, with_.embed_owned([texts[key] for key in keys])
        return
    with ThreadPoolExecutor(with_.calls) as pool:
        running = {
            pool.submit(with_.embed_owned, [texts[key] for key in keys]): keys for keys in parts
        }
        failure: Exception | None = None
        for future in as_completed(running):
            try:
                yield running[future], future.result()
            except (EmbedderAway, CancelledError) as error:
                failure = failure or error
                for waiting in running:
                    waiting.cancel()
        if failure is not None:
            raise failure


def _finish(session: Session, job: Job, embedded: int, each: float) -> None:
    """End a job, and its document's way where it is for the active edition."""
    row, document = session.get(Job, job.id), session.get(Document, job.document_key)
    revision = session.get(Revision, job.revision_id)
    if row is None or document is None or revision is None:
        return
    row.state, row.done, row.changed_at = JobState.DONE, row.total, now()
    if not row.for_active or document.revision_id != revision.id:
        return
    _add_embedded(revision, embedded, each)
    revision.indexed_at = now()
    if states.moves(row, document):
        states.indexed(document)


def _add_embedded(revision: Revision, passages: int, each: float) -> None:
    """Add embedded passages, with seconds each, to a revision's figures."""
    seconds = revision.seconds.get("embed", 0.0) + passages * each
    revision.seconds = {**revision.seconds, "embed": round(seconds, 3)}
    revision.embedded += passages
