"""reStructuredText with the directives of documentation generators, without loss."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fontanel.core.reading import Reading, read


def rst(text: str) -> Reading:
    return read(text.encode(), "tide.rst")


def blocks(reading: Reading) -> list[tuple[str, str]]:
    return [(block.kind, reading.text[block.start : block.end]) for block in reading.blocks]


def said(text: str) -> list[str]:
    return [content for _, content in blocks(rst("Tides\n=====\n\n" + text))[1:]]


def test_descriptions_of_functions_classes_and_options() -> None:
    assert said(
        ".. module:: tide\n   :synopsis: Tides.\n\n.. function:: height(when, *, berth=7)\n        "
        "      height(when)\n   :async:\n\n   Return the height at *when*.\n\n   .. versionadded::"
        " 3.2\n      The berth.\n\n   .. deprecated:: 4.0\n\n.. py:class:: Table(path)\n\n   A"
        " table of tides.\n\n   .. method:: rows(\\*args)\n\n      Every row.\n\n.. option::"
        " --quiet\n\n   Say nothing.\n\n.. envvar:: TIDE_PATH\n\n   Where tables lie.\n"
    ) == [
        "height(when, *, berth=7)",
        "height(when)",
        "Return the height at when.",
        "New in version 3.2: The berth.",
        "Deprecated since version 4.0.",
        "Table(path)",
        "A table of tides.",
        "rows(*args)",
        "Every row.",
        "--quiet",
        "Say nothing.",
        "TIDE_PATH",
        "Where tables lie.",
    ]


def test_what_is_no_text_is_left_out_and_what_nobody_knows_is_kept() -> None:
    assert said(
        ".. toctree::\n   :maxdepth: 2\n\n   other\n   pages\n\n.. index:: single: tide\n\n.."
        " contents::\n\n.. include:: /etc/passwd\n\n.. raw:: html\n\n   <script>x</script>\n\n.."
        " literalinclude:: /etc/passwd\n\n.. house-rule:: Nobody sails alone.\n   :tone: strict\n\n"
        "   Two at least.\n\n.. only:: html\n\n   On pages.\n\n.. note:: Times are in UTC.\n\n.."
        " warning::\n\n   Stay in.\n\n.. glossary::\n\n   neap\n      A small tide.\n"
    ) == [
        "Nobody sails alone.",
        "Two at least.",
        "On pages.",
        "Times are in UTC.",
        "Stay in.",
        "neap: A small tide.",
    ]


@pytest.mark.parametrize(
    ("source", "shown"),
    [
        (":func:`height`", "height()"),
        (":meth:`~tide.Table.rows`", "rows()"),
        (":class:`tide.Table`", "tide.Table"),
        (":ref:`the lights <lights>`", "the lights"),
        (":c:macro:`!TIDE`", "TIDE"),
        ("``a  b``", "a  b"),
        (":sup:`2`", "2"),
        ("*so* **much** `it <https://skerrow.example>`_", "so much it"),
    ],
)
def test_a_role_shows_what_a_reader_sees(source: str, shown: str) -> None:
    (text,) = said(f"See {source} for more.\n")
    assert text == " ".join(f"See {shown} for more.".split())


def test_a_role_within_a_drawn_table_leaves_its_columns_alone() -> None:
    (table,) = said(
        "+----------------+----------------------+\n| name           | type                 |\n"
        "+================+======================+\n| *path*         | a :class:`Path` that |\n"
        "|                | is :func:`known`     |\n+----------------+----------------------+\n"
    )
    assert table == "name\ttype\npath\ta Path that is known()"


def test_code_stays_code_wherever_it_stands() -> None:
    reading = rst(
        "Tides\n=====\n\n.. code-block:: python\n   :linenos:\n   :emphasize-lines: 2\n\n   if"
        " low:\n       wait()\n\nThen::\n\n   go()\n\n1. Call:\n\n   .. code:: sh\n\n      tide"
        " --now\n\n   and wait.\n2. Leave.\n\n>>> height()\n7\n\nmoor\n   Make fast.\n\n   ::\n\n  "
        "    moor(7)\n"
    )
    assert blocks(reading)[1:] == [
        ("code", "if low:\n    wait()"),
        ("paragraph", "Then:"),
        ("code", "go()"),
        ("list", "1. Call:"),
        ("code", "tide --now"),
        ("paragraph", "and wait."),
        ("list", "2. Leave."),
        ("code", ">>> height()\n7"),
        ("paragraph", "moor: Make fast."),
        ("code", "moor(7)"),
    ]


def test_lines_options_quotations_captions_and_the_head() -> None:
    reading = rst(
        ":Author: Varda\n:Version: 3\n\nTides\n-----\n\n| Low at six,\n| high at noon.\n\n-q,"
        " --quiet  Say nothing.\n-n NUM       How many.\n\nSo they say:\n\n  The sea waits.\n\n  --"
        " Old saying\n\n.. math:: h = 7\n\n.. list-table:: Berths\n   :header-rows: 1\n\n   * -"
        " Berth\n     - Depth\n   * - 7\n     - 12 m\n\n.. [1] Since 2024.\n"
    )
    assert [text for _, text in blocks(reading)] == [
        "- author: Varda\n- version: 3",
        "Tides",
        "Low at six, high at noon.",
        "- -q, --quiet: Say nothing.\n- -n NUM: How many.",
        "So they say:",
        "The sea waits.",
        "Old saying",
        "h = 7",
        "Berths",
        "Berth\tDepth\n7\t12 m",
        "Since 2024.",
    ]


def test_what_a_name_means_does_not_last_beyond_a_document() -> None:
    described = ".. module:: tide\n\n.. class:: Table\n\n   A table.\n"
    of_its_own = ".. class:: small\n\nA paragraph.\n"
    assert said(described) == ["Table", "A table."]
    assert said(of_its_own) == ["A paragraph."]
    assert said(described) == ["Table", "A table."]


WORD = st.from_regex(r"[a-z]{2,8}", fullmatch=True)
WRAPPED = st.sampled_from(
    [
        "{}",
        ".. function:: {}",
        ".. note:: {}",
        ".. made-up::\n\n   {}",
        "* {}",
        "term\n   {}",
        ".. seealso::\n\n   {}",
        ":func:`{}`",
        ".. versionchanged:: 1.0\n   {}",
        "| {}",
        "::\n\n   {}",
    ]
)


@settings(max_examples=120, deadline=None)
@given(st.lists(st.tuples(WRAPPED, WORD), min_size=1, max_size=8))
def test_every_word_comes_once_whatever_holds_it(parts: list[tuple[str, str]]) -> None:
    # Each word has a number, so that none is like another.
    words = [f"{word}{number}" for number, (_, word) in enumerate(parts)]
    source = (
        "\n\n".join(form.format(word) for (form, _), word in zip(parts, words, strict=True)) + "\n"
    )
    text = rst("Tides\n=====\n\n" + source).text
    results = [text.find(word) for word in words]
    assert -1 not in results
    assert results == sorted(results)
    assert all(text.count(word) >= 1 for word in words)


@settings(max_examples=150, deadline=None)
@given(st.text(st.sampled_from(":`.|*_-=+ \nab<>~!\\[]"), max_size=120))
def test_any_signs_give_a_reading(signs: str) -> None:
    reading = rst("Tides\n=====\n\nLow water.\n\n" + signs)
    assert "Low water." in reading.text
