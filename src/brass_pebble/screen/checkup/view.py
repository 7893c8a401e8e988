"""The Checkup view: what is wrong on this machine, what it means, the exact fix, and the surface it speaks of."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import ClassVar

from rich.text import Text
from textual import work
from textual.binding import Binding, BindingType
from textual.css.query import NoMatches
from textual.widgets import OptionList, Static
from textual.worker import get_current_worker

from brass_pebble.core.desk.look.shown import place_of
from brass_pebble.core.say.finding import GOOD, UNKNOWN, WRONG, Finding
from brass_pebble.screen.base.list_view import ListedView
from brass_pebble.screen.known import Known
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import Sketch

# From so many columns on, the rows say what was found behind the first so many, which name it.
WIDE, ABOUT = 120, 24
MARKS = {GOOD: "✓", WRONG: "✗", UNKNOWN: "?"}


class CheckupView(ListedView[Finding]):
    """Looks at everything on a thread; nothing is taken over and nothing is changed."""

    NAME = "Checkup"
    DEFAULT_CSS = """
    CheckupView #summary { height: 1; margin: 1 0; }
    CheckupView OptionList { text-wrap: nowrap; text-overflow: ellipsis; }
    CheckupView #about { width: 48%; padding: 0 2; }
    CheckupView.-narrow OptionList { width: 44; }
    CheckupView.-narrow #about { width: 1fr; }
    CheckupView #says { max-height: 100%; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [Binding("f5", "look", "look again")]
    FRESH = ()

    def __init__(self, known: Known, link: Asks) -> None:
        super().__init__(known, link)
        self.findings: list[Finding] = []
        self._done = False

    def on_mount(self) -> None:
        """Look at once."""
        self.action_look()

    def action_look(self) -> None:
        """Look at everything again."""
        self.findings, self._done = [], False
        self.put(())
        self._look(Path(self.known.desk.folder or "."))

    @work(thread=True, exclusive=True)
    def _look(self, desk: Path) -> None:
        worker = get_current_worker()
        for finding in self._all(desk):
            if worker.is_cancelled:
                return
            self.app.call_from_thread(self._unless_left, partial(self._add, finding))
        self.app.call_from_thread(self._unless_left, self._finish)

    def _unless_left(self, act: Callable[[], None]) -> None:
        """The view may have been left while the thread looked."""
        with contextlib.suppress(NoMatches):
            act()

    def _all(self, desk: Path) -> Iterator[Finding]:
        try:
            yield from self.outside.checkup(desk)
        except Exception as error:
            yield Finding("the checkup itself", WRONG, f"stopped by an error: {error!r}",
                          "The findings above are still valid")

    def _add(self, finding: Finding) -> None:
        self.findings.append(finding)
        self.put(list(self.findings))
        options = self.query_one(OptionList)
        wrong = next((i for i, found in enumerate(self.findings) if found.state == WRONG), 0)
        if options.highlighted is None or self.findings[options.highlighted].state == GOOD:
            options.highlighted = wrong

    def line(self, row: Finding) -> Text:
        colour = {GOOD: self.palette.verdigris, WRONG: self.palette.rust, UNKNOWN: self.palette.brass}[row.state]
        line = Text.assemble((f"{MARKS[row.state]} ", f"bold {colour}"), row.about, no_wrap=True, overflow="ellipsis")
        if self.size.width >= WIDE:
            line.append(" " * max(2, ABOUT - line.cell_len))
            self.finish_line(line, row.means, self.palette.dim, (found.means for found in self.findings))
        return line

    def on_resize(self) -> None:
        """Where there is room, each row begins to say what it found."""
        narrow = self.size.width < WIDE
        if narrow != self.has_class("-narrow"):
            self.set_class(narrow, "-narrow")
            self.put(list(self.findings))

    def _finish(self) -> None:
        self._done = True
        self.show_summary()

    def summary(self) -> Text:
        wrong = sum(finding.state == WRONG for finding in self.findings)
        unknown = sum(finding.state == UNKNOWN for finding in self.findings)
        palette = self.palette
        text = Text.assemble(("Checkup   ", f"bold {palette.brass}"))
        if not self._done:
            text.append("looking …", style=palette.dim)
        elif wrong:
            text.append(f"✗ {wrong} of {len(self.findings)} need attention", style=f"bold {palette.rust}")
        else:
            text.append(f"✓ checked {len(self.findings)} things, no problems", style=f"bold {palette.verdigris}")
        if self._done and unknown:
            text.append(f"   ? {unknown} could not be checked", style=palette.brass)
        return text

    def show_row(self, row: Finding | None) -> None:
        if row is None:
            self.query_one("#says", Static).update("")
            return
        finding, palette = row, self.palette
        text = Text.assemble((f"{MARKS[finding.state]} {finding.about}\n\n", "bold"), f"{finding.means}.\n")
        if finding.fix and finding.state != GOOD:
            text.append("\nWhat to do\n", style=palette.dim)
            text.append(f"{finding.fix}\n", style=f"bold {palette.brass}")
        self.query_one("#says", Static).update(text)
        surface = self.known.surface(finding.surface)
        sketch = self.query_one(Sketch)
        sketch.display = surface is not None
        sketch.show([place_of(control, control.label) for control in surface.controls] if surface else [])
        good = finding.state != WRONG
        hops = [Hop(surface.name, "surface", not good)] if surface else [Hop("this machine", "machine")]
        self.query_one(PathBar).set_hops([*hops, Hop(finding.about if not surface else surface.device or "no device",
                                                     "machine", not good)])
