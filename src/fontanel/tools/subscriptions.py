"""Subscriptions: a client is notified when a document that it subscribed to changes.

Each knowledge base with subscribed documents is watched with the caller's own access, and no longer
than that lasts. Clients before the 2026-07-28 revision subscribe to single addresses within a
session; later ones open a stream with a list of addresses.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from contextlib import AbstractAsyncContextManager, asynccontextmanager, suppress
from dataclasses import dataclass, field
from typing import Any
from weakref import WeakKeyDictionary

import anyio
import mcp_types as types
import structlog
from mcp.server.connection import Connection
from mcp.server.context import ServerRequestContext
from mcp.server.lowlevel import Server
from mcp.server.subscriptions import SUBSCRIPTION_ID_META_KEY
from mcp.shared.exceptions import MCPError

from fontanel import schemas as s
from fontanel.client import AsyncClient, FontanelError, NotFound
from fontanel.tools.uris import Address, parse_uri

log = structlog.get_logger()

#: Addresses that one client can subscribe to.
MAX_ADDRESSES = 200
_WATCHING = "subscriptions;0"

Context = ServerRequestContext[Any, Any]
#: Opens a client for the caller of a request; the name is that of the tool that is called.
Connect = Callable[[Context, str], AbstractAsyncContextManager[AsyncClient]]


class Subscriptions:
    """The subscriptions of all sessions."""

    def __init__(self, connect: Connect) -> None:
        self._connect = connect
        #: The watching tasks of each connection that subscribes to single addresses.
        self._tasks: WeakKeyDictionary[Connection, dict[str, asyncio.Task[None]]] = (
            WeakKeyDictionary()
        )

    @asynccontextmanager
    async def running(self, server: Server[Any]) -> AsyncIterator[dict[str, Any]]:
        """Watch until the server ends."""
        try:
            yield {}
        finally:
            for tasks in self._tasks.values():
                _cancel(tasks)

    async def subscribe(
        self, context: Context, params: types.SubscribeRequestParams
    ) -> types.EmptyResult:
        """Report changes of an address in the caller's session."""
        uri = str(params.uri)
        address = _address(uri)
        tasks = self._tasks_of(context)
        if len(tasks) >= MAX_ADDRESSES:
            raise MCPError(types.INVALID_PARAMS, f"At most {MAX_ADDRESSES} documents are watched.")
        if uri not in tasks:
            watched = await self._watched(context, {uri: address})
            tasks[uri] = asyncio.create_task(self._report(context, uri, address.kb, watched))
        return types.EmptyResult()

    async def unsubscribe(
        self, context: Context, params: types.UnsubscribeRequestParams
    ) -> types.EmptyResult:
        """Report no more changes of an address."""
        task = self._tasks_of(context).pop(str(params.uri), None)
        if task is not None:
            task.cancel()
        return types.EmptyResult()

    def _tasks_of(self, context: Context) -> dict[str, asyncio.Task[None]]:
        """Return the tasks of a connection, which end with it."""
        # A session belongs to one request; what lasts is the connection behind it.
        connection = context.session._connection
        if connection not in self._tasks:
            self._tasks[connection] = {}
            connection.exit_stack.callback(_cancel, self._tasks[connection])
        return self._tasks[connection]

    async def listen(
        self, context: Context, params: types.SubscriptionsListenRequestParams
    ) -> types.SubscriptionsListenResult:
        """Report changes of several addresses until the client leaves."""
        uris = [str(uri) for uri in params.notifications.resource_subscriptions or ()]
        if len(uris) > MAX_ADDRESSES:
            raise MCPError(types.INVALID_PARAMS, f"At most {MAX_ADDRESSES} documents are watched.")
        addresses = {uri: _address(uri) for uri in uris}
        watched = {
            kb: await self._watched(
                context, {uri: one for uri, one in addresses.items() if one.kb == kb}
            )
            for kb in {one.kb for one in addresses.values()}
        }
        meta: dict[str, Any] = {SUBSCRIPTION_ID_META_KEY: context.request_id}
        related = context.request_id
        honoured = types.SubscriptionFilter(resource_subscriptions=uris or None)
        acknowledged = types.SubscriptionsAcknowledgedNotificationParams(
            notifications=honoured, _meta=meta
        )
        await context.session.send_notification(
            types.SubscriptionsAcknowledgedNotification(params=acknowledged),
            related_request_id=related,
        )

        async def watch(kb: str) -> None:
            async for uri in self._changes(context, kb, watched[kb]):
                await context.session.send_notification(
                    types.ResourceUpdatedNotification(
                        params=types.ResourceUpdatedNotificationParams(uri=uri, _meta=meta)
                    ),
                    related_request_id=related,
                )

        async with asyncio.TaskGroup() as group:
            for kb in watched:
                group.create_task(watch(kb))
        return types.SubscriptionsListenResult(_meta=meta)

    async def _watched(self, context: Context, addresses: Mapping[str, Address]) -> list[_Watched]:
        """Return documents as they are now. Raises MCPError: the caller has no such document."""
        async with self._connect(context, _WATCHING) as client:
            try:
                return [
                    _Watched(uri, address, await _shown(client, address))
                    for uri, address in addresses.items()
                ]
            except FontanelError as error:
                raise MCPError(types.INVALID_PARAMS, str(error)) from error

    async def _report(
        self, context: Context, uri: str, kb: str, watched: Sequence[_Watched]
    ) -> None:
        """Report changes of one address, until the session or the caller's access ends."""
        session = context.session
        try:
            async for _ in self._changes(context, kb, watched):
                await session.send_resource_updated(uri)
        except (anyio.ClosedResourceError, anyio.BrokenResourceError):
            log.debug("subscription ended", uri=uri)
        finally:
            self._tasks_of(context).pop(uri, None)

    async def _changes(
        self, context: Context, kb: str, watched: Sequence[_Watched]
    ) -> AsyncIterator[str]:
        """Yield the addresses of documents that changed, while the caller may read them."""
        begun = False
        async with self._connect(context, _WATCHING) as client:
            with suppress(FontanelError):
                async for event in client.watch(kb):
                    if not isinstance(event, s.KbOut):
                        for one in watched:
                            if one.shown.id == event.id and one.becomes(event):
                                yield one.uri
                    elif not begun:
                        begun = True
                        # What changed before the stream began.
                        for one in watched:
                            if one.becomes(await _present(client, one)):
                                yield one.uri


@dataclass(slots=True)
class _Watched:
    """A document that is watched, as it was when its readers last knew of it."""

    uri: str
    address: Address
    shown: s.DocumentOut
    state: str = field(init=False)

    def __post_init__(self) -> None:
        self.state = self._state_of(self.shown)

    def _state_of(self, now: s.DocumentOut | s.RemovedOut) -> str:
        """Return what of a document its readers see: which text, or that it was removed."""
        if isinstance(now, s.RemovedOut) or now.state == "removed":
            return "removed"
        # A revision does not change.
        return "" if self.address.revision is not None else now.active_revision or ""

    def becomes(self, now: s.DocumentOut | s.RemovedOut) -> bool:
        """Note how the document is now; return whether its readers see a difference."""
        before, self.state = self.state, self._state_of(now)
        return self.state != before


async def _shown(client: AsyncClient, address: Address) -> s.DocumentOut:
    return await client.show_document(address.kb, address.document)


async def _present(client: AsyncClient, watched: _Watched) -> s.DocumentOut | s.RemovedOut:
    try:
        return await _shown(client, watched.address)
    except NotFound:
        return s.RemovedOut(id=watched.shown.id)


def _cancel(tasks: dict[str, asyncio.Task[None]]) -> None:
    for task in list(tasks.values()):
        task.cancel()


def _address(uri: str) -> Address:
    try:
        return parse_uri(uri)
    except ValueError as error:
        raise MCPError(types.INVALID_PARAMS, str(error)) from error
