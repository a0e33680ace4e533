"""A simulated model server with the chat-completions protocol: deterministic.

It reads the sources and the question from the prompt and picks sentences by the words they share.
The requested model's name chooses its behaviour, so that one server covers every path.
"""

from __future__ import annotations

import asyncio
import json
import re
from collections import Counter
from collections.abc import AsyncIterator, Sequence
from math import log
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from fontanel.simulators.behaviours import MODELS
from fontanel.simulators.errors import error
from fontanel.simulators.lies import INVENTED, Prompt, Said, lies, words_of

_SOURCE = re.compile(r'<source number="(\d+)" title="([^"]*)"[^>]*>\n(.*?)\n</source>', re.S)
_DOCUMENT = re.compile(r"<document>\n(.*?)\n</document>", re.S)
_PASSAGE = re.compile(r"<passage>\n(.*?)\n</passage>", re.S)
#: Where the subject of a plain sentence ends.
_SUBJECT = re.compile(
    r"(?:The|A|An|Each|Every|All) [\w' -]{3,40}? (?=(?:is|are|has|must|may)\b|\w+s\b)"
)
_QUESTION = re.compile(r"<question>\n(.*?)\n</question>", re.S)
_UNDERSTOOD = re.compile(r"understood as: (.*)")


def read_prompt(messages: Sequence[dict[str, Any]]) -> Prompt:
    system = "\n".join(str(m.get("content", "")) for m in messages if m.get("role") == "system")
    user = "\n".join(str(m.get("content", "")) for m in messages if m.get("role") == "user")
    sources = [(int(n), title, text) for n, title, text in _SOURCE.findall(user)]
    asked = _QUESTION.search(user)
    understood = _UNDERSTOOD.search(user)
    question = understood.group(1) if understood else asked.group(1) if asked else user
    most = 1 if "one or two sentences" in system else 6 if "fully" in system else 3
    layout = next(
        (
            word
            for word in ("numbered steps", "bulleted list, one", "Markdown table")
            if word in system
        ),
        "prose",
    )
    return Prompt(sources, question, most, layout)


def honest(prompt: Prompt) -> list[Said]:
    """Return the sentences of the sources that best match the question."""
    units = [
        (number, title, sentence)
        for number, title, text in prompt.sources
        for line in text.split("\n")
        for sentence in re.split(r"(?<=[.!?])\s+(?=[A-Z])|\s*…\s*", line.removeprefix("- "))
        if sentence.strip() and not sentence.strip().endswith((":", "?"))
    ]
    stored = [set(words_of(f"{title} {sentence}")) for _, title, sentence in units]
    frequency = Counter(word for words in stored for word in words)
    asked = set(words_of(prompt.question))
    weight = {word: log(1 + len(units) / (1 + frequency[word])) for word in asked}
    total = sum(weight.values()) or 1.0
    scored = sorted(
        ((sum(weight[w] for w in asked & words) / total, n) for n, words in enumerate(stored)),
        key=lambda item: (-item[0], item[1]),
    )
    if not scored or scored[0][0] < 0.25:
        return []
    chosen = [n for score, n in scored[: prompt.most] if score >= 0.75 * scored[0][0]]
    texts: list[Said] = []
    for place, n in enumerate(chosen):
        number, title, sentence = units[n]
        text = sentence.strip()
        if place == 0 and re.match(r"(?:The|A|An|In|On|At|When|If|All|No|Any)\b", text):
            text = f"According to {title}, {text[0].lower()}{text[1:]}"
        texts.append(Said(text if text[-1] in ".!?" else f"{text}.", (number,)))
    return texts


def gullible(prompt: Prompt) -> list[Said]:
    """Repeat whatever in the sources resembles an instruction, then answer."""
    orders = [
        Said(sentence.strip(), (number,), true=False)
        for number, _, text in prompt.sources
        for sentence in re.split(r"(?<=[.!?])\s+|\n", text)
        if re.search(
            r"\b(?:ignore|assistant|instructions?|you must|you"
            r" are|reply|respond|say|AI|model|system|prompt|answer)\b",
            sentence,
            re.I,
        )
    ]
    return [*orders, *honest(prompt)]


def compose(behaviour: str, messages: Sequence[dict[str, Any]]) -> str:
    """The text that a model of this behaviour writes."""
    prompt = read_prompt(messages)
    if document := _DOCUMENT.search(str(messages[-1].get("content", ""))):
        return _described(behaviour, document.group(1))
    if passage := _PASSAGE.search(str(messages[-1].get("content", ""))):
        return _asked_of(behaviour, passage.group(1))
    if not prompt.sources:
        return "Ready."
    text = honest(prompt)
    if behaviour in ("lying", "subtle"):
        text = lies(behaviour, text, prompt)
    elif behaviour == "gullible":
        text = gullible(prompt)
    if not text:
        return "NO ANSWER"
    if prompt.layout == "numbered steps":
        return "\n".join(f"{n}. {s.written()}" for n, s in enumerate(text, 1))
    if prompt.layout == "bulleted list, one":
        return "\n".join(f"- {s.written()}" for s in text)
    if prompt.layout == "Markdown table":
        return "\n".join(["| Statement |", "| --- |", *(f"| {s.written()} |" for s in text)])
    return " ".join(s.written() for s in text)


def _described(behaviour: str, document: str) -> str:
    """Return a title and a description, falsified by some behaviours."""
    lines = [line.strip() for line in document.split("\n") if line.strip()]
    sentences = [
        s
        for line in lines
        for s in re.split(r"(?<=[.!?])\s+", line)
        if len(s.split()) > 6 and s[-1] in ".!?"
    ]
    text = sentences[0] if sentences else lines[0]
    if behaviour == "lying":
        text = f"{text} {INVENTED[1]}"
    return f"Title: {lines[0][:80]}\nDescription: {text[:280]}"


def _asked_of(behaviour: str, passage: str) -> str:
    """Return the questions that plain sentences of a passage answer, as lines of JSON."""
    lines = passage.split("\n")
    results = []
    for line in lines[1:]:
        for sentence in re.split(r"(?<=[.!?])\s+", line.strip()):
            found = _SUBJECT.match(sentence)
            if found is None or not sentence.endswith("."):
                continue
            subject = found.group().strip()
            subject = subject[0].lower() + subject[1:]
            rest = re.sub(r"\d[\d.,:]*", "how many", sentence[found.end() :].rstrip("."))
            quote = f"{sentence} {INVENTED[1]}" if behaviour == "lying" else sentence
            results.append(
                {
                    "question": f"What is the rule when {subject} {rest}?",
                    "phrasings": [f"What about {subject}?"],
                    "quote": quote,
                }
            )
    return "\n".join(json.dumps(one, ensure_ascii=False) for one in results[:6])


def model_app(
    pace: float = 0.0, wait: float = 0.0, key: str = "", behaviour: str = ""
) -> Starlette:
    """Return the server.

    Args:
        pace: Seconds between words.
        wait: Seconds before the first word.
        key: Required in every request.
        behaviour: Used whichever model is requested.
    """
    limited: Counter[str] = Counter()

    async def complete(request: Request) -> Response:
        if key and request.headers.get("authorization") != f"Bearer {key}":
            return error(401, "The key is wrong.")
        try:
            body = await request.json()
            messages = list(body["messages"])
        except (ValueError, KeyError, TypeError):
            return error(400, "The body needs messages.")
        kind = behaviour or str(body.get("model") or "honest")
        if kind not in MODELS:
            return error(404, f"There is no model {kind}.")
        if kind == "failing":
            return error(500, "The model fell over.")
        if kind == "busy" or (kind == "limited" and _once_more(limited, messages)):
            return error(
                429, "Too many requests.", {"Retry-After": "600" if kind == "busy" else "0"}
            )
        text = "" if kind == "empty" else compose(kind, messages)
        read = sum(_tokens(str(message.get("content", ""))) for message in messages)
        use = {
            "prompt_tokens": read,
            "completion_tokens": _tokens(text),
            "total_tokens": read + _tokens(text),
        }
        if kind == "whole" or not body.get("stream"):
            choice = {
                "index": 0,
                "message": {"role": "assistant", "content": text},
                "finish_reason": "stop",
            }
            return JSONResponse(
                {"object": "chat.completion", "model": kind, "choices": [choice], "usage": use}
            )
        slow = pace or (0.25 if kind == "slow" else 0.0)
        counted = bool((body.get("stream_options") or {}).get("include_usage"))
        return StreamingResponse(
            _stream(kind, text, slow, wait, use if counted else None),
            media_type="text/event-stream",
        )

    async def models(request: Request) -> Response:
        return JSONResponse(
            {"object": "list", "data": [{"id": name, "object": "model"} for name in MODELS]}
        )

    return Starlette(
        routes=[
            Route("/v1/chat/completions", complete, methods=["POST"]),
            Route("/v1/models", models),
        ]
    )


def _once_more(limited: Counter[str], messages: Sequence[dict[str, Any]]) -> bool:
    """Return whether to reject the same request once more: two times in three."""
    message = json.dumps(messages)
    limited[message] += 1
    return limited[message] % 3 != 0


async def _stream(
    kind: str, text: str, pace: float, wait: float, use: dict[str, int] | None
) -> AsyncIterator[str]:
    if kind == "silent":
        await asyncio.sleep(3600)
    await asyncio.sleep(wait)
    pieces = re.findall(r"\s*\S+", text)
    for place, piece in enumerate(pieces):
        if kind == "broken" and place >= min(8, len(pieces) // 2):
            return  # no reason to end, no [DONE]
        if kind == "malformed" and place == 3:
            yield "data: {this is not JSON\n\n"
        yield _event({"index": 0, "delta": {"content": piece}, "finish_reason": None}, kind)
        await asyncio.sleep(pace)
    yield _event({"index": 0, "delta": {}, "finish_reason": "stop"}, kind)
    if use is not None:
        yield (
            "data:"
            f" {json.dumps({'object': 'chat.completion.chunk', 'model': kind, 'choices': [], 'usage': use})}\n\n"  # noqa: E501
        )
    yield "data: [DONE]\n\n"


def _event(choice: dict[str, Any], kind: str) -> str:
    return (
        "data:"
        f" {json.dumps({'object': 'chat.completion.chunk', 'model': kind, 'choices': [choice]})}\n\n"  # noqa: E501
    )


def _tokens(text: str) -> int:
    return len(re.findall(r"\w+|[^\w\s]", text))
