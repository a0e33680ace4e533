"""Model servers over HTTP: streams, retries, error messages, cancelled calls."""

from __future__ import annotations

import asyncio
import json
import threading
from collections.abc import AsyncIterator, Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any

import pytest
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, PlainTextResponse, Response, StreamingResponse
from starlette.routing import Route

from fontanel.core.answering import Message, TokenUse, WriterFailed
from fontanel.llm import AskerLeft, ChatWriter, Endpoint, ModelClient, try_model
from fontanel.simulators.behaviours import MODELS
from fontanel.simulators.lies import Prompt, lies
from fontanel.simulators.model import compose, honest, model_app

ASK = [Message("user", "Say something.")]


def event(text: str | None = None, **more: Any) -> str:
    choices = (
        [] if text is None else [{"index": 0, "delta": {"content": text}, "finish_reason": None}]
    )
    return f"data: {json.dumps({'choices': choices, **more})}\n\n"


class Server:
    """A model server that returns `reply`'s result, and records its requests."""

    def __init__(self) -> None:
        self.asked: list[dict[str, Any]] = []
        self.headers: list[Any] = []
        self.cancelled = threading.Event()
        self.reply: Callable[[int], Response] = lambda n: PlainTextResponse("nothing", 500)

    def app(self) -> Starlette:
        async def complete(request: Request) -> Response:
            self.asked.append(await request.json())
            self.headers.append(request.headers)
            return self.reply(len(self.asked))

        return Starlette(routes=[Route("/v1/chat/completions", complete, methods=["POST"])])

    def stream(self, *pieces: str, endless: bool = False) -> Response:
        async def events() -> AsyncIterator[str]:
            try:
                for piece in pieces:
                    yield piece
                while endless:
                    yield event("on ")
                    await asyncio.sleep(0.02)
            finally:
                self.cancelled.set()

        return StreamingResponse(events(), media_type="text/event-stream")


@pytest.fixture
def line() -> Iterator[ModelClient]:
    result = ModelClient()
    yield result
    result.stop()


@pytest.fixture
def server(serve: Callable[[Any], str]) -> tuple[Server, Endpoint]:
    result = Server()
    return result, Endpoint(
        "m", serve(result.app()) + "/v1", "remote-name", secret="a secret", seconds=1.0, tries=3
    )


def text_of(writer: ChatWriter) -> str:
    return "".join(writer.write(ASK, 50, 0.5))


def test_a_stream_is_read_and_what_it_used_is_counted(
    line: ModelClient, server: tuple[Server, Endpoint]
) -> None:
    model, endpoint = server
    usage = {"prompt_tokens": 12, "completion_tokens": 3}
    model.reply = lambda n: model.stream(
        ": a comment\n\n", event("One "), event("two."), event(usage=usage), "data: [DONE]\n\n"
    )
    writer = ChatWriter(line, endpoint)
    assert text_of(writer) == "One two."
    assert writer.use() == TokenUse(12, 3, True)
    sent = model.asked[0]
    assert (sent["model"], sent["max_tokens"], sent["temperature"], sent["stream"]) == (
        "remote-name",
        50,
        0.5,
        True,
    )
    assert sent["messages"] == [{"role": "user", "content": "Say something."}]
    assert model.headers[0]["authorization"] == "Bearer a secret"


def test_a_reason_to_end_is_as_good_as_done_and_odd_events_are_passed_over(
    line: ModelClient, server: tuple[Server, Endpoint]
) -> None:
    model, endpoint = server
    last = {"choices": [{"index": 0, "delta": {}, "finish_reason": "length"}]}
    odd = [
        event(None),
        'data: {"choices": [{"delta": null}]}\n\n',
        'data: {"object": "ping"}\n\n',
        "event: x\n\n",
    ]
    model.reply = lambda n: model.stream(*odd, event("Yes."), f"data: {json.dumps(last)}\n\n")
    writer = ChatWriter(line, endpoint)
    assert text_of(writer) == "Yes."
    assert writer.use() is None


@pytest.mark.parametrize("status", [429, 503, 500, 408])
def test_what_may_pass_is_tried_again(
    line: ModelClient, server: tuple[Server, Endpoint], status: int
) -> None:
    model, endpoint = server
    later = JSONResponse({"error": {"message": "later"}}, status, headers={"Retry-After": "0"})
    model.reply = lambda n: later if n < 3 else model.stream(event("Now."), "data: [DONE]\n\n")
    assert text_of(ChatWriter(line, endpoint)) == "Now."
    assert len(model.asked) == 3


def test_a_server_that_knows_no_usage_option_is_asked_without(
    line: ModelClient, server: tuple[Server, Endpoint]
) -> None:
    model, endpoint = server
    refused = JSONResponse({"error": {"message": "unknown field stream_options"}}, 400)
    model.reply = lambda n: refused if n == 1 else model.stream(event("Well."), "data: [DONE]\n\n")
    assert text_of(ChatWriter(line, endpoint)) == "Well."
    assert "stream_options" not in model.asked[1]


@pytest.mark.parametrize(
    ("reply", "reason", "times"),
    [
        (JSONResponse({"error": "no"}, 401), "refuses the secret", 1),
        (JSONResponse({}, 404), "no such model", 1),
        (JSONResponse({"error": {"message": "too long a prompt"}}, 400), "too long a prompt", 1),
        (JSONResponse({}, 500, headers={"Retry-After": "0"}), "status 500", 3),
        (JSONResponse({}, 429, headers={"Retry-After": "900"}), "asked too much", 1),
        (PlainTextResponse("hello"), "cannot be read", 1),
        (JSONResponse({"choices": []}), "cannot be read", 1),
    ],
)
def test_failures_are_said_in_words(
    line: ModelClient, server: tuple[Server, Endpoint], reply: Response, reason: str, times: int
) -> None:
    model, endpoint = server
    model.reply = lambda n: reply
    with pytest.raises(WriterFailed, match=reason):
        text_of(ChatWriter(line, endpoint))
    assert len(model.asked) == times


@pytest.mark.parametrize(
    ("pieces", "reason"),
    [
        ((event("One "), event("two")), "broke off"),
        ((event("One "), "data: {nonsense\n\n"), "cannot be read"),
        ((event("One "), 'data: {"error": {"message": "overheated"}}\n\n'), "overheated"),
        ((event("One "), "data: [1, 2]\n\n"), "cannot be read"),
    ],
)
def test_a_stream_that_breaks_is_not_begun_again(
    line: ModelClient, server: tuple[Server, Endpoint], pieces: tuple[str, ...], reason: str
) -> None:
    model, endpoint = server
    model.reply = lambda n: model.stream(*pieces)
    written = ChatWriter(line, endpoint).write(ASK, 50, 0.0)
    if pieces[0] == event("One "):
        assert next(written) == "One "
    with pytest.raises(WriterFailed, match=reason):
        list(written)
    assert len(model.asked) == 1


def test_silence_has_an_end(line: ModelClient, serve: Callable[[Any], str]) -> None:
    endpoint = Endpoint("m", serve(model_app()) + "/v1", "silent", seconds=0.3)
    with pytest.raises(WriterFailed, match=r"silent for 0\.3 seconds"):
        text_of(ChatWriter(line, endpoint))


def test_an_address_where_nobody_is(line: ModelClient) -> None:
    with pytest.raises(WriterFailed, match="cannot be reached"):
        text_of(ChatWriter(line, Endpoint("m", "http://127.0.0.1:9/v1", "x", tries=1)))


def test_an_asker_who_leaves_cancels_the_call(
    line: ModelClient, server: tuple[Server, Endpoint]
) -> None:
    model, endpoint = server
    model.reply = lambda n: model.stream(event("One "), endless=True)
    removed = threading.Event()
    pieces = ChatWriter(line, endpoint, removed).write(ASK, 50, 0.0)
    assert next(pieces) == "One "
    removed.set()
    with pytest.raises(AskerLeft):
        list(pieces)
    assert model.cancelled.wait(5)


def test_closing_the_text_cancels_the_call(
    line: ModelClient, server: tuple[Server, Endpoint]
) -> None:
    model, endpoint = server
    model.reply = lambda n: model.stream(event("One "), endless=True)
    pieces = ChatWriter(line, endpoint).write(ASK, 50, 0.0)
    next(pieces)
    pieces.close()
    assert model.cancelled.wait(5)


def test_many_streams_run_side_by_side(line: ModelClient, server: tuple[Server, Endpoint]) -> None:
    model, endpoint = server
    endpoint = replace(endpoint, seconds=60.0)
    everyone = asyncio.Event()

    async def events() -> AsyncIterator[str]:
        # Nobody gets a response before all have asked: if one waited for another, none would.
        yield event("Ready")
        if len(model.asked) == 64:
            everyone.set()
        await everyone.wait()
        yield event(".")
        yield "data: [DONE]\n\n"

    model.reply = lambda n: StreamingResponse(events(), media_type="text/event-stream")
    with ThreadPoolExecutor(64) as pool:
        texts = list(pool.map(lambda _: text_of(ChatWriter(line, endpoint)), range(64)))
    assert texts == ["Ready."] * 64


def test_reach_asks_all_at_once_and_costs_nothing(
    line: ModelClient, serve: Callable[[Any], str]
) -> None:
    there = Endpoint("there", serve(model_app()) + "/v1", "honest")
    away = Endpoint("away", "http://127.0.0.1:9/v1", "x")
    result = line.check([there, away])
    assert result["there"] is None
    assert "cannot be reached" in (result["away"] or "")
    assert try_model(line, there).error is None
    assert try_model(line, away).error is not None


def test_the_stand_in_is_what_its_behaviours_say() -> None:
    sources = (
        '<sources>\n<source number="1" title="Crane" place="">\nThe crane stops at 38 knots. The'
        " lock opens at 06:00.\n</source>\n</sources>"
    )
    messages = [
        {
            "role": "user",
            "content": f"{sources}\n\n<question>\nWhen does the crane stop?\n</question>",
        }
    ]
    honest = compose("honest", messages)
    assert "stops at 38 knots. [1]" in honest
    assert compose("lying", messages) != honest
    assert compose("honest", [{"role": "user", "content": "Hello"}]) == "Ready."
    off = [
        {"role": "user", "content": f"{sources}\n\n<question>\nWho invented cheese?\n</question>"}
    ]
    assert compose("honest", off) == "NO ANSWER"
    assert set(MODELS) >= {"honest", "lying", "slow", "failing", "limited", "malformed"}


@pytest.mark.parametrize(
    ("source", "question", "said"),
    [
        (
            "Cranes stop at 38 knots. The lift stops at 20 knots.",
            "When do cranes stop?",
            "Cranes stop at 20 knots.",
        ),
        (
            "Pilots board at the buoy before ships enter the channel.",
            "When do pilots board?",
            "Ships enter the channel before pilots board at the buoy.",
        ),
        (
            "Ships anchor if the pilot boat is away.",
            "When do ships anchor?",
            "Ships anchor if the pilot boat is not away.",
        ),
    ],
)
def test_the_subtle_stand_in_changes_one_thing(source: str, question: str, said: str) -> None:
    prompt = Prompt([(1, "Rules", source)], question, 1, "prose")
    true = honest(prompt)
    assert [one.true for one in true] == [True]
    texts = {
        one.text
        for padding in ("", "?", "??", "???")
        for one in lies("subtle", true, replace(prompt, question=question + padding))
        if not one.true
    }
    assert texts == {said}


def test_a_stand_in_with_a_key_wants_it(line: ModelClient, serve: Callable[[Any], str]) -> None:
    url = serve(model_app(key="open")) + "/v1"
    assert try_model(line, Endpoint("m", url, "honest", secret="open")).text == "Ready."
    assert "refuses the secret" in (
        try_model(line, Endpoint("m", url, "honest", secret="shut")).error or ""
    )
