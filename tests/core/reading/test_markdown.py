"""Markdown: notes, blocks of HTML, and code and tables within lists."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st

from fontanel.core.reading import Reading, read


def md(text: str) -> Reading:
    return read(text.encode(), "rules.md")


def blocks(text: str) -> list[tuple[str, str]]:
    reading = md(text)
    return [(block.kind, reading.text[block.start : block.end]) for block in reading.blocks]


def test_a_note_comes_after_the_first_block_that_refers_to_it() -> None:
    assert blocks(
        "Six lines[^1], and more[^long].\n\n- at amber[^1]\n\nA class such as [^a-z] is text,"
        " `x[^1]` too.\n\n    code[^1]\n\n[^1]: Since.\n[^long]: First line\n    and"
        " second.\n[^alone]: refers to nothing\n"
    ) == [
        ("paragraph", "Six lines, and more."),
        ("footnote", "1 Since."),
        ("footnote", "long First line and second."),
        ("list", "- at amber"),
        ("paragraph", "A class such as [^a-z] is text, x[^1] too."),
        ("code", "code[^1]"),
        ("paragraph", "[^alone]: refers to nothing"),
    ]


def test_blocks_of_html_keep_their_structure_and_say_nothing_hidden() -> None:
    assert blocks(
        "# Rules\n\n<table><tr><th>Berth</th><th>Depth</th></tr><tr><td>7</td><td>12"
        " m</td></tr></table>\n\n<script>alert(1)</script>\n\n<div>Tide &amp;"
        " wind.</div>\n\n<ul><li>one</li><li>two</li></ul>\n"
    ) == [
        ("heading", "Rules"),
        ("table", "Berth\tDepth\n7\t12 m"),
        ("paragraph", "Tide & wind."),
        ("list", "- one\n- two"),
    ]
    assert md("# Rules\n\n<h2>Part</h2><pre>x</pre>\n").title == "Rules"


def test_code_and_tables_within_items() -> None:
    assert blocks(
        "1. Call:\n\n   ```sh\n   tide --now\n     wait\n   ```\n\n   and listen.\n2. Leave\n\n   |"
        " a | b |\n   |---|---|\n   | 1 | 2 |\n\n   - slowly\n3. ```\n   alone\n   ```\n\nEnd.\n"
    ) == [
        ("list", "1. Call:"),
        ("code", "tide --now\n  wait"),
        ("paragraph", "and listen."),
        ("list", "2. Leave"),
        ("table", "a\tb\n1\t2"),
        ("list", "  - slowly"),
        ("code", "alone"),
        ("paragraph", "End."),
    ]


WORD = st.from_regex(r"[a-z]{2,8}", fullmatch=True)
FORMS = st.sampled_from(
    [
        "{}",
        "## {}",
        "> {}",
        "- {}",
        "1. {}",
        "    {}",
        "```\n{}\n```",
        "<p>{}</p>",
        "<pre>{}</pre>",
        "|a|\n|-|\n|{}|",
        "**{}**",
        "[{}](x)",
    ]
)


@settings(max_examples=150, deadline=None)
@given(st.lists(st.tuples(FORMS, WORD), min_size=1, max_size=9))
def test_every_word_comes_once_and_in_order(parts: list[tuple[str, str]]) -> None:
    words = [f"{word}{number}x" for number, (_, word) in enumerate(parts)]
    text = md(
        "\n\n".join(form.format(word) for (form, _), word in zip(parts, words, strict=True))
    ).text
    results = [text.find(word) for word in words]
    assert results == sorted(results)
    assert -1 not in results
    assert [text.count(word) for word in words] == [1] * len(words)


@settings(max_examples=120, deadline=None)
@given(st.text(st.sampled_from("#*_-`|[]^:<>! \n1.ab\ue000\ue001"), max_size=120))
def test_any_signs_give_a_reading(signs: str) -> None:
    assert "Low water." in md("Low water.\n\n" + signs).text


def test_each_of_many_notes_comes_once() -> None:
    count = 2000
    body = "".join(f"Word{n}[^{n}] is here.\n\n" for n in range(count)) + "".join(
        f"[^{n}]: Note {n}.\n" for n in range(count)
    )
    reading = md(body)
    assert sum(block.kind == "footnote" for block in reading.blocks) == count
