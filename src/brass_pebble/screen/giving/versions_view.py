"""The Versions view: every change of the desk in words, what differs, and the way back."""

from __future__ import annotations

import time
from typing import ClassVar

from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import VerticalScroll
from textual.widgets import Static

from brass_pebble.protocol.giving import AskVersions, Compare, DifferenceRow, Differences, VersionRow, Versions
from brass_pebble.screen.base.desk_actions import UNDO
from brass_pebble.screen.base.list_view import ListedView
from brass_pebble.screen.known import Known
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import Sketch

from .reading import sketch_rows

MOST_WORDS = 60


class VersionsView(ListedView[VersionRow]):
    """The desk's history."""

    NAME = "Versions"
    DEFAULT_CSS = """
    VersionsView #about { width: 54%; }
    VersionsView #differs { height: 1fr; scrollbar-size: 1 1; }
    VersionsView #differs Static { height: auto; }
    VersionsView #about > Sketch { height: 45%; margin: 0; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("enter", "restore", "back to this", tooltip="restore the desk as it was then; u undoes it"),
        Binding("equals_sign", "against", "what it changed / since then",
                tooltip="what it changed, or everything since then"),
        Binding("z", "lines", "lines", tooltip="in words, or line by line"),
        Binding("pagedown", "scroll(1)", "on", show=False, priority=True, tooltip="scroll what differs"),
        Binding("pageup", "scroll(-1)", "back", show=False, priority=True, tooltip="scroll what differs"),
        *UNDO,
    ]

    def __init__(self, known: Known, link: Asks) -> None:
        super().__init__(known, link)
        self.since = False
        self.as_lines = False
        self._found = Differences(words=[], lines=[], more=0)

    def beside(self) -> ComposeResult:
        """What differs, and the drawing it is about."""
        with VerticalScroll(id="differs", can_focus=False):
            yield Static(markup=False)
        yield Sketch()

    @work(group="versions", exclusive=True)
    async def load(self) -> None:
        """Ask, and show."""
        reply = await self.query_engine(Versions, AskVersions())
        if reply is not None:
            self.put(reply.versions)

    def line(self, row: VersionRow) -> Text:
        palette, newest = self.palette, row is self.rows[0]
        day = time.strftime("%d %b", time.localtime(row.at))
        when = time.strftime("%H:%M:%S" if day == time.strftime("%d %b") else "%d %b %H:%M", time.localtime(row.at))
        return Text.assemble(
            (f"{row.number:>4} ", palette.dim), (f"{when:13}", palette.dim),
            (row.words, f"bold {palette.brass}" if newest else palette.text),
            ("   now" if newest else "", palette.verdigris), no_wrap=True, overflow="ellipsis")

    def same(self, one: VersionRow, other: VersionRow) -> bool:
        # The list grows at its top: what was chosen by its place stays there.
        return False

    def summary(self) -> Text:
        palette = self.palette
        head = Text.assemble(("Versions   ", f"bold {palette.brass}"))
        head.append(f"{len(self.rows)} kept   ", style=palette.text)
        head.append("what changed since this version" if self.since else "what this version changed", style="bold")
        head.append("\nEvery change is kept, including those made in an editor. Enter: go back to a version. "
                        "u: undo.", style=palette.dim)
        return head

    def show_row(self, row: VersionRow | None) -> None:
        self._compare()

    @work(group="compare", exclusive=True)
    async def _compare(self) -> None:
        row = self.row
        if row is None:
            return
        index = list(self.rows).index(row)
        before = self.rows[index + 1].number if index + 1 < len(self.rows) else 0
        asked = Compare(one=row.number) if self.since else Compare(one=before, other=row.number)
        if not asked.one:
            first = DifferenceRow(words="initial state", surface="", control="")
            self._found = Differences(words=[first], lines=[], more=0)
        else:
            reply = await self.query_engine(Differences, asked)
            if reply is None:
                return
            self._found = reply
        self._show(row)

    def _show(self, row: VersionRow) -> None:
        palette, found = self.palette, self._found
        self.show_summary()
        text = Text()
        if self.as_lines:
            last = ""
            for file, line in found.lines:
                if file != last:
                    text.append(f"{file}\n", style=f"bold {palette.brass}")
                    last = file
                colour = {"+": palette.verdigris, "-": palette.rust}.get(line[:1], palette.dim)
                text.append(line + "\n", style=colour)
        else:
            for difference in found.words[:MOST_WORDS]:
                text.append(f"{difference.words}\n", style=palette.text)
            if len(found.words) > MOST_WORDS:
                text.append(f"… and {len(found.words) - MOST_WORDS} more (z: show the lines)\n", style=palette.dim)
        if not text:
            text.append("Only comments and blanks differ. z: show the lines." if found.lines else "Nothing differs.",
                        style=palette.dim)
        self.query_one("#differs Static", Static).update(text)
        self.query_one(PathBar).set_hops([Hop(f"version {row.number}", "version"), Hop(row.words, "version")])
        self._draw(found)

    def _draw(self, found: Differences) -> None:
        """The surface that most of it is about, with what differs on it."""
        sketch = self.query_one(Sketch)
        names = [row.surface for row in found.words if row.surface]
        surface = self.known.surface(max(set(names), key=names.count)) if names else None
        sketch.display = surface is not None
        if surface is not None:
            rows, seen = sketch_rows(surface, {row.control for row in found.words
                                               if row.surface == surface.id and row.control})
            sketch.show(rows, seen=seen)

    def enter(self) -> None:
        self.action_restore()

    @work(group="restore", exclusive=True)
    async def action_restore(self) -> None:
        """The desk as it was after the chosen version."""
        if (row := self.row) and (reply := await self.change("restore", number=row.number)):
            self.notify("Saved. u: undo.", title=reply.words, timeout=6)

    def action_against(self) -> None:
        """What the version changed itself, or everything since then."""
        self.since = not self.since
        self._compare()

    def action_lines(self) -> None:
        """In words, or line by line."""
        self.as_lines = not self.as_lines
        if row := self.row:
            self._show(row)

    def action_scroll(self, by: int) -> None:
        """On in what differs."""
        box = self.query_one("#differs", VerticalScroll)
        box.scroll_relative(y=by * max(1, box.size.height - 2), animate=False)
