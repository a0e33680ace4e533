"""Text to index terms."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.text.analysis import STOP_WORDS, Analyser, fold
from fontanel.core.text.language import detect_language


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("The pilots boarded", ["pilot", "board"]),
        ("Café CAFÉ cafe", ["cafe", "cafe", "cafe"]),
        ("shared_buffers", ["shared_buffers", "share", "buffer"]),
        ("version 3.11.2", ["version", "3.11.2", "3", "11", "2"]),
        ("storm-plan.pdf", ["storm-plan.pdf", "storm", "plan", "pdf"]),
        ("getFileName", ["getfilename", "get", "file", "name"]),
        ("ship's ships", ["ship", "ship"]),
        ("form DG-4", ["form", "dg-4", "dg", "4"]),
        ("--exit-code", ["exit-code", "exit", "code"]),
        ("ﬁne ２０ knots", ["fine", "20", "knot"]),
        ("港湾規則", ["港湾", "湾規", "規則"]),
        ("the of and", []),
    ],
)
def test_terms(text: str, expected: list[str]) -> None:
    assert Analyser("en").terms(text) == expected


def test_stems_follow_the_language() -> None:
    assert Analyser("de").terms("Schiffe") == ["schiff"]
    assert Analyser("xx").terms("Running") == ["running"]


def test_spans_say_where_terms_stand() -> None:
    text = "Pilots board at the mole."
    results = {term.text: text[term.start : term.end] for term in Analyser().spans(text)}
    assert results == {"pilot": "Pilots", "board": "board", "mole": "mole"}


@given(st.text(max_size=200))
def test_terms_and_spans_agree_and_stop_words_never_come(text: str) -> None:
    analyser = Analyser("en")
    terms = analyser.terms(text)
    assert terms == [term.text for term in analyser.spans(text)]
    assert terms == analyser.terms(text)
    assert not STOP_WORDS.intersection(
        term
        for term in terms
        if term.isascii() and term.isalpha() and len(term) > 2 and term in {"the", "and"}
    )


@given(st.text(max_size=60))
def test_folding_twice_changes_nothing_more(text: str) -> None:
    assert fold(fold(text)) == fold(text)


@pytest.mark.parametrize(
    ("text", "language"),
    [
        (
            "The ship may leave the berth when the wind is below the limit and the master agrees.",
            "en",
        ),
        (
            (
                "Das Schiff darf den Liegeplatz verlassen, wenn der Wind nicht zu stark ist und"
                " sich die Lage bessert."
            ),
            "de",
        ),
        (
            (
                "Le navire peut quitter le quai dans les conditions qui sont données par le maître"
                " du port."
            ),
            "fr",
        ),
        (
            (
                "El barco no puede salir de los muelles cuando el viento es más fuerte que lo"
                " permitido."
            ),
            "es",
        ),
        ("123 456", "en"),
        ("港内の船は五ノットより速く走ってはならない。", "ja"),
        ("港内船舶的速度不得超过五节。", "zh"),
        ("В гавани суда идут не быстрее пяти узлов.", "ru"),
        (
            (
                "The word гавань means harbour, and the pilot knows it as well as the master of the"
                " ship does."
            ),
            "en",
        ),
        ("Die Schiffe fahren nicht schneller als fünf Knoten, und der Lotse ist an Bord.", "de"),
    ],
)
def test_language(text: str, language: str) -> None:
    assert detect_language(text) == language


@pytest.mark.parametrize(
    ("question", "language"),
    [
        ("How do I exclude files above a certain size?", "en"),
        ("What do I do till I get to the dentist?", "en"),
        ("Why must I phone rather than type when something happens at Alder Bay?", "en"),
        ("Wann ist die Schleuse offen?", "de"),
        ("Quand est-ce que le port est fermé pour les navires ?", "fr"),
        ("O que acontece se você selecionar um destino fora do alcance?", "pt"),
    ],
)
def test_the_language_of_a_question(question: str, language: str) -> None:
    assert detect_language(question, least=2) == language
