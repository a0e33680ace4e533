"""Messages between the service and an embedding process."""

from __future__ import annotations

from fontanel.engine.workers.framing import Message


class EmbedTexts(Message):
    """Embed texts."""

    texts: list[str]


class Vectors(Message):
    """Vectors of texts, which follow as float32 rows."""

    rows: int
    columns: int

    @property
    def attached(self) -> list[int]:
        """Sizes of the parts that follow."""
        return [self.rows * self.columns * 4]
