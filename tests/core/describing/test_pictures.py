"""What a model says about a picture is taken apart, or refused."""

from __future__ import annotations

import pytest

from fontanel.core.describing.by_model import DescriptionUnusable
from fontanel.core.describing.pictures import picture_request, picture_tokens, taken_picture


@pytest.mark.parametrize(
    ("written", "description", "text"),
    [
        ("Description: A red crane.\nText: none", "A red crane.", ""),
        ("**Description:** A crane.\n**Text:** 40 T\nNo entry", "A crane.", "40 T No entry"),
        ("description: A crane.", "A crane.", ""),
        ("Description: A crane.\nText: No text.", "A crane.", ""),
    ],
)  # fmt: skip
def test_description_and_text_are_told_apart(written: str, description: str, text: str) -> None:
    assert taken_picture(written) == (description, text)


@pytest.mark.parametrize(
    "written", ["", "A red crane.", "Text: MAX 40 T", f"Description: {'crane ' * 200}"]
)
def test_other_answers_are_refused(written: str) -> None:
    with pytest.raises(DescriptionUnusable):
        taken_picture(written)


def test_a_request_has_the_picture_and_its_tokens_grow_with_it() -> None:
    assert picture_request(b"jpeg")[1].pictures == (b"jpeg",)
    assert picture_tokens(100, 100) < picture_tokens(1000, 1000) < 3000
    assert picture_tokens(10_000, 10_000) == picture_tokens(1280, 1280)
