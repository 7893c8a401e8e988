"""What all views share: the engine's state, the way to ask it, and how news reach them."""

from __future__ import annotations

import asyncio
from typing import Any, ClassVar, TypeVar

import msgspec
from textual import work
from textual.binding import Binding, BindingType
from textual.screen import Screen

from brass_pebble.client import EngineError
from brass_pebble.core.say.counts import say_count
from brass_pebble.protocol.base import Changed, News, Reply, Request
from brass_pebble.protocol.rows import HandsOffRow
from brass_pebble.screen.known import Known, Spot
from brass_pebble.screen.link import Asks
from brass_pebble.screen.outside import Outside

from .key_help import bindings_of, key_rows, key_table, keys_by_words
from .palette import Palette
from .sheets import Sheet

R = TypeVar("R", bound=Reply)
# More keys than these stand in two columns where there is room, in cells.
MANY, WIDE = 20, 140

class View(Screen[None]):
    """A view of the engine's desk.  The topmost one gets the news."""

    # What it is called, as in “Keys of the Desk view”.
    NAME: ClassVar[str] = ""
    # What can be done here that no key does.
    ALSO: ClassVar[tuple[tuple[str, str], ...]] = ()
    # Widgets with keys of their own that belong to the view.
    PARTS: ClassVar[tuple[type, ...]] = ()
    # These stand first in every footer, so that none is too narrow for them.
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("question_mark", "keys", "help", tooltip="all keys of this view"),
        Binding("escape", "leave", "back"),
        Binding("H", "hands_off", "hands off / on", show=False,
                tooltip="hands off: presses only select; or hands on"),
        Binding("R", "restart", "restart engine", show=False, tooltip="start the engine again after it ended"),
    ]

    def __init__(self, known: Known, link: Asks) -> None:
        super().__init__()
        self.known, self.link = known, link

    @property
    def palette(self) -> Palette:
        """The colours in use."""
        return self.app.palette  # type: ignore[attr-defined,no-any-return]

    async def on_screen_resume(self) -> None:
        """Back on top: what was told meanwhile has not been drawn here."""
        await self.show_all()

    async def show_all(self) -> None:
        """Draw everything: after connecting, or when the desk changed."""

    async def take(self, news: News, changed: set[Spot]) -> None:
        """News of one topic, already in the state; `changed` are the controls that look different now."""

    async def ask(self, do: str, **fields: Any) -> Reply | None:
        """Ask the engine by a request's word; a refusal is shown to the person."""
        try:
            return await self._ask(do, **fields)
        except EngineError as error:
            self.notify(f"{error.what}. {error.hint}", severity="error", timeout=8)
            return None

    async def change(self, do: str, **fields: Any) -> Changed | None:
        """Ask the engine to change the desk; a refusal is shown to the person.

        Raises:
            TypeError: this request changes nothing.
        """
        reply = await self.ask(do, **fields)
        if reply is not None and not isinstance(reply, Changed):
            raise TypeError(f"{do} is replied to with {type(reply).__name__}")
        return reply

    async def _ask(self, do: str, **fields: Any) -> Reply:
        try:
            reply = await self.link.ask(do, **fields)
        finally:
            if self not in self.app.screen_stack:
                # The view was left meanwhile: its widgets are going, and what waited for the reply goes with them.
                raise asyncio.CancelledError
        return reply

    async def ask_or_say(self, do: str, **fields: Any) -> tuple[Reply | None, str]:
        """Ask the engine; the reply, or None and why not, for a sheet that stays open."""
        try:
            return await self._ask(do, **fields), ""
        except EngineError as error:
            return None, f"{error.what}. {error.hint}" if error.hint else error.what

    @work(group="hands off")
    async def action_hands_off(self) -> None:
        """Let presses only select for a while, or let them act again."""
        off = bool(self.known.hands_off())
        reply = await self.ask("hands_on" if off else "hands_off")
        if isinstance(reply, HandsOffRow):
            minutes = round(max(reply.surfaces.values(), default=0.0) / 60_000)
            self.notify("All surfaces act again." if off else
                        f"Hands off: presses only select, for {say_count(minutes, 'minute')}. H ends it.", timeout=6)

    async def query_engine(self, kind: type[R], request: Request) -> R | None:
        """Ask the engine by a declared request; its declared reply, or None if it refused and the person was told.

        Raises:
            TypeError: this request has another reply.
        """
        if not issubclass(kind, request.reply):
            raise TypeError(f"{type(request).__name__} is replied to with {request.reply.__name__}")
        reply = await self.ask(**msgspec.to_builtins(request))
        assert reply is None or isinstance(reply, kind)
        return reply

    @property
    def outside(self) -> Outside:
        """The machine beside the engine."""
        return self.app.outside  # type: ignore[attr-defined,no-any-return]

    def more_help(self) -> list[tuple[str, str]]:
        """Rows below the keys."""
        return []

    def key_rows(self) -> list[tuple[str, str]]:
        """All keys, made of the bindings."""
        more = self.more_help()
        return [*self.ALSO, *key_rows(self.help_bindings()), *([("", ""), *more] if more else [])]

    def help_bindings(self) -> list[Binding]:
        """What the help lists: everything that is bound here.  A view that goes step by step lists the present one."""
        return bindings_of(*self.PARTS, type(self))

    def action_keys(self) -> None:
        """All keys."""
        rows = self.key_rows()
        wide = self.size.width >= WIDE and len(rows) > MANY
        clicks = keys_by_words(self.help_bindings())
        self.app.push_screen(Sheet(f"Keys of the {self.NAME} view",
                                   key_table(rows, self.palette, 2 if wide else 1, clicks), wide=wide))

    def action_restart(self) -> None:
        """Start the engine again after it ended."""
        if not self.known.connected:
            self.app.restart_engine()  # type: ignore[attr-defined]

    async def action_leave(self) -> None:
        """Back to the view before."""
        self.app.pop_screen()
