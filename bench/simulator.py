"""The simulated models as writers, without HTTP."""

from __future__ import annotations

from collections.abc import Generator, Sequence

from fontanel.core.answering import Message, TokenUse
from fontanel.simulators.lies import Said, lies
from fontanel.simulators.model import compose, honest, read_prompt


class SimulatedModel:
    """A simulated model with one behaviour; `said` are its statements and their truth."""

    def __init__(self, behaviour: str) -> None:
        self.name = behaviour
        self.said: list[Said] = []

    def write(
        self, messages: Sequence[Message], max_tokens: int, temperature: float
    ) -> Generator[str, None, None]:
        plain = [{"role": m.role, "content": m.content} for m in messages]
        prompt = read_prompt(plain)
        self.said = lies(self.name, honest(prompt), prompt) if self.name != "honest" else []
        text = compose(self.name, plain)
        for start in range(0, len(text), 7):
            yield text[start : start + 7]

    def use(self) -> TokenUse | None:
        return None
