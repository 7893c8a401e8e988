"""What landed when, planned against actual, and what the program did with it."""

from __future__ import annotations

from typing import ClassVar

from rich.segment import Segment
from textual import events
from textual.binding import Binding, BindingType
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from brass_pebble.core.say.counts import say_count
from brass_pebble.protocol.topics import RehearsalNews, RehearsedRow
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.widgets.canvas import paint


class RehearsalPanel(Widget, can_focus=True):
    """A line for each event; the newest stays in sight until somebody scrolls."""

    DEFAULT_CSS = """
    RehearsalPanel { height: 11; border-top: solid $panel; padding: 0 1; display: none; }
    RehearsalPanel.shown { display: block; }
    RehearsalPanel:focus { border-top: solid $primary; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("up", "scroll_rows(-1)", "", show=False), Binding("down", "scroll_rows(1)", "", show=False),
    ]

    class Chosen(Message):
        """An event was clicked: its line is meant."""

        def __init__(self, line: int) -> None:
            super().__init__()
            self.line = line

    def __init__(self) -> None:
        super().__init__()
        self.events: dict[int, RehearsedRow] = {}
        self.head = ""
        self._first: int | None = None
        self._lines: list[Strip] = []

    def begin(self) -> None:
        """A new rehearsal."""
        self.events, self._first = {}, None
        self.head = "Rehearsal"

    def take(self, message: RehearsalNews) -> None:
        """News of it."""
        for number, event in message.events:
            self.events[number] = event
        missed = sum(not reaction.good for event in self.events.values() for reaction in event.reactions)
        state = "over" if message.done else "playing"
        self.head = (f"Rehearsal {state}: {say_count(len(self.events), 'event')}, at most {message.late_ms:.2f} ms "
                     f"late, {f'{missed} ignored' if missed else 'all noticed'}"
                     + (f".  ✗ {message.trouble}" if message.trouble else ""))
        self.redraw()

    def redraw(self) -> None:
        """Draw it again."""
        if not self.is_mounted:
            return
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        width, height = self.content_size
        rows = max(0, height - 1)
        first = max(0, len(self.events) - rows) if self._first is None else self._first
        bad = "✗" in self.head or "refused" in self.head
        lines = [Strip([Segment(self.head, paint(palette.rust if bad else palette.verdigris, palette.ground,
                                                 bold=True))])]
        for number in sorted(self.events)[first:first + rows]:
            lines.append(self._row(self.events[number], palette))
        self._lines = [line.adjust_cell_length(width, paint(palette.text, palette.ground)) for line in lines]
        self.refresh()

    def _row(self, event: RehearsedRow, palette: Palette) -> Strip:
        dim = paint(palette.dim, palette.ground)
        behind = event.at_ms - event.planned_ms
        parts = [Segment(f"line {event.line:<4}", dim), Segment(f"{event.planned_ms:9.1f} ms ", dim),
                 Segment(f"landed {event.at_ms:9.2f}  ", paint(palette.text if behind < 5 else palette.rust,
                                                                  palette.ground)),
                 Segment(f"{event.what:22}", paint(palette.brass, palette.ground))]
        for reaction in event.reactions:
            colour = palette.verdigris if reaction.good else palette.rust
            parts.append(Segment(f" {'✓' if reaction.good else '✗'} {reaction.program}: {reaction.text}",
                                 paint(colour, palette.ground)))
        return Strip(parts)

    def action_scroll_rows(self, by: int) -> None:
        """Look at earlier or later events."""
        rows = max(1, self.content_size.height - 1)
        last = max(0, len(self.events) - rows)
        now = last if self._first is None else self._first
        self._first = max(0, min(last, now + by))
        self.redraw()

    def on_click(self, event: events.Click) -> None:
        """Go to the line that an event came from."""
        rows = max(0, self.content_size.height - 1)
        first = max(0, len(self.events) - rows) if self._first is None else self._first
        numbers = sorted(self.events)[first:first + rows]
        index = event.y - 2
        if 0 <= index < len(numbers):
            self.post_message(self.Chosen(self.events[numbers[index]].line))

    def on_resize(self, event: events.Resize) -> None:
        """More or fewer rows."""
        self.redraw()

    def render_line(self, y: int) -> Strip:
        """One line."""
        return self._lines[y] if y < len(self._lines) else Strip.blank(self.content_size.width)
