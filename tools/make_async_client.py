"""Write the asynchronous client from the synchronous one, so that the twins cannot drift apart: `make client`.

A test fails when the file is not what this gives.
"""

from __future__ import annotations

import re
from pathlib import Path

CLIENT = Path(__file__).parent.parent / "src" / "fontanel" / "client"

#: What differs between the twins, as (pattern, replacement), applied in order.
CHANGES = (
    (
        r'"""The synchronous client\'s (base|methods)([^"]*)"""',
        r'"""The asynchronous client\'s \1\2 Made from its synchronous twin; do not edit."""',
    ),
    (r"client\._(base|desks|conversations)\b", r"client._async_\1"),
    (r"\b(BaseClient|DeskClient|ConversationClient)\b", r"Async\1"),
    (
        r"return self\._events\(call\) if stream else self\._persist\(call\)",
        "return self._events(call) if stream else self._persist(call)",
    ),
    (r"return self\._exchange\((.*)\)\.text", r"return (await self._exchange(\1)).text"),
    (r"return self\._text\(", "return await self._text("),
    (
        r"                return self\._send\(call\)\n",
        "                return await self._send(call)\n",
    ),
    (r"        return self\._send\(call\)\n", "        return await self._send(call)\n"),
    (
        r'"""The synchronous client\."""',
        '"""The asynchronous client: `Client`, awaited. Made from `_sync.py`; do not edit."""',
    ),
    (r"(import secrets\n)?import time\n", r"import asyncio\n\1import time\n"),
    (r"from collections\.abc import Iterator", "from collections.abc import AsyncIterator"),
    (r"class Client\(", "class AsyncClient("),
    (r"\bIterator\[", "AsyncIterator["),
    (r"(?<!`)\bClient\b(?!\()", "AsyncClient"),
    (r"httpx\.(?:Async)?Client\(", "httpx.AsyncClient("),
    (r"httpx\.AsyncClient\b(?=\()", "httpx.AsyncClient"),
    (r"    def __enter__", "    async def __aenter__"),
    (r"    def __exit__", "    async def __aexit__"),
    (r"    def (?=(?!__|_events|ask\b|ask_desk\b|use_team)\w)", "    async def "),
    (r"    def _events", "    async def _events"),
    (r"self\._http\.close\(\)", "await self._http.aclose()"),
    (r"(?<!await )self\.close\(\)", "await self.close()"),
    (
        r"call\.read\(self\._exchange\(request\)\.content\)",
        "call.read((await self._exchange(request)).content)",
    ),
    (
        r"model_validate_json\(self\._upload\((.*)\)\)",
        r"model_validate_json(await self._upload(\1))",
    ),
    (
        r"model_validate_json\(self\._exchange\(request\)\.content\)",
        "model_validate_json((await self._exchange(request)).content)",
    ),
    (
        r"return self\._exchange\(request\)\.content",
        "return (await self._exchange(request)).content",
    ),
    (r"self\._http\.send\(", "await self._http.send("),
    (r"return self\._send\((.*)\)\.items", r"return (await self._send(\1)).items"),
    (r"return self\._send\((.*)\)\.documents", r"return (await self._send(\1)).documents"),
    (r"(?<!await )(?<!else )self\._send\((?!call\))", "await self._send("),
    (
        r"        await self\._send\(self\._calls\.(\w+)\((.*)\)\)\)\.items",
        r"(await self._send(self._calls.\1(\2))).items",
    ),
    (r"self\.wait_for_document\(kb", "await self.wait_for_document(kb"),
    (r"found = self\.show_(document|sync)", r"found = await self.show_\1"),
    (
        r"return self\.wait_for_sync\((.*)\) if wait else sync",
        r"return await self.wait_for_sync(\1) if wait else sync",
    ),
    (r"time\.sleep", "await asyncio.sleep"),
    (r"yield from page\.items", "for item in page.items:\n                yield item"),
    (r"response\.read\(\)", "await response.aread()"),
    (r"response\.close\(\)", "await response.aclose()"),
    (r"for chunk in response\.iter_bytes\(\)", "async for chunk in response.aiter_bytes()"),
    (r"for line in response\.iter_lines\(\)", "async for line in response.aiter_lines()"),
)


def make(source: str) -> str:
    """The asynchronous twin of the source of `_sync.py`."""
    for pattern, replacement in CHANGES:
        source = re.sub(pattern, replacement, source)
    # `ask` itself stays a plain function: it gives a coroutine, or with `stream` an asynchronous iterator.
    source = source.replace("    ) -> s.AnswerOut: ...", "    ) -> Awaitable[s.AnswerOut]: ...")
    source = source.replace(
        ") -> s.AnswerOut | AsyncIterator", ") -> Awaitable[s.AnswerOut] | AsyncIterator"
    )
    source = source.replace("import AsyncIterator,", "import AsyncIterator, Awaitable,")
    return source if "time.monotonic" in source else source.replace("import time\n", "")


#: Each synchronous file and its twin.
TWINS = (
    ("_sync.py", "_async.py"),
    ("_base.py", "_async_base.py"),
    ("_desks.py", "_async_desks.py"),
    ("_conversations.py", "_async_conversations.py"),
)


def main() -> None:
    for plain, awaited in TWINS:
        (CLIENT / awaited).write_text(make((CLIENT / plain).read_text()))


if __name__ == "__main__":
    main()
