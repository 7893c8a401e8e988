"""The top line: which desk, is it armed, what plays, where it goes, when the last press was."""

from __future__ import annotations

import time
from typing import NamedTuple

from rich.cells import cell_len
from rich.text import Text
from textual.widgets import Static

from brass_pebble.core.say.counts import say_count
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.known import Known

GAP = 3


class Part(NamedTuple):
    """A part of the line: the higher its rank, the sooner it gives way."""

    rank: int
    text: str
    style: str


class StatusLine(Static):
    """Redrawn when something changed."""

    DEFAULT_CSS = "StatusLine { height: 1; background: $panel; padding: 0 1; }"

    def __init__(self, known: Known) -> None:
        super().__init__()
        self.known = known
        # What a view adds, such as which row of the desk is shown.
        self.note = ""
        self._drawn: Text | None = None

    def on_resize(self) -> None:
        """Show what there is room for now."""
        self.redraw()

    def _parts(self) -> list[Part]:
        known = self.known
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        parts = [Part(0, known.desk.name or "…", f"bold {palette.brass}")]
        surfaces = known.desk.surfaces
        missing = [s for s in surfaces if s.state != "taken"]
        if known.starting:
            parts.append(Part(0, "◌ starting", palette.dim))
        elif not known.connected:
            parts.append(Part(0, "✗ engine ended", f"bold {palette.rust}"))
        elif not known.desk.sends:
            parts.append(Part(0, "✗ nothing can be sent (p)", f"bold {palette.rust}"))
        elif not surfaces:
            parts.append(Part(0, "○ no surfaces yet (M)", palette.dim))
        elif missing:
            parts.append(Part(0, f"◌ {len(surfaces) - len(missing)} of {len(surfaces)} armed", palette.brass))
        else:
            parts.append(Part(0, "◉ armed", f"bold {palette.verdigris}"))
        if hands_off := known.hands_off():
            parts.append(Part(0, f"⊘ {hands_off} (H)", f"bold {palette.brass}"))
        if lamp := known.mic_lamp:
            parts.append(Part(0, lamp, f"bold {palette.brass}"))
        runs = len(known.live())
        parts.append(Part(1 if runs else 4, say_count(runs, "run"), palette.brass if runs else palette.dim))
        window = known.layers.window
        if window and (known.layers.follows or known.layers.pinned):
            pinned = known.layers.pinned
            parts.append(Part(1 if pinned else 3, f"{'▣ pinned: ' if pinned else 'focus: '}{window.shown}",
                              palette.brass if pinned else palette.text))
        goes_to = ", ".join(p.name for p in known.programs) if known.desk.output == "stage" else "real programs"
        # Where keys go is what is going on; how much else there is gives way to it.
        parts.append(Part(1, f"to: {goes_to or 'nowhere'}", palette.text))
        if self.note:
            parts.append(Part(5, self.note, palette.dim))
        if known.problems:
            parts.append(Part(0, f"✗ {say_count(len(known.problems), 'problem')} (p)", f"bold {palette.rust}"))
        if known.missed:
            parts.append(Part(2, f"{say_count(known.missed, 'trace')} not shown", palette.rust))
        return parts

    def redraw(self) -> None:
        """Draw it again."""
        known = self.known
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        parts, width = self._parts(), (self.size.width or self.app.size.width) - 2
        for least in sorted({part.rank for part in parts} - {0}, reverse=True):
            if sum(cell_len(part.text) + GAP for part in parts) - GAP <= width:
                break
            parts = [part for part in parts if part.rank < least]
        line = Text(" " * GAP, no_wrap=True, overflow="ellipsis").join(Text(part.text, part.style) for part in parts)
        if known.last_press:
            # The time of it, not its age: a screen on which nothing happens stands still.
            at = time.localtime(time.time() - (time.monotonic() - known.last_press))
            last = f"last press {time.strftime('%H:%M:%S', at)}"
            if (room := width - line.cell_len - len(last)) > 2:
                line.append(" " * room + last, style=palette.dim)
        if line != self._drawn:
            self._drawn = line
            # One line stays one line: nothing has to be laid out again.
            self.update(line, layout=False)
