"""Model servers with the chat-completions protocol.

Streams, retries, cancellation.

All calls run on one event loop in its own thread, so that many answers can be streamed at once; a
`ChatWriter` passes a call's text to the thread that composes its answer.
"""

from __future__ import annotations

import asyncio
import base64
import json
import queue
import threading
import time
from collections.abc import AsyncGenerator, Callable, Generator, Sequence
from concurrent.futures import Future
from contextlib import aclosing
from dataclasses import KW_ONLY, dataclass
from functools import partial
from typing import Any

import httpx

from fontanel.core.answering import Message, TokenUse, WriterFailed
from fontanel.llm import http

#: The time limit of an answer in seconds, and the bytes of it that are read.
_WHOLE_SECONDS = 600.0
_MAX_CHARACTERS = 200_000
_POLL = 0.2


@dataclass(frozen=True, slots=True)
class Endpoint:
    """A model's address; `seconds` is the timeout of a read, `tries` the attempts."""

    name: str
    url: str
    remote: str
    _: KW_ONLY
    secret: str | None = None
    seconds: float = 60.0
    tries: int = 3

    @property
    def headers(self) -> dict[str, str]:
        return {"Authorization": f"Bearer {self.secret}"} if self.secret else {}

    @property
    def away(self) -> str:
        """Return the message for a server that cannot be reached."""
        return http.away(self.url)


class AskerLeft(Exception):
    """Nobody waits for the answer any more."""


@dataclass(frozen=True, slots=True)
class _Piece:
    text: str


@dataclass(frozen=True, slots=True)
class _End:
    failure: str = ""


class _Transient(Exception):
    """The server may respond to a retry, after some seconds if it names them."""

    def __init__(self, reason: str, after: float | None = None) -> None:
        super().__init__(reason)
        self.after = after


class ModelClient:
    """Connects to model servers.

    An event loop in a thread, with a pool of connections.

    Opened on first use.
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._loop: asyncio.AbstractEventLoop | None = None
        self._thread: threading.Thread | None = None
        self._client: httpx.AsyncClient | None = None

    def start(self, call: Callable[[httpx.AsyncClient], Any]) -> Future[None]:
        """Run a coroutine on the line's loop."""
        with self._lock:
            if self._loop is None:
                self._loop = asyncio.new_event_loop()
                self._thread = threading.Thread(
                    target=self._loop.run_forever, name="models", daemon=True
                )
                self._thread.start()
            loop = self._loop

        async def run() -> None:
            if self._client is None:
                limits = httpx.Limits(max_connections=None, max_keepalive_connections=32)
                # Redirects are not followed: questions only go to the address that the operator
                # named.
                self._client = httpx.AsyncClient(
                    limits=limits, headers={"User-Agent": "Fontanel/1"}, trust_env=False
                )
            await call(self._client)

        return asyncio.run_coroutine_threadsafe(run(), loop)

    def check(self, endpoints: Sequence[Endpoint]) -> dict[str, str | None]:
        """Check model servers concurrently; return the error of each by name, or None."""
        results: dict[str, str | None] = {}

        async def one(client: httpx.AsyncClient, endpoint: Endpoint) -> None:
            try:
                response = await client.get(
                    f"{endpoint.url}/models", headers=endpoint.headers, timeout=http.CONNECT_SECONDS
                )
            except httpx.HTTPError:
                results[endpoint.name] = endpoint.away
            else:
                # A server need not list its models; one that fails or rejects the secret is
                # unusable.
                bad = response.status_code >= 500 or response.status_code in (401, 403)
                results[endpoint.name] = (
                    f"its server answers with status {response.status_code}" if bad else None
                )

        async def all_of_them(client: httpx.AsyncClient) -> None:
            await asyncio.gather(*(one(client, endpoint) for endpoint in endpoints))

        self.start(all_of_them).result(timeout=http.CONNECT_SECONDS + 5)
        return results

    def stop(self) -> None:
        with self._lock:
            loop, self._loop = self._loop, None
        if loop is None:
            return

        async def close() -> None:
            if self._client is not None:
                await self._client.aclose()

        asyncio.run_coroutine_threadsafe(close(), loop).result(timeout=5)
        loop.call_soon_threadsafe(loop.stop)


def _content(message: Message) -> str | list[dict[str, Any]]:
    """Return a message as the protocol has it: a text, or parts if there are pictures."""
    if not message.pictures:
        return message.content
    pictures = [
        {"type": "image_url", "image_url": {"url": f"data:image/jpeg;base64,{encoded}"}}
        for encoded in (base64.b64encode(picture).decode() for picture in message.pictures)
    ]
    return [{"type": "text", "text": message.content}, *pictures]


class ChatWriter:
    """One model for one answer.

    When `cancelled` is set, because the asker left, the call is cancelled and `write` raises
    AskerLeft.
    """

    def __init__(
        self, client: ModelClient, endpoint: Endpoint, cancelled: threading.Event | None = None
    ) -> None:
        self.name = endpoint.name
        self._client = client
        self._endpoint = endpoint
        self._cancelled = cancelled or threading.Event()
        self._use: TokenUse | None = None

    def use(self) -> TokenUse | None:
        return self._use

    def write(
        self, messages: Sequence[Message], max_tokens: int, temperature: float
    ) -> Generator[str, None, None]:
        """Yield the model's text as it comes.

        Raises:
            WriterFailed: the model did not answer.
            AskerLeft: the answer was cancelled.
        """
        self._use = None
        arrived: queue.SimpleQueue[_Piece | _End] = queue.SimpleQueue()
        body = {
            "model": self._endpoint.remote,
            "messages": [
                {"role": message.role, "content": _content(message)} for message in messages
            ],
            "max_tokens": max_tokens,
            "temperature": temperature,
            "stream": True,
            "stream_options": {"include_usage": True},
        }
        running = self._client.start(partial(self._call, body=body, arrived=arrived))
        try:
            while True:
                item = self._next(arrived)
                if isinstance(item, _End):
                    if item.failure:
                        raise WriterFailed(item.failure)
                    return
                yield item.text
                if self._cancelled.is_set():
                    raise AskerLeft
        finally:
            running.cancel()

    def _next(self, arrived: queue.SimpleQueue[_Piece | _End]) -> _Piece | _End:
        """Wait for the next piece, looking now and then whether the answer is cancelled."""
        while True:
            try:
                return arrived.get(timeout=_POLL)
            except queue.Empty:
                if self._cancelled.is_set():
                    raise AskerLeft from None

    async def _call(
        self,
        client: httpx.AsyncClient,
        body: dict[str, Any],
        arrived: queue.SimpleQueue[_Piece | _End],
    ) -> None:
        """Call the model; whatever happens, `arrived` gets an end."""
        try:
            async with asyncio.timeout(_WHOLE_SECONDS):
                await self._ask(client, body, arrived)
        except TimeoutError:
            arrived.put(_End(f"it took more than {_WHOLE_SECONDS:.0f} seconds"))
        except WriterFailed as failed:
            arrived.put(_End(str(failed)))
        except Exception as error:  # what is not foreseen must not leave the answer waiting
            arrived.put(_End(f"{type(error).__name__}: {error}"))

    async def _ask(
        self, client: httpx.AsyncClient, body: dict[str, Any], arrived: queue.SimpleQueue[Any]
    ) -> None:
        """Ask, and again when that may help, as long as no text has come."""
        reason = ""
        for attempt in range(1, self._endpoint.tries + 1):
            begun = False
            try:
                async with aclosing(self._stream(client, body)) as pieces:
                    async for piece in pieces:
                        begun = True
                        arrived.put(_Piece(piece))
                arrived.put(_End())
                return
            except _Transient as transient:
                reason = str(transient)
                pause = http.pause_after(attempt, transient.after)
                if begun or attempt == self._endpoint.tries or pause > http.LONGEST_PAUSE:
                    break
                await asyncio.sleep(pause)
            except httpx.TimeoutException:
                raise WriterFailed(
                    f"it was silent for {self._endpoint.seconds:g} seconds"
                ) from None
        raise WriterFailed(reason)

    async def _stream(
        self, client: httpx.AsyncClient, body: dict[str, Any]
    ) -> AsyncGenerator[str, None]:
        endpoint = self._endpoint
        timeout = httpx.Timeout(endpoint.seconds, connect=http.CONNECT_SECONDS)
        try:
            async with client.stream(
                "POST",
                f"{endpoint.url}/chat/completions",
                json=body,
                headers=endpoint.headers,
                timeout=timeout,
            ) as response:
                if response.status_code != 200:
                    await self._refused(response, body)
                elif "text/event-stream" in response.headers.get("content-type", ""):
                    async with aclosing(self._events(response)) as pieces:
                        async for piece in pieces:
                            yield piece
                else:
                    yield self._whole(await response.aread())
        except (httpx.ConnectError, httpx.ConnectTimeout):
            raise _Transient(endpoint.away) from None
        except httpx.TransportError as error:
            if isinstance(error, httpx.TimeoutException):
                raise
            raise _Transient("its server closed the connection") from None

    async def _refused(self, response: httpx.Response, body: dict[str, Any]) -> None:
        text = http.said(await response.aread())
        status = response.status_code
        if status == 400 and "stream_options" in body and "stream_options" in text:
            del body["stream_options"]  # a server that does not know it is asked without
            raise _Transient("it does not say what it uses", 0.0)
        if status in http.TRANSIENT:
            raise _Transient(http.temporary(status), http.retry_after(response))
        raise WriterFailed(http.refused(status, text))

    async def _events(self, response: httpx.Response) -> AsyncGenerator[str, None]:
        """Yield the pieces of an event stream, which must end with a reason or [DONE]."""
        ended = False
        length = 0
        async for line in response.aiter_lines():
            if not line.startswith("data:"):
                continue
            data = line[5:].strip()
            if data == "[DONE]":
                ended = True
                break
            try:
                event = json.loads(data)
                if isinstance(event, dict) and event.get("error"):
                    raise WriterFailed(f"it broke off: {http.said(data.encode())[:160]}")
                self._note_use(event.get("usage"))
                for choice in event.get("choices") or ():
                    text = (choice.get("delta") or {}).get("content") or ""
                    ended = ended or bool(choice.get("finish_reason"))
                    length += len(text)
                    if text:
                        yield str(text)
            except (ValueError, AttributeError, TypeError) as error:
                raise WriterFailed("its stream cannot be read") from error
            if length > _MAX_CHARACTERS:
                raise WriterFailed("it does not stop writing")
        if not ended:
            raise _Transient("its stream broke off")

    def _whole(self, content: bytes) -> str:
        """Return a whole answer from a server that does not stream."""
        try:
            answered = json.loads(content)
            self._note_use(answered.get("usage"))
            return str(answered["choices"][0]["message"]["content"] or "")
        except (ValueError, LookupError, AttributeError, TypeError) as error:
            raise WriterFailed("its answer cannot be read") from error

    def _note_use(self, usage: Any) -> None:
        if isinstance(usage, dict):
            read, written = usage.get("prompt_tokens"), usage.get("completion_tokens")
            if isinstance(read, int) and isinstance(written, int) and read >= 0 and written >= 0:
                self._use = TokenUse(read, written, counted=True)


@dataclass(frozen=True, slots=True)
class Tried:
    """The result of asking a model one short question; `error` is None if it answered."""

    text: str
    error: str | None
    first_seconds: float | None
    seconds: float


def try_model(client: ModelClient, endpoint: Endpoint) -> Tried:
    """Ask a model to say one word."""
    started = time.monotonic()
    first: float | None = None
    text, error = "", None
    try:
        for piece in ChatWriter(client, endpoint).write(
            [Message("user", "Reply with the word ready.")], 20, 0.0
        ):
            first = first if first is not None else time.monotonic() - started
            text += piece
    except WriterFailed as failed:
        error = str(failed)
    if error is None and not text.strip():
        error = "it wrote nothing"
    return Tried(text.strip()[:200], error, first, time.monotonic() - started)
