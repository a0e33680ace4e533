"""Train the evidence model from the sentence encoder that the service ships.

A cross-encoder (Nogueira and Cho, "Passage re-ranking with BERT", 2019) with two heads: relevance,
on the first token, and evidence, on the mean of each statement's tokens. Groups of one positive
window and several negatives are trained with a softmax over the group and a binary loss.
Questions that a window seems to answer and does not are trained as negatives, and to score below
the question that it answers. A training that goes on from another (`--begin`) has approved answers
below their question in each step, asked in other words.

Reads what `prepare.py` wrote; writes `var/training/evidence-<seed>.safetensors`.
"""

from __future__ import annotations

import argparse
import math
import random
import re
import time
from pathlib import Path
from typing import Any

import numpy as np
import torch
from tokenizers import Tokenizer
from torch import Tensor, nn
from torch.nn import functional

from pretrained import (
    WORK,
    load_encoder,
    load_examples,
    load_items,
    load_neighbours,
    load_trained,
    save_trained,
)

#: Tokens of a question, of a header and of a whole sequence.
MAX_QUESTION, MAX_HEADER, MAX_TOKENS = 48, 40, 192
#: Layers above the embeddings that stay as they are.
_FROZEN_LAYERS = 1
#: Products of matrices in bfloat16, where the CPU has it: three times as fast.
_BFLOAT16 = torch.cpu._is_avx512_bf16_supported()
#: Groups of a step, and negatives of a group.
_GROUPS, _NEGATIVES = 8, 2
_RATE, _WARMUP, _DECAY = 8e-5, 0.06, 0.01
#: Approved answers of a step, and the negatives of each.
_APPROVED, _OTHER_APPROVED = 6, 3
#: The rate of a training that goes on from an earlier one.
_SECOND_RATE = 4e-5
#: The weight of telling a near miss from the question that its window answers.
_APART = 0.5
#: The share of keyword questions that are used in an epoch.
_KEYWORDS = 0.3
#: The share of questions of which a copy asks about another number or identifier.
_SWAPPED = 0.35
#: The share of questions with which the near miss of their item is asked of a negative window.
_MISSED_ELSEWHERE = 0.4
_NUMBER = re.compile(r"\b\d+(?:[.,]\d+)?\b")
_IDENTIFIER = re.compile(r"(?<!\w)(?:--?[a-z][\w-]+|\w+_\w+|[a-z]+[A-Z]\w+|[A-Z][a-z]+[A-Z]\w+)\b")


class EvidenceModel(nn.Module):  # type: ignore[misc]
    """A BERT encoder with a relevance head and an evidence head."""

    def __init__(self, base: Path) -> None:
        super().__init__()
        self.bert = load_encoder(base, _FROZEN_LAYERS)
        self.relevance = nn.Linear(self.bert.config.hidden_size, 1)
        self.evidence = nn.Linear(self.bert.config.hidden_size, 1)

    def forward(self, batch: Batch) -> tuple[Tensor, Tensor]:
        """Return relevance logits (n,) and evidence logits (n, statements)."""
        with torch.autocast("cpu", torch.bfloat16, enabled=_BFLOAT16):
            hidden = self.bert(
                input_ids=batch.ids, token_type_ids=batch.kinds, attention_mask=batch.mask
            ).last_hidden_state.float()
        tokens = self.evidence(hidden).squeeze(-1)
        wide = torch.zeros(len(tokens), batch.statements + 1)
        count = torch.zeros_like(wide)
        wide = wide.scatter_add(1, batch.owner, tokens)
        count = count.scatter_add(1, batch.owner, torch.ones_like(tokens))
        return self.relevance(hidden[:, 0]).squeeze(-1), (wide / count.clamp(min=1))[:, 1:]


class Batch:
    """Padded sequences. `owner` is 0 outside statements, else the statement's number from 1."""

    def __init__(self, rows: list[tuple[list[int], int, list[int]]]) -> None:
        longest = max(len(ids) for ids, _, _ in rows)
        self.statements = max(max(owner, default=0) for _, _, owner in rows)
        shape = (len(rows), longest)
        ids, kinds, owner, mask = (np.zeros(shape, dtype=np.int64) for _ in range(4))
        for row, (tokens, question, owners) in enumerate(rows):
            ids[row, : len(tokens)] = tokens
            kinds[row, question : len(tokens)] = 1
            owner[row, : len(tokens)] = owners
            mask[row, : len(tokens)] = 1
        self.ids, self.kinds, self.owner, self.mask = map(
            torch.from_numpy, (ids, kinds, owner, mask)
        )


class Examples:
    """Questions with windows, encoded on demand."""

    def __init__(self, base: Path) -> None:
        self._tokenizer = Tokenizer.from_file(str(base / "tokenizer.json"))
        self._tokenizer.no_padding()
        self._tokenizer.no_truncation()
        self.windows, self.questions = load_examples()
        self._cache: dict[Any, list[list[int]]] = {}
        self._cls: int = self._tokenizer.token_to_id("[CLS]")  # type: ignore[assignment]
        self._sep: int = self._tokenizer.token_to_id("[SEP]")  # type: ignore[assignment]

    def tokens(self, texts: list[str]) -> list[list[int]]:
        return [e.ids for e in self._tokenizer.encode_batch(texts, add_special_tokens=False)]

    def window(self, place: tuple[int, int]) -> list[list[int]]:
        """Return the tokens of a window's header and of each statement."""
        if place not in self._cache:
            window = self.windows[place[0]][place[1]]
            self._cache[place] = self.tokens([window["header"], *window["statements"]])
        return self._cache[place]

    def sequence(
        self, question: list[int], place: tuple[int, int]
    ) -> tuple[list[int], int, list[int]]:
        """Return token ids, the length of the question's part, and each token's statement."""
        header, *statements = self.window(place)
        return self._joined(question, header, statements)

    def approved(
        self, question: list[int], wording: str, answer: str
    ) -> tuple[list[int], int, list[int]]:
        """Return the sequence of a question and an approved answer below another question."""
        return self._joined(question, self.tokens([wording])[0], self.tokens([answer]))

    def _joined(
        self, question: list[int], header: list[int], statements: list[list[int]]
    ) -> tuple[list[int], int, list[int]]:
        ids = [self._cls, *question[:MAX_QUESTION], self._sep]
        length = len(ids)
        ids += [*header[-MAX_HEADER:], self._sep]
        owner = [0] * len(ids)
        for number, statement in enumerate(statements, 1):
            ids += statement
            owner += [number] * len(statement)
        ids, owner = ids[: MAX_TOKENS - 1], owner[: MAX_TOKENS - 1]
        return [*ids, self._sep], length, [*owner, 0]

    def text(self, place: tuple[int, int]) -> str:
        window = self.windows[place[0]][place[1]]
        return " ".join([window["header"], *window["statements"]])


def swapped(question: str, text: str, random_: random.Random, identifiers: list[str]) -> str | None:
    """Return a question about another number or identifier, which a text does not answer."""
    numbers = [m for m in _NUMBER.finditer(question) if m.group() in text]
    names = [m for m in _IDENTIFIER.finditer(question) if m.group() in text]
    if not numbers and not names:
        return None
    match = random_.choice(numbers + names)
    for _ in range(8):
        if match in numbers and match.group().isdigit():
            value = int(match.group())
            other = str(max(1, value + random_.choice([-3, -2, -1, 1, 2, 3, 5, 7, 10, value])))
        elif match in names:
            other = random_.choice(identifiers)
        else:
            return None
        if not re.search(rf"(?<!\w){re.escape(other)}(?!\w)", text):
            return question[: match.start()] + other + question[match.end() :]
    return None


class Sampler:
    """Yields groups: token sequences of a question, and what each is."""

    def __init__(self, examples: Examples, seed: int, *, approved: bool) -> None:
        self._examples = examples
        self._random = random.Random(seed)
        self._train = [q for q in examples.questions if q["part"] == "train"]
        self._missed = {q["item"]: q["unanswered"] for q in self._train if q["unanswered"]}
        self._identifiers = sorted(
            {m.group() for q in self._train for m in _IDENTIFIER.finditer(q["question"])}
        )

        self._items = load_items()
        self._near: list[list[list[int]]] = load_neighbours() if approved else []
        self._asked = {q["item"] for q in self._train}
        self._numbers = sorted(self._asked)

    def approved(self) -> tuple[list[Any], list[int], list[list[int]]]:
        """Return a group of an approved answer, others near it, and a question it does not answer.

        Its question is asked in other words; the others are nearest to that by the embedder.
        """
        draw, examples = self._random, self._examples
        number = draw.choice(self._numbers)
        item = self._items[number]
        wording = item["d"] if draw.random() < 0.6 else draw.choice(item["n"])
        texts = [item["d"], item["n"][0], item["n"][1], item["n"][0], item["n"][1], item["k"]]
        asked = draw.choice([text for text in texts if text != wording])
        tokens, missed = examples.tokens([asked, item["u"]])
        place = [*item["n"], item["k"]].index(asked) if asked != item["d"] else 0
        near = [other for other in self._near[number][place] if other in self._asked]
        others = draw.sample(near, min(len(near), _OTHER_APPROVED))
        sequences = [examples.approved(tokens, wording, item["e"])]
        for other in others:
            them = self._items[other]
            header = them["d"] if draw.random() < 0.6 else draw.choice(them["n"])
            sequences.append(examples.approved(tokens, header, them["e"]))
        sequences.append(examples.approved(missed, wording, item["e"]))
        return sequences, [1] + [0] * len(others) + [-1], [[]] * len(sequences)

    def epoch(self) -> list[dict[str, Any]]:
        """Return the questions of an epoch, shuffled."""
        chosen = [
            q for q in self._train if q["kind"] != "keyword" or self._random.random() < _KEYWORDS
        ]
        self._random.shuffle(chosen)
        return chosen

    def group(self, question: dict[str, Any]) -> tuple[list[Any], list[int], list[list[int]]]:
        """Return sequences, labels (1 answers; 0 negative; -1 negative of another question).

        The third list are the statements with evidence of each sequence, from 0.
        """
        draw, examples = self._random, self._examples
        passage, window, found = draw.choice(question["positive"])
        hard = question["negative"]
        places = [(p, w) for p, w in question["near"] if draw.random() < 0.3][:1]
        # The best hits are drawn more often than those below them.
        while len(places) < _NEGATIVES and hard:
            place = tuple(hard[min(int(draw.expovariate(0.4)), len(hard) - 1)])
            if place in places and len(hard) > _NEGATIVES:
                continue
            places.append(place)
        tokens = examples.tokens([question["question"]])[0]
        sequences = [examples.sequence(tokens, (passage, window))]
        sequences += [examples.sequence(tokens, place) for place in places]
        labels = [1] + [0] * len(places)
        others = []
        if question["unanswered"]:
            others.append(question["unanswered"])
        if draw.random() < _SWAPPED and (
            other := swapped(
                question["question"],
                " ".join(
                    map(
                        examples.text, [(passage, n) for n in range(len(examples.windows[passage]))]
                    )
                ),
                draw,
                self._identifiers,
            )
        ):
            others.append(other)
        asked_of = [(passage, window)] * len(others)
        missed = self._missed.get(question["item"])
        if missed and places and draw.random() < _MISSED_ELSEWHERE:
            others.append(missed)
            asked_of.append(draw.choice(places))
        for asked, place in zip(examples.tokens(others), asked_of, strict=True):
            sequences.append(examples.sequence(asked, place))
            labels.append(-1)
        return sequences, labels, [found] + [[]] * (len(sequences) - 1)


def loss_of(model: EvidenceModel, groups: list[Any]) -> Tensor:
    """Return the loss of a step's groups; sequences of like length are run together."""
    rows = [row for sequences, _, _ in groups for row in sequences]
    order = sorted(range(len(rows)), key=lambda n: len(rows[n][0]))
    relevance = torch.zeros(len(rows))
    evidence: dict[int, Tensor] = {}
    size = max(1, math.ceil(len(rows) / 3))
    parts = []
    for start in range(0, len(order), size):
        chosen = order[start : start + size]
        batch = Batch([rows[n] for n in chosen])
        relevant, statements = model(batch)
        parts.append((chosen, relevant))
        for row, n in enumerate(chosen):
            evidence[n] = statements[row, : max(rows[n][2], default=0)]
    index = torch.tensor([n for chosen, _ in parts for n in chosen])
    relevance = relevance.scatter(0, index, torch.cat([relevant for _, relevant in parts]))
    labels = torch.tensor([label for _, labels, _ in groups for label in labels])
    weights = torch.where(labels == 1, 2.0, torch.where(labels == 0, 0.7, 1.0))
    binary = functional.binary_cross_entropy_with_logits(
        relevance, (labels == 1).float(), weight=weights
    )
    ranked, quoted, apart, at = [], [], [], 0
    for sequences, group, found in groups:
        own = [at + n for n, label in enumerate(group) if label >= 0]
        ranked.append(-functional.log_softmax(relevance[own], dim=0)[0])
        apart += [
            functional.softplus(relevance[at + n] - relevance[at])
            for n, label in enumerate(group)
            if label < 0
        ]
        statements = evidence[at]
        target = torch.zeros(len(statements))
        for number in found[0]:
            if number < len(statements):
                target[number] = 1.0
        if target.sum():
            binary_of = functional.binary_cross_entropy_with_logits(statements, target)
            softmax = -(functional.log_softmax(statements, dim=0) * target / target.sum()).sum()
            quoted.append(binary_of + 0.5 * softmax)
        at += len(sequences)
    loss = binary + 0.7 * torch.stack(ranked).mean() + 0.7 * torch.stack(quoted).mean()
    return loss + _APART * torch.stack(apart).mean() if apart else loss


def evaluate(model: EvidenceModel, examples: Examples, part: str, limit: int) -> dict[str, float]:
    """Return figures on some questions of a part.

    auc: answerable against near misses, by relevance of the window with the evidence.
    top: how often the positive window is above ten negatives. quoted: how often the statement with
    the highest evidence in it is evidence.
    """
    model.eval()
    chosen = [q for q in examples.questions if q["part"] == part and q["kind"] != "keyword"]
    chosen = random.Random(3).sample(chosen, min(limit, len(chosen)))
    right, wrong, top, quoted = [], [], [], []
    with torch.inference_mode():
        for question in chosen:
            tokens = examples.tokens([question["question"]])[0]
            passage, window, found = question["positive"][0]
            places = [(passage, window), *map(tuple, question["negative"])]
            rows = [examples.sequence(tokens, place) for place in places]
            if question["unanswered"]:
                other = examples.tokens([question["unanswered"]])[0]
                rows.append(examples.sequence(other, (passage, window)))
            relevance, evidence = model(Batch(rows))
            right.append(float(relevance[0]))
            top.append(float(relevance[0] >= relevance[: len(places)].max()))
            known = evidence[0, : max(rows[0][2], default=0)]
            quoted.append(float(len(known) > 0 and int(known.argmax()) in found))
            if question["unanswered"]:
                wrong.append(float(relevance[-1]))
    model.train()
    auc = float(np.mean([[r > w for w in wrong] for r in right])) if wrong else 0.0
    return {"auc": auc, "top": float(np.mean(top)), "quoted": float(np.mean(quoted))}


def evaluate_approved(model: EvidenceModel, examples: Examples, part: str) -> dict[str, float]:
    """Return how well questions in other words find their approved answer.

    best: the share of natural questions for which it is above the six nearest others. served: that
    share with a threshold above 97 % of the near misses.
    """
    model.eval()
    items, near = load_items(), load_neighbours()
    numbers = sorted({q["item"] for q in examples.questions if q["part"] == part})
    best, wrong = [], []
    with torch.inference_mode():
        for number in numbers:
            item = items[number]
            for place, tokens in enumerate(examples.tokens(item["n"])):
                others = [items[other] for other in near[number][place][:6]]
                rows = [examples.approved(tokens, one["d"], one["e"]) for one in (item, *others)]
                scores = model(Batch(rows))[0].tolist()
                best.append((scores[0] >= max(scores), scores[0]))
            (missed,) = examples.tokens([item["u"]])
            row = examples.approved(missed, item["d"], item["e"])
            wrong.append(model(Batch([row]))[0].item())
    model.train()
    limit = float(np.quantile(wrong, 0.97))
    return {
        "best": float(np.mean([first for first, _ in best])),
        "served": float(np.mean([first and score > limit for first, score in best])),
    }


def report(model: EvidenceModel, examples: Examples, limit: int, *, approved: bool) -> None:
    """Print figures on some questions of the tuning part."""
    print("tuning", evaluate(model, examples, "tuning", limit), flush=True)
    if approved:
        print("tuning", evaluate_approved(model, examples, "tuning"), flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("base", type=Path, help="the directory of the encoder's weights")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--minutes", type=float, default=75.0, help="the time to train")
    parser.add_argument("--epochs", type=float, default=3.0)
    parser.add_argument("--begin", type=Path, help="the weights of a training to go on from")
    arguments = parser.parse_args()
    target = WORK / f"evidence-{arguments.seed}.safetensors"
    torch.manual_seed(arguments.seed)
    torch.set_num_threads(2)
    torch.set_flush_denormal(True)
    examples = Examples(arguments.base)
    goes_on = arguments.begin is not None
    sampler = Sampler(examples, arguments.seed + 100 * goes_on, approved=goes_on)
    model = EvidenceModel(arguments.base)
    if arguments.begin:
        load_trained(model, arguments.begin)
    highest = _SECOND_RATE if arguments.begin else _RATE
    free = [p for p in model.parameters() if p.requires_grad]
    heavy, light = [p for p in free if p.ndim > 1], [p for p in free if p.ndim == 1]
    optimizer = torch.optim.AdamW(
        [{"params": heavy, "weight_decay": _DECAY}, {"params": light, "weight_decay": 0.0}],
        lr=_RATE,
        fused=True,
    )
    steps = int(len(sampler.epoch()) * arguments.epochs / _GROUPS)
    print(f"{steps} steps of {_GROUPS} questions", flush=True)
    started, step, losses, sequences = time.monotonic(), 0, [], 0
    queue: list[dict[str, Any]] = []
    while step < steps:
        while len(queue) < _GROUPS:
            queue += sampler.epoch()
        groups = [sampler.group(question) for question in queue[:_GROUPS]]
        del queue[:_GROUPS]
        if goes_on:
            groups += [sampler.approved() for _ in range(_APPROVED)]
        done = max(step / steps, (time.monotonic() - started) / 60 / arguments.minutes)
        if done >= 1:
            break
        rate = highest * min(done / _WARMUP, (1 - done) / (1 - _WARMUP))
        for group in optimizer.param_groups:
            group["lr"] = rate
        loss = loss_of(model, groups)
        optimizer.zero_grad(set_to_none=True)
        loss.backward()
        nn.utils.clip_grad_norm_(free, 1.0)
        optimizer.step()
        step += 1
        losses.append(loss.item())
        sequences += sum(len(rows) for rows, _, _ in groups)
        if step % 20 == 0:
            seconds = time.monotonic() - started
            print(
                f"step {step}/{steps} loss {np.mean(losses[-20:]):.3f}"
                f" {sequences / seconds:.1f} sequences/s {seconds / 60:.1f} min",
                flush=True,
            )
        if step % 400 == 0:
            report(model, examples, 150, approved=goes_on)
            save_trained(model, target)
    save_trained(model, target)
    report(model, examples, 400, approved=goes_on)


if __name__ == "__main__":
    main()
