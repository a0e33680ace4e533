"""Tune the sentence encoder that the service ships for questions.

A bi-encoder with in-batch and hard negatives (Reimers and Gurevych, "Sentence-BERT", 2019;
Karpukhin et al., "Dense passage retrieval", 2020): a question is drawn to the texts with its
evidence, away from those of the other questions of a step and from a hit of the service's own
search that does not answer it. Texts take the forms that the service embeds: a passage below its
heading, a window of it, a statement.

Reads what `prepare.py` wrote; writes `var/training/embedder-<seed>.safetensors`.
"""

from __future__ import annotations

import argparse
import random
import time
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import torch
from tokenizers import Tokenizer
from torch import Tensor, nn
from torch.nn import functional

from pretrained import WORK, load_encoder, load_examples, save_trained

#: Tokens of a question and of a text.
_MAX_QUESTION, _MAX_TEXT = 48, 192
#: Layers above the embeddings that stay as they are.
_FROZEN_LAYERS = 1
#: Questions of a step, and batches into which texts of like length are sorted.
_QUESTIONS, _BATCHES = 32, 4
_TEMPERATURE, _RATE, _WARMUP, _DECAY = 0.05, 5e-5, 0.08, 0.01
#: The share of keyword questions that are used in an epoch.
_KEYWORDS = 0.4
#: How often each form of a text is used.
_FORMS = {"passage": 0.3, "headed": 0.3, "window": 0.2, "statement": 0.2}


class Encoder(nn.Module):  # type: ignore[misc]
    """A BERT encoder with mean pooling and unit vectors."""

    def __init__(self, base: Path) -> None:
        super().__init__()
        self.bert = load_encoder(base, _FROZEN_LAYERS)

    def forward(self, rows: list[list[int]]) -> Tensor:
        """Return the unit vectors of rows of token ids, shape (rows, size)."""
        order = sorted(range(len(rows)), key=lambda n: len(rows[n]))
        vectors = []
        for chosen in np.array_split(np.array(order), min(_BATCHES, len(rows))):
            own = [rows[n] for n in chosen]
            ids = np.zeros((len(own), max(map(len, own))), dtype=np.int64)
            for place, row in enumerate(own):
                ids[place, : len(row)] = row
            mask = torch.from_numpy((np.arange(ids.shape[1]) < [[len(r)] for r in own]) * 1)
            hidden = self.bert(
                input_ids=torch.from_numpy(ids), attention_mask=mask
            ).last_hidden_state
            wide = mask.unsqueeze(-1).float()
            mean = (hidden * wide).sum(1) / wide.sum(1)
            vectors.append(functional.normalize(mean, dim=-1))
        return torch.cat(vectors)[torch.from_numpy(np.argsort(order))]


class Pairs:
    """Questions with texts that answer them, and texts that do not."""

    def __init__(self, base: Path, seed: int) -> None:
        self._tokenizer = Tokenizer.from_file(str(base / "tokenizer.json"))
        self._tokenizer.no_padding()
        self._tokenizer.enable_truncation(_MAX_TEXT)
        self._random = random.Random(seed)
        self.windows, self.questions = load_examples()

    def epoch(self) -> list[dict[str, Any]]:
        """Return the questions of an epoch, shuffled."""
        chosen = [
            q
            for q in self.questions
            if q["part"] == "train"
            and (q["kind"] != "keyword" or self._random.random() < _KEYWORDS)
        ]
        self._random.shuffle(chosen)
        return chosen

    def text(self, passage: int, window: int, statements: list[int], form: str) -> str:
        """Return a text in one of the forms that the service embeds."""
        group = self.windows[passage]
        heading = group[window]["header"].rsplit(" > ", 1)[-1]
        own = group[window]["statements"]
        if form == "statement":
            chosen = statements or [self._random.randrange(len(own))]
            return f"{heading}: " + " ".join(own[n] for n in chosen[:2] if n < len(own))
        text = " ".join(own)
        if form == "passage":
            # From the start of the passage, if what is behind the window's end is cut.
            first = 0 if self._random.random() < 0.5 else max(0, window - 1)
            kept = [s for one in group[first : window + 2] for s in one["statements"]]
            text = " ".join(dict.fromkeys(kept))
            if sum(len(s) for one in group[first:window] for s in one["statements"]) > 450:
                text = " ".join(own)
        return text if form == "window" else f"{heading}\n{text}"

    def tokens(self, texts: list[str], limit: int) -> list[list[int]]:
        return [item.ids[:limit] for item in self._tokenizer.encode_batch(texts)]

    def step(self, questions: list[dict[str, Any]]) -> tuple[Any, Any, npt.NDArray[Any]]:
        """Return the tokens of questions and of texts, and which texts are not negatives.

        The first texts belong to the questions in order; the others are hard negatives. The matrix
        (questions, texts) is true where a text is of a question's own passage.
        """
        draw = self._random
        texts, passages = [], []
        hard = []
        for question in questions:
            form = draw.choices(list(_FORMS), list(_FORMS.values()))[0]
            passage, window, found = draw.choice(question["positive"])
            texts.append(self.text(passage, window, found, form))
            passages.append(passage)
            if question["negative"]:
                place = min(int(draw.expovariate(0.4)), len(question["negative"]) - 1)
                other, at = question["negative"][place]
                hard.append((other, self.text(other, at, [], form)))
        texts += [text for _, text in hard]
        passages += [passage for passage, _ in hard]
        own = np.array(
            [
                [passage in {p for p, _, _ in question["positive"]} for passage in passages]
                for question in questions
            ]
        )
        asked = self.tokens([question["question"] for question in questions], _MAX_QUESTION)
        return asked, self.tokens(texts, _MAX_TEXT), own


def loss_of(model: Encoder, asked: Any, texts: Any, own: npt.NDArray[Any]) -> Tensor:
    """Return the cross-entropy of each question's own text among all texts, and the reverse."""
    count = len(asked)
    scores = model(asked) @ model(texts).T / _TEMPERATURE
    same = torch.from_numpy(own)
    eye = torch.zeros_like(same)
    eye[torch.arange(count), torch.arange(count)] = True
    scores = scores.masked_fill(same & ~eye, -1e4)
    labels = torch.arange(count)
    reverse = functional.cross_entropy(scores[:, :count].T, labels)
    return functional.cross_entropy(scores, labels) + 0.3 * reverse


def evaluate(model: Encoder, pairs: Pairs, limit: int) -> dict[str, float]:
    """Return how often natural questions of the tuning part rank their own window first.

    Among ten hits of the service's own search, and among the windows of all the questions.
    """
    model.eval()
    chosen = [q for q in pairs.questions if q["part"] == "tuning" and q["kind"] == "natural"]
    chosen = random.Random(3).sample(chosen, min(limit, len(chosen)))
    positives: list[tuple[int, int, list[int]]] = [q["positive"][0] for q in chosen]
    with torch.inference_mode():
        asked = model(pairs.tokens([q["question"] for q in chosen], _MAX_QUESTION))
        own = model(pairs.tokens([pairs.text(*first, "headed") for first in positives], _MAX_TEXT))
        best, rank = [], []
        for place, question in enumerate(chosen):
            texts = [pairs.text(p, w, [], "headed") for p, w in question["negative"]]
            right = float(asked[place] @ own[place])
            others = model(pairs.tokens(texts, _MAX_TEXT)) @ asked[place] if texts else None
            best.append(float(others is None or right > float(others.max())))
            above = float((own @ asked[place] > right + 1e-6).sum())
            rank.append(1 / (1 + above))
    model.train()
    return {"first of hits": float(np.mean(best)), "rank": float(np.mean(rank))}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("base", type=Path, help="the directory of the encoder's weights")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--minutes", type=float, default=40.0, help="the time to train")
    parser.add_argument("--epochs", type=float, default=1.5)
    arguments = parser.parse_args()
    target = WORK / f"embedder-{arguments.seed}.safetensors"
    torch.manual_seed(arguments.seed)
    torch.set_num_threads(2)
    torch.set_flush_denormal(True)
    pairs = Pairs(arguments.base, arguments.seed)
    model = Encoder(arguments.base)
    print("before", evaluate(model, pairs, 200), flush=True)
    free = [p for p in model.parameters() if p.requires_grad]
    optimizer = torch.optim.AdamW(free, lr=_RATE, weight_decay=_DECAY, fused=True)
    steps = int(len(pairs.epoch()) * arguments.epochs / _QUESTIONS)
    print(f"{steps} steps of {_QUESTIONS} questions", flush=True)
    started, losses = time.monotonic(), []
    queue: list[dict[str, Any]] = []
    for step in range(1, steps + 1):
        while len(queue) < _QUESTIONS:
            queue += pairs.epoch()
        asked, texts, own = pairs.step(queue[:_QUESTIONS])
        del queue[:_QUESTIONS]
        minutes = (time.monotonic() - started) / 60
        done = max(step / steps, minutes / arguments.minutes)
        if done >= 1:
            break
        for group in optimizer.param_groups:
            group["lr"] = _RATE * min(done / _WARMUP, (1 - done) / (1 - _WARMUP))
        loss = loss_of(model, asked, texts, own)
        optimizer.zero_grad(set_to_none=True)
        loss.backward()
        nn.utils.clip_grad_norm_(free, 1.0)
        optimizer.step()
        losses.append(loss.item())
        if step % 20 == 0:
            print(
                f"step {step}/{steps} loss {np.mean(losses[-20:]):.3f} {minutes:.1f} min",
                flush=True,
            )
        if step % 100 == 0:
            print("tuning", evaluate(model, pairs, 200), flush=True)
            save_trained(model, target)
    save_trained(model, target)
    print("after", evaluate(model, pairs, 600), flush=True)


if __name__ == "__main__":
    main()
