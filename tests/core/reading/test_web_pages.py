"""Web pages: what is content, in which order, under which title."""

from __future__ import annotations

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from fontanel.core.reading import Reading, ReadingFailed, read
from tests.core.reading.paged.test_layout import texts


def page(body: str, title: str = "") -> Reading:
    return read(
        f"<html><head><title>{title}</title></head><body>{body}</body></html>".encode(), "a.html"
    )


class TestTitles:
    @pytest.mark.parametrize(
        ("title", "heading", "expected"),
        [
            ("Mooring dues - Skerrow Harbour Trust", "Mooring dues", "Mooring dues"),
            ("Skerrow Harbour Trust: dues", "Mooring dues", "Skerrow Harbour Trust: dues"),
            ("Mooring dues", "Mooring dues", "Mooring dues"),
            ("", "Mooring dues", "Mooring dues"),
            ("FAQ for masters", "FAQ", "FAQ for masters"),
        ],
    )
    def test_the_site_s_name_is_no_part_of_a_title(
        self, title: str, heading: str, expected: str
    ) -> None:
        assert (
            page(f"<h1>{heading}</h1><p>The dues are paid at the office.</p>", title).title
            == expected
        )


class TestLists:
    def test_code_in_an_item_stays_code(self) -> None:
        reading = page(
            "<ol><li>Ask the gauge:<pre>gauge --read\ngauge --log</pre></li><li>Write it"
            " down.</li></ol>"
        )
        assert texts(reading, "code") == ["gauge --read\ngauge --log"]
        assert texts(reading, "paragraph") == ["1. Ask the gauge:", "2. Write it down."]

    def test_a_list_of_code_is_numbered_from_where_it_says(self) -> None:
        reading = page("<ol start='4'><li>Read:<pre>gauge</pre></li><li>Write.</li></ol>")
        assert texts(reading, "paragraph") == ["4. Read:", "5. Write."]

    def test_a_table_in_an_item_stays_a_table(self) -> None:
        rows = "<tr><th>Berth</th><th>Depth</th></tr><tr><td>4</td><td>6.8</td></tr>"
        reading = page(f"<ul><li>Depths<table>{rows}</table></li><li>Nothing else</li></ul>")
        assert texts(reading, "table") == ["Berth\tDepth\n4\t6.8"]

    def test_plain_items_are_one_list_with_their_nesting(self) -> None:
        reading = page(
            "<ul><li>Tugs<ul><li>Ostrea</li><li>Gannet</li></ul></li><li>Pilots</li></ul>"
        )
        assert texts(reading, "list") == ["- Tugs\n  - Ostrea\n  - Gannet\n- Pilots"]

    def test_a_list_of_links_is_navigation(self) -> None:
        links = "".join(f'<li><a href="/{n}">Page number {n}</a></li>' for n in range(6))
        assert (
            page(f"<ul>{links}</ul><p>The lock opens at six.</p>").text == "The lock opens at six."
        )

    def test_definitions_in_groups_keep_their_terms(self) -> None:
        reading = page(
            "<dl><div><dt>ETA</dt><dd>when a ship is expected</dd></div><dt>POB</dt><dd>pilot on"
            " board</dd></dl>"
        )
        assert texts(reading, "paragraph") == [
            "ETA: when a ship is expected",
            "POB: pilot on board",
        ]


class TestContent:
    CONTENT = (
        "<p>"
        + "The harbour office is open from eight to four on every working day of the year. " * 3
        + "</p>"
    )

    @pytest.mark.parametrize(
        "around",
        [
            "<nav>Home Berths Dues</nav><main>{}</main><footer>Imprint</footer>",
            '<div class="sidebar">Home Berths Dues</div><div role="main">{}</div>',
            "<header>Home Berths Dues</header><article>{}</article>",
            '<div class="navbar">Home Berths Dues</div>{}',
            '{}<div class="cookie">We keep cookies</div>',
            '<p><a rel="prev" href="a">Berths</a> <a rel="next" href="b">Dues</a></p>{}',
        ],
    )
    def test_what_stands_around_the_content_is_left_out(self, around: str) -> None:
        text = page(around.format(self.CONTENT)).text
        assert text.startswith("The harbour office")
        for word in ("Home", "Imprint", "Dues", "cookies"):
            assert word not in text

    def test_words_never_run_together_where_tags_meet(self) -> None:
        reading = page(
            "<p>Berth<br>four</p><div>Tide<span>"
            " table</span></div><table><tr><td>a<p>b</p></td><td>c</td></tr></table>"
        )
        assert texts(reading, "paragraph") == ["Berth four", "Tide table"]
        assert texts(reading, "table") == ["a b\tc"]

    def test_an_inline_tag_that_holds_a_block_is_no_reason_to_lose_its_order(self) -> None:
        reading = page("<a href='x'>Before <div><h2>Heading</h2><p>StoredFile.</p></div> after</a>")
        assert reading.text.replace("\n\n", "|") == "Before|Heading|StoredFile.|after"

    def test_the_anchor_nearest_above_leads_to_a_block(self) -> None:
        reading = page(
            "<h2 id='dues'>Dues</h2><p>Twelve crowns.</p><section id='late'><p>A quarter"
            " more.</p></section>"
        )
        assert [block.anchor for block in reading.blocks] == ["dues", "dues", "late"]

    @pytest.mark.parametrize(
        "body", ["", "<!-- nothing -->", "<script>let a = 1</script>", "<nav>Home</nav>"]
    )
    def test_a_page_without_content_says_so(self, body: str) -> None:
        with pytest.raises(ReadingFailed) as failure:
            page(body)
        assert failure.value.code in ("no_text", "empty")


@settings(max_examples=600)
@given(
    st.lists(
        st.sampled_from(
            [
                "<p>",
                "</p>",
                "<ul>",
                "<li>",
                "</ul>",
                "<table>",
                "<tr>",
                "<tbody>",
                "<td>",
                "</table>",
                "<pre>",
                "</pre>",
                "<dl>",
                "<dd>",
                "word ",
                "other ",
                "<br>",
                "<h2>",
                "</h2>",
                "<a>",
                "</a>",
            ]
        ),
        max_size=30,
    )
)
@example(["<ul>", "<li>", "<ul>", "word "])
def test_however_tags_are_nested_each_word_comes_once_and_in_order(parts: list[str]) -> None:
    requested = [part.strip() for part in parts if not part.startswith("<")]
    try:
        text = page("".join(parts)).text
    except ReadingFailed:
        assert not requested
        return
    assert [word for word in text.split() if word in ("word", "other")] == requested


def test_a_table_s_caption_comes_before_it() -> None:
    rows = "<tr><th>Berth</th><th>Depth</th></tr><tr><td>4</td><td>6.8</td></tr>"
    reading = page(f"<table><caption>Depths at low water</caption>{rows}</table>")
    assert [block.kind for block in reading.blocks] == ["paragraph", "table"]
    assert texts(reading, "paragraph") == ["Depths at low water"]


def test_what_is_hidden_is_not_read_whatever_holds_it() -> None:
    page = (
        b"<body><main><div><i class='icon' aria-hidden='true'>home</i>The <b>lock</b> opens <em"
        b" hidden>never</em>at six.</div></main></body>"
    )
    assert read(page, "a.html").text == "The lock opens at six."


def test_a_term_that_ends_with_a_colon_gets_no_second_one() -> None:
    result = page("<dl><dt>Raises:</dt><dd>An alarm.</dd><dt>Gale</dt><dd>Force eight.</dd></dl>")
    assert result.text == "Raises: An alarm.\n\nGale: Force eight."
