"""What all views share: the engine's state, the way to ask it, and how news reach them."""

from __future__ import annotations

from typing import Any, ClassVar

from textual import work
from textual.binding import Binding, BindingType
from textual.screen import Screen

from brass_pebble.client import EngineError, Message
from brass_pebble.screen.link import Link
from brass_pebble.screen.state import DeskState, Spot

from .palette import Palette


class View(Screen[None]):
    """A view of the engine's desk.  The topmost one gets the news."""

    BINDINGS: ClassVar[list[BindingType]] = [Binding("H", "hands_off", "hands off / on", show=False)]

    def __init__(self, state: DeskState, link: Link) -> None:
        super().__init__()
        self.state, self.link = state, link

    @property
    def palette(self) -> Palette:
        """The colours in use."""
        return self.app.palette  # type: ignore[attr-defined,no-any-return]

    async def on_screen_resume(self) -> None:
        """Back on top: what was told meanwhile has not been drawn here."""
        await self.show_all()

    async def show_all(self) -> None:
        """Draw everything: after connecting, or when the desk changed."""

    async def take(self, message: Message, changed: set[Spot]) -> None:
        """News of one topic, already in the state; `changed` are the controls that look different now."""

    async def ask(self, do: str, **fields: Any) -> Message | None:
        """Ask the engine; a refusal is shown to the person."""
        try:
            return await self.link.ask(do, **fields)
        except EngineError as error:
            self.notify(f"{error.what}. {error.hint}", severity="error", timeout=8)
            return None

    async def ask_or_say(self, do: str, **fields: Any) -> tuple[Message | None, str]:
        """Ask the engine; the reply, or None and why not, for a sheet that stays open."""
        try:
            return await self.link.ask(do, **fields), ""
        except EngineError as error:
            return None, f"{error.what}. {error.hint}" if error.hint else error.what

    @work(group="hands off")
    async def action_hands_off(self) -> None:
        """Let presses only select for a while, or let them command again."""
        off = bool(self.state.hands_off())
        reply = await self.ask("hands_on" if off else "hands_off")
        if reply is not None:
            minutes = round(max(reply["surfaces"].values(), default=0.0) / 60_000)
            self.notify("Every surface commands again." if off else
                        f"Hands off: presses only select, for {minutes} minutes. H ends it.", timeout=6)

    def action_restart(self) -> None:
        """Start the engine again after it ended."""
        if not self.state.connected:
            self.app.restart_engine()  # type: ignore[attr-defined]

    async def action_leave(self) -> None:
        """Back to the view before."""
        self.app.pop_screen()
