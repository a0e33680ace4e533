"""Make the cosines of different embedders comparable.

Each embedder has its own scale: with one, texts that have nothing in common have a cosine of 0.05,
with another one of 0.7. An embedder is measured with questions whose text is known, and its cosines
are mapped linearly so that matching and other pairs have the means of the built-in embedder, for
which scores are calibrated.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from fontanel.core.arrays import Floats
from fontanel.errors import FontanelError

#: Questions and the texts that answer them.
PAIRS = (
    ("Where can I leave my bicycle?", "Bicycles are left in the shed behind the ticket office."),
    (
        "How much does a season ticket cost?",
        "A season ticket for the summer is sold for 85 crowns.",
    ),
    ("When does the library open?", "The library lends books from 9:00 on weekdays."),
    ("Who repairs broken heaters?", "A broken heater is mended by the caretaker."),
    ("May dogs come along?", "Pets must stay outside; guide dogs are welcome."),
    ("How is the pump restarted?", "To restart the pump, press the green button twice."),
    ("What is the maximum wind for the crane?", "The crane stops lifting at gusts of 38 knots."),
    ("How long is the warranty?", "Faults are put right free of charge for two years."),
    ("Which form is needed for travel costs?", "Travel expenses are claimed with form T4."),
    ("Can I pay by card?", "The kiosk accepts cash and all usual bank cards."),
    ("What happens to lost luggage?", "Luggage that nobody collects is kept for three months."),
    ("How do I reset my password?", "A link to set another password is sent by e-mail."),
    ("When are wages paid?", "Salaries are transferred on the 25th of each month."),
    ("Is there a discount for pupils?", "Pupils pay half the price of admission."),
    ("What should I do in a fire?", "In case of fire leave by the stairs and assemble outside."),
    ("How many people fit into the hall?", "The hall seats 240 guests."),
)
#: The mean cosines of the built-in embedder: of these pairs, and of questions with other texts.
REFERENCE = (0.594, 0.075)
#: The smallest difference of the two means of an embedder that tells texts apart.
_MIN_DIFFERENCE = 0.02

Embed = Callable[[Sequence[str]], Floats]


class EmbedderUnfit(FontanelError, ValueError):
    """An embedder does not tell texts that answer a question from others."""


@dataclass(frozen=True, slots=True)
class Scale:
    """A linear map of an embedder's cosines to those of the built-in one."""

    factor: float = 1.0
    offset: float = 0.0

    def apply(self, cosines: Floats) -> Floats:
        """Return cosines on the scale of the built-in embedder, at most 1; NaN stays."""
        scaled: Floats = np.minimum(cosines * self.factor + self.offset, 1.0).astype(np.float32)
        return scaled


def measure(embed_questions: Embed, embed_texts: Embed) -> tuple[float, float]:
    """Return the mean cosines of the pairs, and of questions with other texts."""
    questions = embed_questions([question for question, _ in PAIRS])
    texts = embed_texts([text for _, text in PAIRS])
    cosines = questions @ texts.T
    own = np.eye(len(PAIRS), dtype=bool)
    return float(cosines[own].mean()), float(cosines[~own].mean())


def scale_of(embed_questions: Embed, embed_texts: Embed) -> Scale:
    """Return the scale of an embedder.

    Raises:
        EmbedderUnfit: it does not tell the pairs from other texts.
    """
    match, other = measure(embed_questions, embed_texts)
    if match - other < _MIN_DIFFERENCE:
        raise EmbedderUnfit(
            f"questions are no nearer to the texts that answer them ({match:.2f}) than to others"
            f" ({other:.2f})"
        )
    factor = (REFERENCE[0] - REFERENCE[1]) / (match - other)
    return Scale(factor, REFERENCE[1] - factor * other)
