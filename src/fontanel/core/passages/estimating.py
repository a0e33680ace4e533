"""About how much there is to embed, without counting the tokens of every text."""

from __future__ import annotations

from collections.abc import Iterable

from fontanel.core.embedding.encoder import estimate_read_tokens
from fontanel.core.passages.fields import window_texts

#: Up to this many passages are compared to find those that repeat; of more, this many should be.
COMPARED = 100_000
#: Passages that follow each other and are sampled together: neighbours share texts.
RUN = 50
#: The texts of about this many passages are counted.
_SAMPLE = 2_500


def estimate_texts(
    passages: Iterable[tuple[str, str]], count: int, *, windows: bool
) -> tuple[int, int]:
    """Estimate how many texts and tokens of passages are embedded.

    Texts that repeat are embedded once. Repeated passages are found by comparing all; of the
    others, runs are sampled, their texts counted, and the counts extrapolated by length.

    Args:
        passages: The text to embed and the passage's text, in the order of the documents.
        count: How many passages there are; if `passages` are fewer, they are a sample.
        windows: Whether the windows of passages are embedded too.

    Returns:
        The number of texts and of tokens.
    """
    step = max(1, min(count, COMPARED) // _SAMPLE)
    texts: dict[str, None] = {}
    seen: set[int] = set()
    compared = length = sampled = 0
    for whole, text in passages:
        compared += 1
        if (key := hash(whole)) in seen:
            continue
        if len(seen) // RUN % step == 0:
            sampled += len(text)
            texts.update(dict.fromkeys((whole, *(window_texts(text) if windows else ()))))
        seen.add(key)
        length += len(text)
    if not sampled:
        return 0, 0
    share = length / sampled * count / compared
    return round(len(texts) * share), round(sum(estimate_read_tokens(list(texts))) * share)
