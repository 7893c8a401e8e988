"""The Versions view: every change of the desk in words, what differs, and the way back."""

from __future__ import annotations

import time
from typing import Any, ClassVar

from rich.text import Text
from textual import on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.widgets import Footer, OptionList, Static
from textual.widgets.option_list import Option

from brass_pebble.client import Message
from brass_pebble.screen.base.desk_actions import DeskActions
from brass_pebble.screen.base.sheets import Sheet, key_help
from brass_pebble.screen.link import Link
from brass_pebble.screen.state import DeskState, Row, Spot
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import Sketch
from brass_pebble.screen.widgets.status_line import StatusLine

from .reading import sketch_rows

MOST_WORDS = 60


class VersionsView(DeskActions):
    """The desk's history."""

    DEFAULT_CSS = """
    VersionsView { background: $background; }
    VersionsView #summary { height: 2; padding: 0 1; }
    VersionsView OptionList { width: 1fr; height: 1fr; background: $background; padding: 0 1; scrollbar-size: 1 1; }
    VersionsView #about { width: 54%; padding: 0 1 0 2; }
    VersionsView #differs { height: 1fr; scrollbar-size: 1 1; }
    VersionsView #differs Static { height: auto; }
    VersionsView Sketch { height: 45%; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("enter", "restore", "back to this"), Binding("v", "against", "what it changed / since then"),
        Binding("l", "lines", "lines"), Binding("pagedown", "scroll(1)", "on", show=False, priority=True),
        Binding("pageup", "scroll(-1)", "back", show=False, priority=True),
        Binding("u", "undo", "undo"), Binding("r", "redo", "redo", show=False),
        Binding("R", "restart", "restart engine", show=False),
        Binding("question_mark", "keys", "keys"), Binding("escape", "leave", "back"),
    ]
    AUTO_FOCUS = "OptionList"

    def __init__(self, state: DeskState, link: Link) -> None:
        super().__init__(state, link)
        self.versions: list[Row] = []
        self.since = False
        self.as_lines = False
        self._found: dict[str, Any] = {"words": [], "lines": [], "more": 0}

    def compose(self) -> ComposeResult:
        """The versions, and beside them what differs, on the drawing it is about."""
        yield StatusLine(self.state)
        yield PathBar(self.state)
        yield Static(id="summary", markup=False)
        with Horizontal():
            yield OptionList(markup=False)
            with Vertical(id="about"):
                with VerticalScroll(id="differs", can_focus=False):
                    yield Static(markup=False)
                yield Sketch()
        yield Footer(show_command_palette=False)

    async def show_all(self) -> None:
        """After connecting, or when the desk changed."""
        self.query_one(StatusLine).redraw()
        self.load()

    async def take(self, message: Message, changed: set[Spot]) -> None:
        """News of the engine."""
        if message["topic"] == "desk":
            self.load()
        self.query_one(StatusLine).redraw()

    @work(group="versions", exclusive=True)
    async def load(self) -> None:
        """Ask, and show."""
        reply = await self.ask("versions") if self.state.connected else None
        if reply is None:
            return
        self.versions = reply["versions"]
        options, palette = self.query_one(OptionList), self.palette
        at = options.highlighted or 0
        options.clear_options()
        today = time.strftime("%d %b")
        lines = []
        for index, row in enumerate(self.versions):
            day = time.strftime("%d %b", time.localtime(row["at"]))
            when = time.strftime("%H:%M:%S" if day == today else "%d %b %H:%M", time.localtime(row["at"]))
            lines.append(Option(Text.assemble(
                (f"{row['number']:>4} ", palette.dim), (f"{when:13}", palette.dim),
                (row["words"], f"bold {palette.brass}" if not index else palette.text),
                ("   now" if not index else "", palette.verdigris), no_wrap=True, overflow="ellipsis")))
        options.add_options(lines)
        options.highlighted = min(at, len(lines) - 1) if lines else None
        self._compare()

    @property
    def row(self) -> Row | None:
        """The chosen version."""
        index = self.query_one(OptionList).highlighted
        return self.versions[index] if index is not None and index < len(self.versions) else None

    @on(OptionList.OptionHighlighted)
    def _chosen(self) -> None:
        self._compare()

    @work(group="compare", exclusive=True)
    async def _compare(self) -> None:
        row = self.row
        if row is None:
            return
        index = self.versions.index(row)
        if self.since:
            fields = {"one": row["number"]}
        else:
            before = self.versions[index + 1]["number"] if index + 1 < len(self.versions) else 0
            fields = {"one": before, "other": row["number"]}
        if not self.since and not fields["one"]:
            self._found = {"words": [{"words": "the desk as it was first seen", "surface": "", "control": ""}],
                           "lines": [], "more": 0}
        elif reply := await self.ask("compare", **fields):
            self._found = reply
        self._show(row)

    def _show(self, row: Row) -> None:
        palette, found = self.palette, self._found
        head = Text("Versions   ", style=f"bold {palette.brass}")
        head.append(f"{len(self.versions)} kept   ", style=palette.text)
        head.append("what changed since this version" if self.since else "what this version changed", style="bold")
        head.append("\nEvery change is kept, also those made in an editor. Enter goes back to a version; u takes that "
                    "back, too.", style=palette.dim)
        self.query_one("#summary", Static).update(head)
        text = Text()
        if self.as_lines:
            last = ""
            for file, line in found["lines"]:
                if file != last:
                    text.append(f"{file}\n", style=f"bold {palette.brass}")
                    last = file
                colour = {"+": palette.verdigris, "-": palette.rust}.get(line[:1], palette.dim)
                text.append(line + "\n", style=colour)
        else:
            for difference in found["words"][:MOST_WORDS]:
                text.append(f"{difference['words']}\n", style=palette.text)
            if len(found["words"]) > MOST_WORDS:
                text.append(f"… and {len(found['words']) - MOST_WORDS} more; l shows the lines\n", style=palette.dim)
        if not text:
            text.append("Only remarks and blanks differ; l shows the lines." if found["lines"] else "Nothing differs.",
                        style=palette.dim)
        self.query_one("#differs Static", Static).update(text)
        self.query_one(PathBar).set_hops([Hop(f"version {row['number']}", "version"), Hop(row["words"], "version")])
        self._draw(found)

    def _draw(self, found: dict[str, Any]) -> None:
        """The surface that most of it is about, with what differs on it."""
        sketch = self.query_one(Sketch)
        names = [row["surface"] for row in found["words"] if row["surface"]]
        surface = self.state.surface(max(set(names), key=names.count)) if names else None
        sketch.display = surface is not None
        if surface is not None:
            rows, seen = sketch_rows(surface, {row["control"] for row in found["words"]
                                               if row["surface"] == surface["id"] and row["control"]})
            sketch.show(rows, seen=seen)

    @on(OptionList.OptionSelected)
    def _enter(self) -> None:
        self.action_restore()

    @work(group="restore", exclusive=True)
    async def action_restore(self) -> None:
        """The desk as it was after the chosen version."""
        if (row := self.row) and (reply := await self.ask("restore", number=row["number"])):
            self.notify("Live now. u takes it back.", title=reply["words"], timeout=6)

    def action_against(self) -> None:
        """What the version changed itself, or everything since then."""
        self.since = not self.since
        self._compare()

    def action_lines(self) -> None:
        """In words, or line by line."""
        self.as_lines = not self.as_lines
        if row := self.row:
            self._show(row)

    def action_scroll(self, step: int) -> None:
        """On in what differs."""
        box = self.query_one("#differs", VerticalScroll)
        box.scroll_relative(y=step * max(1, box.size.height - 2), animate=False)

    def action_keys(self) -> None:
        """All keys."""
        rows = [("↑ ↓", "choose a version"), ("Enter", "the desk as it was then; u takes it back"),
                ("v", "what it changed, or everything since then"), ("l", "in words, or line by line"),
                ("PgDn PgUp", "on in what differs"),
                ("u  r", "undo, redo"), ("Esc", "back")]
        self.app.push_screen(Sheet("Keys of the Versions view", key_help(rows, self.palette)))
