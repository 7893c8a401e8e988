"""Chords that nothing known takes, to choose from; a whole family at once; and a way to send one so that a program
can learn it."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from typing import ClassVar

from textual import on, work
from textual.app import ComposeResult
from textual.binding import BindingType
from textual.containers import Vertical
from textual.timer import Timer
from textual.widgets import Input, Label, OptionList

from brass_pebble.core.say.counts import say_count
from brass_pebble.protocol.base import Reply
from brass_pebble.protocol.layers import Chords, OwnChords
from brass_pebble.screen.base.choosing import ChoosingSheet
from brass_pebble.screen.base.key_line import KeyLine

Ask = Callable[..., Awaitable[Reply | None]]
COUNT_IN = 3


class FamilySheet(ChoosingSheet[list[str]]):
    """Returns the chords that were chosen, as many as there are controls; none if it was left."""

    DEFAULT_CSS = """
    FamilySheet { align: center middle; }
    FamilySheet > Vertical { width: 84; max-width: 96%; height: auto; max-height: 90%; background: $panel;
        border: round $primary; border-title-color: $primary; padding: 0 2; }
    FamilySheet Input, FamilySheet Input:focus { border: none; background: $background; height: 1; padding: 0 1; }
    FamilySheet OptionList { height: auto; max-height: 14; border: none; background: $panel; margin: 1 0; padding: 0; }
    FamilySheet Label { color: $text-muted; width: 100%; }
    FamilySheet #count { color: $primary; text-style: bold; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        ("f4", "send", "send it once"), ("enter", "take_all", "bind them"),
    ]

    def __init__(self, count: int, label: str, ask: Ask, places: Sequence[Sequence[str]] = ()) -> None:
        super().__init__()
        self._count, self._label, self._ask, self._places_of = count, label, ask, places
        self._timer: Timer | None = None
        self._left = 0
        self._sending = ""

    def compose(self) -> ComposeResult:
        """What it is for, and the chords."""
        with Vertical() as box:
            if self._count > 1:
                box.border_title = f"Free chords for {say_count(self._count, 'control')}"
                yield Label("Free chords in a row, or each control's own key with modifiers:", markup=False)
            else:
                box.border_title = "Free chords"
                yield Label("Easiest to remember for this label; not used by any known program or control:",
                            markup=False)
                yield Input(self._label, placeholder="what it is for")
            yield OptionList(markup=False)
            yield Label("", id="count", markup=False)
            yield KeyLine("↑ ↓ choose   Enter: bind   F4: send once, so that a program can learn it   Esc: cancel",
                          types=True)

    def on_mount(self) -> None:
        """Ask for the first ones."""
        if self._count == 1:
            self.query_one(Input).focus()
        self._look(self._label)

    @on(Input.Changed)
    def _typed(self, event: Input.Changed) -> None:
        self._look(event.value)

    @work(exclusive=True)
    async def _look(self, label: str) -> None:
        family = self._count > 1
        own = await self._own() if family else []
        reply = await self._ask("free_chords", label=label, count=self._count if family else 10, family=family)
        chords = reply.chords if isinstance(reply, Chords) else []
        if not self.is_current:
            return
        if not family:
            self.offer([(chord, [chord]) for chord in chords])
        elif len(chords) >= self._count or own:
            row = [(f"{chords[0]} … {chords[-1]}   ({', '.join(chords[:12])})", chords)]
            self.offer([*(row if len(chords) >= self._count else []), *own])
        else:
            self.query_one("#count", Label).update(f"✗ No {self._count} free chords in a row; the longest row has "
                                                  f"{len(chords)}. Select fewer controls.")

    async def _own(self) -> list[tuple[str, list[str]]]:
        """Each control's own key with the same modifiers."""
        if not self._places_of:
            return []
        reply = await self._ask("own_chords", places=[list(place) for place in self._places_of])
        if not isinstance(reply, OwnChords):
            return []
        rows = []
        for row in reply.rows:
            words = f"{row.modifiers} with each control's own key"
            if row.taken:
                chord, does = row.taken[0]
                words += f"   ✗ {say_count(len(row.taken), 'conflict')}: {chord} is {does}"
            rows.append((words, row.chords))
        return rows

    def action_take_all(self) -> None:
        """Without a field to type in, Enter takes all the same."""
        if self._count > 1 and self.choices:
            self.take(self.choices[self.query_one(OptionList).highlighted or 0])

    def take(self, choice: list[str]) -> None:
        self.dismiss(choice)

    @work(exclusive=True, group="send")
    async def action_send(self) -> None:
        """Send the chord once, after a count-in, wherever the focus is by then."""
        index = self.query_one(OptionList).highlighted
        if index is None or not self.choices:
            return
        self._sending = self.choices[index][0]
        if await self._ask("send_once", chord=self._sending, seconds=COUNT_IN) and self.is_current:
            self._left = COUNT_IN
            self._tick()
            self._timer = self.set_interval(1.0, self._tick, repeat=COUNT_IN)

    def _tick(self) -> None:
        if not self.is_current:
            return
        count = self.query_one("#count", Label)
        count.update(f"{self._sending} is sent in {self._left} s: let the program's dialog wait for it now. Esc calls "
                     "it off." if self._left else f"✓ {self._sending} was sent.")
        self._left -= 1

    def action_leave(self) -> None:
        """Call the sending off, or leave."""
        if self._timer is not None and self._left >= 0:
            self._timer.stop()
            self._timer = None
            self.run_worker(self._ask("leave_send"))
            self.query_one("#count", Label).update("Not sent.")
        else:
            self.dismiss([])
