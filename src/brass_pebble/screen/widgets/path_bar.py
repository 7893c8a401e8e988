"""The path bar: the way from a finger to a program, for the selected control or the last press.

Each hop is a door: Left and Right walk along it, Enter opens what owns the hop.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from rich.text import Text
from textual import events
from textual.binding import BindingType
from textual.message import Message
from textual.widgets import Static

from brass_pebble.core.desk.action import lead_in
from brass_pebble.core.play.told import TraceRow
from brass_pebble.core.play.trace import say_sent
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.known import Known, Spot


@dataclass(frozen=True)
class Hop:
    """One hop: what it says, which door it is, and whether something is wrong there."""

    text: str
    door: str
    wrong: bool = False


class PathBar(Static, can_focus=True):
    """One line with doors."""

    DEFAULT_CSS = """
    PathBar { height: 1; padding: 0 1; background: $background; }
    PathBar:focus { background: $panel; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        ("left", "walk(-1)", "hop back"), ("right", "walk(1)", "hop on"), ("enter", "open", "open"),
        ("c", "copy_text", "copy"),
    ]

    class Opened(Message):
        """A hop's door was opened."""

        def __init__(self, door: str) -> None:
            super().__init__()
            self.door = door

    def __init__(self, known: Known) -> None:
        super().__init__()
        self.known = known
        self.hops: list[Hop] = []
        self.at = 0
        self._spans: list[tuple[int, int]] = []
        self._drawn: Text | None = None

    def show(self, spot: Spot, *, following: bool) -> None:
        """Show the way of a control; while following, with what its last press led to."""
        self.set_hops(hops_of(self.known, spot, following=following))

    def set_hops(self, hops: list[Hop]) -> None:
        """Show a way that a view has put together itself."""
        self.hops = hops
        self.at = min(self.at, max(0, len(self.hops) - 1))
        self.redraw()

    def redraw(self) -> None:
        """Draw it again."""
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        line = Text(no_wrap=True, overflow="ellipsis")
        self._spans = []
        first = self._first_shown()
        for index, hop in enumerate(self.hops):
            if index < first:
                self._spans.append((-1, -1))
                continue
            if index:
                line.append(" ▸ " if index > first else "… ▸ ", style=palette.dim)
            start = line.cell_len
            style = palette.rust if hop.wrong else (palette.brass if index == len(self.hops) - 1 else palette.text)
            if self.has_focus and index == self.at:
                style = f"bold {palette.on_brass} on {palette.brass}"
            line.append(f"✗ {hop.text}" if hop.wrong else hop.text, style=style)
            self._spans.append((start, line.cell_len))
        if line != self._drawn:
            self._drawn = line
            # One line stays one line: nothing has to be laid out again.
            self.update(line, layout=False)

    def _first_shown(self) -> int:
        """In a narrow terminal the path's end is shown rather than its beginning, unless one stands there."""
        room, first = self.content_size.width - 4, len(self.hops)
        if room <= 0:
            return 0
        while first and room > 0:
            room -= len(self.hops[first - 1].text) + 5
            if room >= 0 or first == len(self.hops):
                first -= 1
        return min(first, self.at) if self.has_focus else first

    def watch_has_focus(self, has_focus: bool) -> None:
        """Show where one stands, or that nobody stands here any more."""
        super().watch_has_focus(has_focus)
        self.redraw()

    def action_walk(self, by: int) -> None:
        """Go along the path."""
        if self.hops:
            self.at = (self.at + by) % len(self.hops)
            self.redraw()

    def action_copy_text(self) -> None:
        """The whole path, as text."""
        self.app.copy_text(" ▸ ".join(hop.text for hop in self.hops))  # type: ignore[attr-defined]

    def action_open(self) -> None:
        """Open the door of the hop."""
        if self.hops:
            self.post_message(self.Opened(self.hops[self.at].door))

    def on_click(self, event: events.Click) -> None:
        """A click opens the hop under the pointer."""
        for index, (start, end) in enumerate(self._spans):
            if start <= event.x - 1 < end:
                self.at = index
                self.action_open()


def hops_of(known: Known, spot: Spot, *, following: bool) -> list[Hop]:
    """The hops for a control."""
    surface, control = known.surface(spot[0]), known.control(spot)
    if surface is None or control is None:
        return [Hop("press a control or select one with the arrows", "surface")]
    trace = known.last_trace_of(spot) if following else None
    absent = control.absent
    if control.passes:
        return [Hop(surface.name, "surface", surface.state != "taken"), Hop(control.legend, "control"),
                Hop("not taken over: it reaches your programs (i)", "surface")]
    hops = [Hop(surface.name, "surface", surface.state != "taken"),
            Hop(f"{control.legend}: the device has no such key" if absent else control.legend, "control", absent),
            Hop((control.gesture or "press") if trace is None else trace.gesture, "binding")]
    layer = next((la.name for la in surface.layers if la.id == control.layer),
                 [la for la in surface.layers if la.on][-1].name if surface.layers else "no layer")
    hops.append(Hop(layer, "binding"))
    rows = control.gestures | {row.gesture: row for row in control.together}
    made = trace.gesture if trace else control.gesture
    row = rows.get(made) or (control if control.kind else None)
    if row is None:
        hops.append(Hop(f"nothing bound, {surface.unbound}ed",
                        "binding", wrong=surface.unbound != "pass"))
        return hops
    manner = "" if row.plays == "once" else f", {row.plays}"
    words = lead_in(row.kind, row.words.strip("“”"))
    hops.append(Hop(words + manner, "macro" if row.kind == "play" else "binding", row.broken))
    if surface.state != "taken":
        hops.append(Hop(f"nothing sent: {surface.why or surface.state}", "surface", wrong=True))
    elif trace is not None:
        hops.extend(_outcome(trace))
    return hops


def _outcome(trace: TraceRow) -> list[Hop]:
    """What was sent, and what came of it."""
    if not trace.count:
        return [Hop(trace.why or "nothing sent", "trace", wrong=trace.state == "nothing")]
    hops = [Hop(say_sent(trace), "trace")]
    if trace.reactions:
        last = trace.reactions[-1]
        hops.append(Hop(f"{last.program}: {last.text}", "trace", wrong=not last.good))
    return hops
