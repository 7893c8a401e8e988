"""The top line: which desk, is it armed, what plays, where it goes, when the last press was."""

from __future__ import annotations

import time

from rich.text import Text
from textual.widgets import Static

from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.durations import say_duration
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.known import Known


class StatusLine(Static):
    """Redrawn when something changed, and once a second during the first minute after a press."""

    DEFAULT_CSS = "StatusLine { height: 1; background: $panel; padding: 0 1; }"

    def __init__(self, known: Known) -> None:
        super().__init__()
        self.known = known
        # What a view adds, such as which row of the desk is shown.
        self.note = ""

    def on_mount(self) -> None:
        """Keep the age of the last press fresh."""
        self.set_interval(1.0, self._age)

    def _age(self) -> None:
        if self.known.last_press and time.monotonic() - self.known.last_press < 90:
            self.redraw()

    def redraw(self) -> None:
        """Draw anew."""
        known = self.known
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        line = Text(no_wrap=True, overflow="ellipsis")
        line.append(known.desk.name or "…", style=f"bold {palette.brass}")
        surfaces = known.desk.surfaces
        missing = [s for s in surfaces if s.state != "taken"]
        if known.starting:
            line.append("   ◌ starting", style=palette.dim)
        elif not known.connected:
            line.append("   ✗ engine ended", style=f"bold {palette.rust}")
        elif not known.desk.sends:
            line.append("   ✗ nothing can be sent (p)", style=f"bold {palette.rust}")
        elif not surfaces:
            line.append("   ○ no surfaces yet (M)", style=palette.dim)
        elif missing:
            line.append(f"   ◌ {len(surfaces) - len(missing)} of {len(surfaces)} armed", style=palette.brass)
        else:
            line.append("   ◉ armed", style=f"bold {palette.verdigris}")
        if hands_off := known.hands_off():
            line.append(f"   ⊘ {hands_off} (H)", style=f"bold {palette.brass}")
        runs = len(known.live())
        line.append(f"   {runs} {'run' if runs == 1 else 'runs'}", style=palette.brass if runs else palette.dim)
        window = known.layers.window
        if window and (known.layers.follows or known.layers.pinned):
            pinned = "▣ pinned: " if known.layers.pinned else "focus: "
            style = palette.brass if known.layers.pinned else palette.text
            line.append(f"   {pinned}{window.shown}", style=style)
        goes_to = ", ".join(p.name for p in known.programs) if known.desk.output == "stage" else "real programs"
        line.append(f"   to: {goes_to or 'nowhere'}", style=palette.dim)
        if self.note:
            line.append(f"   {self.note}", style=palette.dim)
        if known.problems:
            count = len(known.problems)
            line.append(f"   ✗ {count} {'problem' if count == 1 else 'problems'} (p)", style=f"bold {palette.rust}")
        if known.missed:
            line.append(f"   {say_count(known.missed, 'trace')} not shown", style=palette.rust)
        age = ""
        if known.last_press:
            seconds = int(time.monotonic() - known.last_press)
            age = f"last press {say_duration(seconds * 1_000_000_000)} ago" if seconds else "last press just now"
        room = self.size.width - 2 - line.cell_len - len(age)
        if age and room > 2:
            line.append(" " * room + age, style=palette.dim)
        self.update(line)
