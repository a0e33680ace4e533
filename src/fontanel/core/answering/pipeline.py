"""The pipeline of a question: route, search, check, compose or write, cite, verify."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Sequence
from contextlib import closing
from dataclasses import replace

from fontanel.core.answering.approved import ApprovedAnswer, ApprovedAnswers
from fontanel.core.answering.composing.citing import cite
from fontanel.core.answering.composing.pieces import compose_parts, reason_to_decline
from fontanel.core.answering.events import (
    APPROVED,
    BUILT_IN,
    Answer,
    AnswerEvent,
    Approval,
    CheckedStatement,
    Choice,
    Citation,
    CitationBound,
    EvidenceFound,
    Finished,
    Message,
    Outcome,
    Restarted,
    Started,
    StatementChecked,
    TextPiece,
    TokenUse,
    Verdict,
)
from fontanel.core.answering.evidence import EvidencePassage, Knowledge
from fontanel.core.answering.findings import (
    Finding,
    all_passages,
    all_statements,
    find,
    shown_passages,
)
from fontanel.core.answering.phrases import outdated_note, phrases_in
from fontanel.core.answering.question.followup import Exchange, search_form, stand_alone
from fontanel.core.answering.question.parts import QuestionPart, question_parts
from fontanel.core.answering.question.routing import Routes, choose
from fontanel.core.answering.question.shape import small_talk
from fontanel.core.answering.settings import UNSURE, AnswerSettings, Grounding
from fontanel.core.answering.trace import Trace
from fontanel.core.answering.writing.context import pack, tokens_of
from fontanel.core.answering.writing.prompt import messages
from fontanel.core.answering.writing.writer import Binding, Writer, WriterFailed
from fontanel.core.text.language import detect_language


def answer(
    question: str,
    history: Sequence[Exchange],
    knowledge: Knowledge,
    settings: AnswerSettings | None = None,
    *,
    writer: Writer | None = None,
    routes: Routes | None = None,
    trace: Trace | None = None,
    approved: ApprovedAnswers | None = None,
) -> Generator[AnswerEvent, None, None]:
    """Answer a question as events: started, evidence, text with citations, finished.

    Args:
        writer: A model that writes the text. When it fails, the built-in composer answers, and the
            answer says so.
        routes: The knowledge bases to choose from.
        trace: Collects the steps.
        approved: Approved answers, which are served before any search.
    """
    pipeline = _Pipeline(
        question,
        history,
        knowledge,
        settings or AnswerSettings(),
        writer,
        routes,
        trace or Trace(),
        approved,
    )
    yield from pipeline.run()


class _Pipeline:
    """One question on its way. Each step is a method and a step of the trace."""

    def __init__(
        self,
        question: str,
        history: Sequence[Exchange],
        knowledge: Knowledge,
        settings: AnswerSettings,
        writer: Writer | None,
        routes: Routes | None,
        trace: Trace,
        approved: ApprovedAnswers | None,
    ) -> None:
        self._question = question
        self._history = history
        self._knowledge = knowledge
        self._settings = settings
        self._writer = writer
        self._routes = routes
        self._trace = trace
        self._approved = approved
        self._choices: tuple[Choice, ...] = ()
        self._language = settings.language or detect_language(question, least=2)
        self._phrases = phrases_in(self._language)
        self._standalone = question
        self._query = question
        self._parts: tuple[QuestionPart, ...] = ()
        self._findings: tuple[Finding, ...] = ()
        self._evidence: tuple[EvidencePassage, ...] = ()
        self._enough = 0.0
        self._note = ""
        self._prompt: tuple[Message, ...] = ()
        self._raw = ""
        self._use: TokenUse | None = None

    def run(self) -> Iterator[AnswerEvent]:
        with self._trace.step("routing") as step:
            reply = small_talk(self._question, self._phrases, self._settings.greeting)
            step.record(documents_needed=reply is None, language=self._language)
        if reply is not None:
            yield Started(self._question, self._question)
            yield TextPiece(reply)
            yield Finished(self._answer(Outcome.SMALL_TALK, reply))
            return
        self._understand()
        yield Started(self._question, self._standalone)
        if (approved := self._find_approved()) is not None:
            yield from self._serve(approved)
            return
        self._choose_kbs()
        self._find()
        yield EvidenceFound(self._evidence, self._enough)
        enough = bool(self._answered())
        if not enough and not (
            self._writer and self._settings.grounding == Grounding.SOURCES_FIRST
        ):
            yield from self._decline()
        elif self._writer is not None:
            yield from self._write(self._writer, enough=enough)
        else:
            yield from self._compose()

    def _understand(self) -> None:
        with self._trace.step("stand-alone question") as step:
            self._standalone = stand_alone(self._question, self._history, self._knowledge.terms)
            knowledge = self._knowledge
            self._query = search_form(self._standalone, knowledge.terms)
            self._parts = question_parts(self._standalone, knowledge.terms)
            step.record(question=self._standalone, changed=self._standalone != self._question)
            if len(self._parts) > 1:
                step.record(parts=[part.text for part in self._parts])

    def _find_approved(self) -> ApprovedAnswer | None:
        if self._approved is None:
            return None
        with self._trace.step("approved answers") as step:
            found = self._approved.find(self._standalone, self._knowledge, self._settings)
            self._choices = found.choices
            served = found.answer
            step.record(
                served=None if served is None else served.approval.id,
                likelihood=None if served is None else round(served.likelihood, 4),
                needed=self._settings.approved_needed,
                offered=[[choice.id, round(choice.likelihood, 4)] for choice in found.choices],
            )
        return served

    def _serve(self, approved: ApprovedAnswer) -> Iterator[AnswerEvent]:
        self._enough = approved.likelihood
        yield EvidenceFound((), self._enough)
        yield TextPiece(approved.text)
        yield from map(CitationBound, approved.citations)
        answer = self._answer(
            Outcome.ANSWERED,
            approved.text,
            approved.citations,
            composer=APPROVED,
            approval=approved.approval,
        )
        yield Finished(answer)

    def _choose_kbs(self) -> None:
        if self._routes is None or len(self._routes.routes) < 2:
            return
        with self._trace.step("choosing knowledge bases") as step:
            result = choose(self._query, self._routes.routes, self._knowledge)
            taken = frozenset(route.kb_id for route, _, used in result if used)
            if len(taken) < len(result):
                self._knowledge = self._routes.among(taken)
            step.record(
                kbs=[
                    {
                        "kb_id": r.kb_id,
                        "name": r.name,
                        "closeness": None if c is None else round(c, 4),
                        "used": used,
                    }
                    for r, c, used in result
                ]
            )

    def _find(self) -> None:
        self._findings = tuple(
            find(part, self._knowledge, self._settings, self._trace) for part in self._parts
        )
        answered = self._answered()
        self._enough = (
            min(finding.sufficiency for finding in answered)
            if answered
            else max(finding.sufficiency for finding in self._findings)
        )
        self._evidence = shown_passages(self._findings, self._settings.shown)

    def _answered(self) -> list[Finding]:
        """Return the parts of the question that the documents answer."""
        threshold = self._settings.evidence_needed
        return [finding for finding in self._findings if finding.answers(threshold)]

    def _decline(self, removed: tuple[CheckedStatement, ...] = ()) -> Iterator[AnswerEvent]:
        searched = any(finding.passages for finding in self._findings)
        text = self._phrases.declined if searched else self._phrases.nothing_indexed
        reasons = (reason_to_decline(f.composed, self._phrases) for f in self._findings)
        text = next(filter(None, reasons), text)
        yield TextPiece(text)
        yield Finished(self._answer(Outcome.DECLINED, text, statements=removed))

    # With a model

    def _write(self, writer: Writer, *, enough: bool) -> Iterator[AnswerEvent]:
        settings = self._settings
        with self._trace.step("packing") as step:
            ranked = all_statements(self._findings)
            context = pack(ranked, all_passages(self._findings), settings.context_tokens)
            step.record(
                budget=settings.context_tokens,
                tokens=context.tokens,
                sources=[
                    {
                        "number": s.number,
                        "passage_id": s.passage.passage_id,
                        "title": s.passage.title,
                        "tokens": s.tokens,
                    }
                    for s in context.sources
                ],
                left_out=[{"title": title, "text": text} for title, text in context.left_out],
            )
        with self._trace.step("prompt") as step:
            built = messages(
                self._question, self._standalone, self._history, context, settings, self._language
            )
            self._prompt = tuple(built)
            prompt_tokens = sum(tokens_of(message.content) for message in built)
            step.record(tokens=prompt_tokens)
        binding = Binding(
            self._query,
            context.sources,
            self._knowledge,
            settings.unsupported,
            settings.grounding,
            self._phrases,
        )
        failed = ""
        with self._trace.step("model", model=writer.name) as step:
            try:
                with closing(
                    writer.write(built, settings.answer_tokens, settings.temperature)
                ) as pieces:
                    for piece in pieces:
                        if "first_words" not in step.details and piece.strip():
                            step.record(first_words=round(self._trace.seconds - step.began, 4))
                        yield from binding.feed(piece)
                yield from binding.finish()
            except WriterFailed as error:
                failed = str(error)
                step.record(failed=failed)
            finally:
                self._raw = binding.raw
                self._use = writer.use() or TokenUse(
                    prompt_tokens, tokens_of(binding.raw), counted=False
                )
                step.record(tokens_read=self._use.read, tokens_written=self._use.written)
        if (
            not failed
            and not binding.declined
            and not binding.text.strip()
            and not binding.statements
        ):
            failed = "it wrote nothing"
        if failed:
            yield from self._without(writer, failed, begun=binding.text != "", enough=enough)
            return
        removed = sum(1 for statement in binding.statements if statement.removed)
        with self._trace.step("verification") as step:
            verdicts = [statement.verdict for statement in binding.statements]
            step.record(
                **{verdict.value: verdicts.count(verdict) for verdict in Verdict}, removed=removed
            )
        if binding.declined or not binding.text.strip():
            if not binding.declined and removed:
                self._note = self._phrases.all_removed.format(model=writer.name)
            yield from self._fall_back(
                enough=enough and not binding.declined,
                removed=tuple(replace(one, citations=()) for one in binding.statements),
            )
            return
        if binding.own_knowledge:
            self._note = self._phrases.own_knowledge
        yield Finished(
            self._answer(
                Outcome.ANSWERED,
                binding.text,
                tuple(binding.citations),
                tuple(binding.statements),
                writer.name,
            )
        )

    def _without(
        self, writer: Writer, reason: str, *, begun: bool, enough: bool
    ) -> Iterator[AnswerEvent]:
        """Let the built-in composer answer after the model failed; the answer says so."""
        self._note = self._phrases.model_failed.format(model=writer.name, reason=reason)
        if begun:
            yield Restarted(self._note)
        yield from self._fall_back(enough=enough)

    # Without one

    def _fall_back(
        self, *, enough: bool, removed: tuple[CheckedStatement, ...] = ()
    ) -> Iterator[AnswerEvent]:
        """Compose from the evidence if it is enough, or decline; keep the model's statements."""
        if enough:
            yield from self._compose(removed)
        else:
            yield from self._decline(removed)

    def _compose(self, removed: tuple[CheckedStatement, ...] = ()) -> Iterator[AnswerEvent]:
        with self._trace.step("composing", composer=BUILT_IN) as step:
            text = ""
            citations: list[Citation] = []
            statements = list(removed)
            for piece in compose_parts(
                self._findings, self._settings, self._phrases, self._knowledge
            ):
                before = len(text)
                text += piece.text
                yield TextPiece(piece.text)
                if not piece.group:
                    continue
                citation = cite(
                    piece, len(citations) + 1, before + piece.start, len(text), self._knowledge
                )
                citations.append(citation)
                checked = CheckedStatement(
                    citation.answer_start,
                    citation.answer_end,
                    Verdict.SUPPORTED,
                    citation.support,
                    (citation.number,),
                )
                statements.append(checked)
                yield CitationBound(citation)
                yield StatementChecked(checked)
            step.record(statements=len(statements) - len(removed), citations=len(citations))
        if self._enough < UNSURE:
            self._note = " ".join(filter(None, (self._note, self._phrases.unsure)))
        yield Finished(self._answer(Outcome.ANSWERED, text, tuple(citations), tuple(statements)))

    def _answer(
        self,
        outcome: Outcome,
        text: str,
        citations: tuple[Citation, ...] = (),
        statements: tuple[CheckedStatement, ...] = (),
        composer: str = BUILT_IN,
        approval: Approval | None = None,
    ) -> Answer:
        enough = 1.0 if outcome == Outcome.SMALL_TALK else self._enough
        return Answer(
            self._question,
            self._standalone,
            outcome,
            text,
            citations,
            self._evidence,
            enough,
            statements,
            composer,
            self._note_on(citations),
            self._prompt,
            self._raw,
            self._use,
            approval,
            self._choices,
        )

    def _note_on(self, citations: Sequence[Citation]) -> str:
        """Return the note for the reader, with the cited documents that are not in force."""
        outdated = {
            citation.document_id: outdated_note(self._phrases, citation.title, citation.outdated)
            for citation in citations
            if citation.outdated is not None
        }
        return " ".join(filter(None, (self._note, *outdated.values())))
