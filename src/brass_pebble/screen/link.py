"""The screen's connection to the engine."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

from brass_pebble.client import PROTOCOL, EngineError, Message

_LONGEST_LINE = 32 * 1024 * 1024


class Link:
    """Asks the engine, and hands its news to `on_news`; `on_gone` is called when it ends."""

    def __init__(self, on_news: Callable[[Message], None], on_gone: Callable[[], None]) -> None:
        self._on_news = on_news
        self._on_gone = on_gone
        self._number = 0
        self._waiting: dict[int, asyncio.Future[Message]] = {}
        self._writer: asyncio.StreamWriter | None = None
        self._task: asyncio.Task[None] | None = None

    async def connect(self, path: Path) -> Message:
        """Connect and greet.

        Raises:
            EngineError: nobody answers, or in another protocol.
        """
        try:
            reader, self._writer = await asyncio.open_unix_connection(str(path), limit=_LONGEST_LINE)
        except OSError as error:
            raise EngineError(f"no engine answers at {path}", "Start one with: brass-pebble run", "none") from error
        self._task = asyncio.create_task(self._read(reader))
        return await self.ask("hello", protocol=PROTOCOL, client="screen")

    async def ask(self, do: str, **fields: Any) -> Message:
        """Send a request and wait for its reply.

        Raises:
            EngineError: the engine refused, or is gone.
        """
        if self._writer is None:
            raise EngineError("the engine has ended", "Press R to start it again", "gone")
        self._number += 1
        future: asyncio.Future[Message] = asyncio.get_running_loop().create_future()
        self._waiting[self._number] = future
        self._writer.write(json.dumps({"id": self._number, "do": do, **fields}).encode() + b"\n")
        return await future

    async def _read(self, reader: asyncio.StreamReader) -> None:
        try:
            while line := await reader.readline():
                self._take(json.loads(line))
        except (OSError, ValueError):
            # A broken connection or half a line at its end: both mean that the engine has gone.
            pass
        self._writer = None
        for future in self._waiting.values():
            if not future.done():
                future.set_exception(EngineError("the engine has ended", "Press R to start it again", "gone"))
        self._waiting.clear()
        self._on_gone()

    def _take(self, message: Message) -> None:
        if "topic" in message:
            self._on_news(message)
            return
        future = self._waiting.pop(message.get("re", 0), None)
        if future is None or future.done():
            return
        if message["ok"]:
            future.set_result(message)
        else:
            error = message["error"]
            future.set_exception(EngineError(error["what"], error["hint"], error["code"]))

    def close(self) -> None:
        """Leave."""
        if self._writer is not None:
            self._writer.close()
