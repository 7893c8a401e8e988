"""The screen's connection to the engine."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

from brass_pebble.client import CHECKS, EngineError
from brass_pebble.protocol.base import VERSION, News, Reply, Request
from brass_pebble.protocol.conversation import NotDeclared
from brass_pebble.protocol.desk import Hello
from brass_pebble.protocol.topics import MissedNews
from brass_pebble.protocol.typed import Came, TypedConversation, declared

_LONGEST_LINE = 32 * 1024 * 1024


class Asks(Protocol):
    """What views need of the engine."""

    async def connect(self, path: Path) -> Reply:
        """Connect and greet.  Raises: EngineError."""

    async def ask(self, do: str, **fields: Any) -> Reply:
        """Send a request by its word and wait for its reply.  Raises: EngineError."""

    async def send(self, request: Request) -> Reply:
        """Send a request and wait for its reply.  Raises: EngineError."""

    def close(self) -> None:
        """Leave."""


class Link:
    """Asks the engine, and hands its news to `on_news`; `on_gone` is called when it ends."""

    def __init__(self, on_news: Callable[[News], None], on_gone: Callable[[], None]) -> None:
        self._on_news = on_news
        self._on_gone = on_gone
        self._conversation = TypedConversation(checks=CHECKS)
        self._waiting: dict[int, asyncio.Future[Reply]] = {}
        self._writer: asyncio.StreamWriter | None = None
        self._task: asyncio.Task[None] | None = None

    async def connect(self, path: Path) -> Reply:
        """Connect and greet.

        Raises:
            EngineError: nobody answers, or in another protocol.
        """
        try:
            reader, self._writer = await asyncio.open_unix_connection(str(path), limit=_LONGEST_LINE)
        except OSError as error:
            raise EngineError(f"no engine responds at {path}", "Start one with: brass-pebble run", "none") from error
        self._task = asyncio.create_task(self._read(reader))
        return await self.send(Hello(protocol=VERSION, client="screen"))

    async def ask(self, do: str, **fields: Any) -> Reply:
        """Send a request by its word and wait for its reply.

        Raises:
            EngineError: the engine refused, or is gone.
        """
        return await self.send(declared(do, fields))

    async def send(self, request: Request) -> Reply:
        """Send a request and wait for its reply.

        Raises:
            EngineError: the engine refused, or is gone.
        """
        if self._writer is None:
            raise EngineError("the engine has ended", "Press R to start it again", "gone")
        number, line = self._conversation.ask(request)
        future: asyncio.Future[Reply] = asyncio.get_running_loop().create_future()
        self._waiting[number] = future
        self._writer.write(line)
        return await future

    async def _read(self, reader: asyncio.StreamReader) -> None:
        why = EngineError("the engine has ended", "Press R to start it again", "gone")
        try:
            while line := await reader.readline():
                try:
                    self._take(self._conversation.take(line))
                except NotDeclared:
                    if CHECKS:
                        raise
                    # One piece of news is lost, and told as such.
                    self._on_news(MissedNews(count=1))
        except (OSError, ValueError):
            # A broken connection or half a line at its end: both mean that the engine has gone.
            pass
        except NotDeclared as error:
            why = EngineError(str(error), "This is a mistake of the program")
        self._writer = None
        for future in self._waiting.values():
            if not future.done():
                future.set_exception(why)
        self._waiting.clear()
        self._on_gone()

    def _take(self, came: Came) -> None:
        if came.news is not None:
            self._on_news(came.news)
            return
        future = self._waiting.pop(came.number, None)
        if future is None or future.done():
            return
        if came.reply is not None:
            future.set_result(came.reply)
        else:
            future.set_exception(came.error or EngineError("no reply"))

    def close(self) -> None:
        """Leave."""
        if self._writer is not None:
            self._writer.close()
