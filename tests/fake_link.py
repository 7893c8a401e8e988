"""A screen without an engine's process: what it asks is checked against the declared requests and kept, and replied to
by declared replies of the test's own, or else by an engine in this process that nobody presses anything on."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import msgspec

from brass_pebble.cli.outside import OutsideHere
from brass_pebble.client import EngineError
from brass_pebble.engine.assemble import assemble
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.inputs.bench import read_bench
from brass_pebble.kinds.outputs.table import open_output
from brass_pebble.paths import PACKAGE
from brass_pebble.protocol.base import Changed, News, Reply, Request
from brass_pebble.protocol.desk import Follow, Hello, Traces
from brass_pebble.protocol.errors import Refusal
from brass_pebble.protocol.macros import Macros
from brass_pebble.protocol.typed import declared
from brass_pebble.protocol.wire import write
from brass_pebble.screen.app import BrassPebbleApp
from jumping_clock import JumpingClock

# Requests that change something: told to be done, and not done.
DONE = Changed(words="done")


class FakeLink:
    """What a `Link` is for the screen."""

    def __init__(self, on_news: Callable[[News], None], on_gone: Callable[[], None]) -> None:
        self.tell = on_news
        self.asked: list[Request] = []
        self.replies: dict[type[Request], Reply | Exception] = {}
        self.engine: Any = None
        # What is asked while this is set waits until it is let go.
        self.held: asyncio.Event | None = None

    async def connect(self, path: Path) -> Reply:
        return await self.send(Hello())

    async def ask(self, do: str, **fields: Any) -> Reply:
        return await self.send(declared(do, fields))

    async def send(self, request: Request) -> Reply:
        request = msgspec.json.decode(msgspec.json.encode(request), type=type(request))
        self.asked.append(request)
        if self.held is not None:
            await self.held.wait()
        found = self.replies.get(type(request))
        if isinstance(found, Exception):
            raise found
        if found is None:
            found = self._of_engine(request)
        reply: Reply = msgspec.json.decode(write(found), type=request.reply)
        return reply

    def _of_engine(self, request: Request) -> object:
        if isinstance(request, Hello):
            return self.engine.requests.hello()
        if isinstance(request, Follow):
            return {}
        if request.reply is Changed:
            return DONE
        if request.reply is Traces:
            return Traces(traces=[])
        if request.reply is Macros:
            # The engine reads them on its worker, and answers later.
            return Macros(texts={}, drafts={}, tap_ms=40, gap_ms=10, keyboard="us")
        try:
            return self.engine.requests.take(None, request) or {}
        except Refusal as error:
            raise EngineError(error.what, error.hint, error.code) from None

    def last(self, kind: type[Request]) -> Request:
        """The last request of a kind."""
        found = [request for request in self.asked if isinstance(request, kind)]
        assert found, f"{kind.__name__} was not asked for; asked was {[type(each).__name__ for each in self.asked]}"
        return found[-1]

    def close(self) -> None:
        """Nothing to leave."""


@contextlib.contextmanager
def screen_on(desk: Path, folder: Path) -> Iterator[tuple[BrassPebbleApp, FakeLink]]:
    """The screen on a desk with the demo's bench and stage, and what it speaks to."""
    store = DeskStore(desk, folder / "versions")
    demo = PACKAGE / "demo"
    engine = assemble(Setup(store, folder / "socket", lambda desk: open_output(desk, demo / "stage"),
                            read_bench(demo / "bench.toml", store.layout), real_devices=False), JumpingClock())
    app = BrassPebbleApp(Path("nowhere"), outside=OutsideHere(), link=FakeLink)
    link = app.link
    assert isinstance(link, FakeLink)
    link.engine = engine
    try:
        yield app, link
    finally:
        for call in engine.ends:
            call()
