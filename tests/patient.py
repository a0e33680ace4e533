"""Plain HTTP requests to what is under test, with the patience that a busy machine needs."""

from __future__ import annotations

from functools import partial

import httpx

PATIENCE = 60.0

get = partial(httpx.get, timeout=PATIENCE)
post = partial(httpx.post, timeout=PATIENCE)
patch = partial(httpx.patch, timeout=PATIENCE)
delete = partial(httpx.delete, timeout=PATIENCE)
request = partial(httpx.request, timeout=PATIENCE)
stream = partial(httpx.stream, timeout=PATIENCE)
Client = partial(httpx.Client, timeout=PATIENCE)
AsyncClient = partial(httpx.AsyncClient, timeout=PATIENCE)
