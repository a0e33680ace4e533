"""Lines on pages.

Joining pieces, ordering columns, removing running lines, tables.
"""

from __future__ import annotations

import pytest

from fontanel.core.reading.paged.lines import (
    Cell,
    Line,
    PageLines,
    drop_running,
    in_columns,
    joined,
)
from fontanel.core.reading.paged.ruled_tables import ruled_tables


def line(
    text: str,
    left: float,
    baseline: float,
    page: int = 1,
    width: float | None = None,
    size: float = 10.0,
) -> Line:
    """A line of text, five points a letter wide unless told."""
    right = left + (width if width is not None else 5.0 * len(text))
    return Line(page, [Cell(left, right, text)], baseline, baseline - 2, baseline + 8, size)


def pages(count: int, *texts: tuple[str, float]) -> list[PageLines]:
    """So many pages with the same lines, `#` in them being the page's number."""
    return [
        PageLines(
            n,
            600,
            800,
            [line(text.replace("#", str(n)), 60, y, n) for text, y in texts]
            + [line(f"body of {n}", 60, 400, n)],
        )
        for n in range(1, count + 1)
    ]


class TestJoined:
    def test_pieces_on_one_baseline_are_one_line(self) -> None:
        result = joined([line("The lock", 60, 700), line("opens.", 103, 700.4)])
        assert [item.text for item in result] == ["The lock opens."]
        assert len(result[0].cells) == 1

    def test_a_wide_gap_parts_cells(self) -> None:
        result = joined([line("Berth", 60, 700), line("7 m", 200, 700)])
        assert [[cell.text for cell in item.cells] for item in result] == [["Berth", "7 m"]]

    def test_letters_that_touch_are_one_word(self) -> None:
        assert joined([line("har", 60, 700), line("bour", 75.2, 700)])[0].text == "harbour"

    def test_other_baselines_stay_apart(self) -> None:
        assert len(joined([line("One", 60, 700), line("two", 90, 688)])) == 2

    def test_what_stands_to_the_left_is_another_line(self) -> None:
        assert len(joined([line("right", 200, 700), line("left", 60, 700)])) == 2


class TestColumns:
    def page(self, letters: int, rows: int = 12) -> PageLines:
        lines = [
            Line(
                1,
                [Cell(60, 280, f"l{n} " + "x" * letters), Cell(320, 540, f"r{n} " + "y" * letters)],
                700 - 12 * n,
                698 - 12 * n,
                708 - 12 * n,
                10,
            )
            for n in range(rows)
        ]
        return PageLines(1, 600, 800, lines)

    def test_prose_in_two_columns_is_read_column_by_column(self) -> None:
        page = self.page(30)
        in_columns(page)
        assert [item.text[:2] for item in page.lines[:2]] == ["l0", "l1"]
        assert [item.text[0] for item in page.lines] == ["l"] * 12 + ["r"] * 12

    def test_a_line_across_stays_between(self) -> None:
        page = self.page(30)
        page.lines.insert(
            6,
            line(
                "A heading that runs across both of the columns of the page",
                60,
                700 - 12 * 5.5,
                width=480,
            ),
        )
        in_columns(page)
        kinds = "".join(item.text[0] for item in page.lines)
        assert kinds == "l" * 6 + "r" * 6 + "A" + "l" * 6 + "r" * 6

    @pytest.mark.parametrize(("letters", "rows"), [(4, 12), (30, 4)])
    def test_short_cells_and_few_rows_are_a_table(self, letters: int, rows: int) -> None:
        page = self.page(letters, rows)
        before = [item.text for item in page.lines]
        in_columns(page)
        assert [item.text for item in page.lines] == before


class TestRunningLines:
    def left(self, found: list[PageLines]) -> set[str]:
        drop_running(found)
        return {item.text for page in found for item in page.lines}

    def test_heads_and_page_numbers_go(self) -> None:
        assert self.left(pages(5, ("Harbour handbook", 780), ("Page # of 5", 30))) == {
            f"body of {n}" for n in range(1, 6)
        }

    def test_a_chapter_of_one_page_is_known_by_its_number(self) -> None:
        result = pages(6, ("Rules", 780))
        for page, name in zip(result, ["One", "Two", "Three", "Four", "Five", "Six"], strict=True):
            page.lines.append(line(f"{name} chapter {page.number + 4}", 60, 30, page.number))
        assert self.left(result) == {f"body of {n}" for n in range(1, 7)}

    def test_what_stands_in_the_middle_stays(self) -> None:
        assert "the same on each page" in self.left(pages(5, ("the same on each page", 300)))

    def test_a_first_line_that_comes_once_stays(self) -> None:
        result = pages(5, ("Handbook", 780))
        result[0].lines.append(line("In force from March", 60, 770))
        assert "In force from March" in self.left(result)

    def test_a_single_page_keeps_everything(self) -> None:
        assert len(self.left(pages(1, ("Head", 780), ("7", 30)))) == 3


class TestGrids:
    def grid(
        self, xs: list[float], ys: list[float], texts: list[list[str]], down: bool = True
    ) -> PageLines:
        page = PageLines(1, 600, 800)
        page.rules = [(xs[0], y - 0.3, xs[-1], y + 0.3) for y in ys]
        if down:
            page.rules += [(x - 0.3, ys[-1], x + 0.3, ys[0]) for x in xs]
        for row, cells in enumerate(texts):
            y = (ys[row] + ys[row + 1]) / 2 - 3
            results = [
                Cell(xs[i] + 4, xs[i] + 4 + 5 * len(text), text)
                for i, text in enumerate(cells)
                if text
            ]
            page.lines.append(Line(1, results, y, y - 2, y + 8, 10))
        return page

    XS, YS = [60.0, 160.0, 260.0], [700.0, 680.0, 660.0, 640.0]
    ROWS = [["Berth", "Depth"], ["North", "7 m"], ["South", "4 m"]]

    def test_rules_make_cells(self) -> None:
        result = ruled_tables(self.grid(self.XS, self.YS, self.ROWS))
        assert [table.rows for table in result] == [self.ROWS]
        assert result[0].header_rows == 1

    def test_rules_across_alone_are_enough_where_cells_line_up(self) -> None:
        result = ruled_tables(self.grid(self.XS, self.YS, self.ROWS, down=False))
        assert [table.rows for table in result] == [self.ROWS]

    def test_outer_sides_need_not_be_drawn(self) -> None:
        page = self.grid(self.XS, self.YS, self.ROWS)
        page.rules = [rule for rule in page.rules if not (rule[0] < 61 and rule[2] < 61)]
        assert [table.rows for table in ruled_tables(page)] == [self.ROWS]

    def test_two_tables_below_each_other_stay_two(self) -> None:
        page = self.grid(self.XS, self.YS, self.ROWS)
        second = self.grid(
            self.XS, [y - 200 for y in self.YS], [["Buoy", "Light"], ["A1", "red"], ["B2", "green"]]
        )
        page.rules += second.rules
        page.lines += second.lines
        assert [table.rows[0] for table in ruled_tables(page)] == [
            ["Berth", "Depth"],
            ["Buoy", "Light"],
        ]

    def test_a_frame_around_prose_is_no_table(self) -> None:
        page = PageLines(
            1, 600, 800, [line("Nobody walks below a load.", 70, 690), line("Ask first.", 70, 670)]
        )
        page.rules = [(60, 650, 540, 710)]
        assert ruled_tables(page) == []

    def test_an_underlined_heading_is_no_table(self) -> None:
        page = PageLines(1, 600, 800, [line("Heading", 60, 702)])
        page.rules = [(60, 700, 540, 700.5)]
        assert ruled_tables(page) == []
