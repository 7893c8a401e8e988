"""The latest traces as sentences, the newest on top."""

from __future__ import annotations

from typing import ClassVar

from rich.console import Console
from rich.segment import Segment
from rich.style import Style
from rich.text import Text
from textual import events
from textual.binding import BindingType
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from brass_pebble.core.play.told import TraceRow
from brass_pebble.core.say.durations import clock
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.known import LIVE, Known

MARKS = {"playing": "▸", "holding": "◖", "queued": "…", "done": "✓", "stopped": "■", "nothing": "✗"}


class TraceList(Widget, can_focus=True):
    """Sentences that run along; Enter or a click opens one in full."""

    # A click explains a trace and leaves Enter to the control that is selected.
    FOCUS_ON_CLICK = False
    DEFAULT_CSS = """
    TraceList { height: 1fr; border-top: solid $panel; padding: 0 1; }
    TraceList:focus { border-top: solid $primary; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        ("up", "walk(-1)", "newer"), ("down", "walk(1)", "older"), ("enter", "open", "explain"),
    ]

    class Opened(Message):
        """A trace is to be shown in full."""

        def __init__(self, trace: TraceRow) -> None:
            super().__init__()
            self.trace = trace

    def __init__(self, known: Known) -> None:
        super().__init__()
        self.known = known
        self.at = 0
        self._lines: list[Strip] = []
        self._rows: list[int] = []

    def redraw(self) -> None:
        """Draw it again."""
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        width, height = self.content_size
        if width < 10:
            return
        self._lines, self._rows = [], []
        traces = list(reversed(self.known.traces))
        self.at = min(self.at, max(0, len(traces) - 1))
        first = max(0, self.at - max(0, height - 2)) if self.has_focus else 0
        for index, trace in enumerate(traces[first:], first):
            if len(self._lines) >= height:
                break
            chosen = self.has_focus and index == self.at
            text = tell(trace, palette, fresh=index == 0, chosen=chosen)
            # A line more for one sentence may not push out the next two.
            rows = 3 if index == 0 and height > 5 else 2 if index == 0 or height - len(self._lines) > 3 else 1
            for line in in_rows(text, self.app.console, width, rows) if rows > 1 and height > 3 else [text]:
                line.truncate(width, overflow="ellipsis", pad=True)
                self._lines.append(Strip(list(line.render(self.app.console)), width))
                self._rows.append(index)
        if not traces:
            for line_text in ("No press yet.", "Click a key, or select one with the arrows and press Enter."
                              if any(s.bench for s in self.known.desk.surfaces)
                              else "Press a key on a surface."):
                self._lines.append(Strip([Segment(line_text, Style(color=palette.dim))]))
        self.refresh()

    def render_line(self, y: int) -> Strip:
        """One line."""
        strip = self._lines[y] if y < len(self._lines) else Strip.blank(self.content_size.width)
        return strip.apply_style(Style(bgcolor=self.background_colors[1].rich_color))

    def on_resize(self) -> None:
        """Wrap to the new width."""
        self.redraw()

    def watch_has_focus(self, has_focus: bool) -> None:
        """Show which one is chosen; back to the newest when nobody chooses."""
        super().watch_has_focus(has_focus)
        if not has_focus:
            self.at = 0
        self.redraw()

    def action_walk(self, by: int) -> None:
        """Choose another trace."""
        self.at = max(0, min(len(self.known.traces) - 1, self.at + by))
        self.redraw()

    def action_open(self) -> None:
        """Explain the chosen trace."""
        traces = list(reversed(self.known.traces))
        if traces:
            self.post_message(self.Opened(traces[self.at]))

    def on_click(self, event: events.Click) -> None:
        """Explain the trace under the pointer."""
        row = event.y - 1
        if 0 <= row < len(self._rows):
            self.at = self._rows[row]
            self.action_open()


def in_rows(text: Text, console: Console, width: int, rows: int) -> list[Text]:
    """A sentence in at most so many rows; the last has all that is left of it, however long."""
    wrapped = list(text.wrap(console, width))
    if len(wrapped) <= rows:
        return wrapped
    at = 0
    for line in wrapped[:rows - 1]:
        # A row may have kept the blank at which it ended, or lost it.
        at += len(line.plain.rstrip())
        at += len(text.plain[at:]) - len(text.plain[at:].lstrip())
    return [*wrapped[:rows - 1], text[at:]]


def tell(trace: TraceRow, palette: Palette, *, fresh: bool = False, chosen: bool = False) -> Text:
    """A trace as one coloured line."""
    state = trace.state
    colour = palette.brass if state in LIVE else palette.rust if state in ("nothing", "stopped") else palette.verdigris
    line = Text(no_wrap=False)
    line.append(f"{clock(trace.at)} ", style=palette.dim)
    line.append(f"{MARKS[state]} ", style=f"bold {colour}")
    sentence = trace.sentence
    first = next((f" {r.program}: " for r in trace.reactions), None)
    cut = sentence.find(first) if first else -1
    body, after = (sentence[:cut], sentence[cut:]) if cut >= 0 else (sentence, "")
    head, colon, rest = body.partition(": ")
    line.append(head + colon, style=f"bold {palette.text}" if fresh else palette.dim)
    line.append(rest, style=palette.text)
    start = len(line)
    line.append(after, style=palette.verdigris)
    for reaction in trace.reactions:
        if not reaction.good and (at := after.find(reaction.text)) >= 0:
            line.stylize(palette.rust, start + at, start + at + len(reaction.text))
    if chosen:
        line.stylize(f"{palette.on_brass} on {palette.brass}")
    return line
