"""The Values view: what macros keep from one run to the next, who uses it, and the way to change and reset it."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import ClassVar

from rich.text import Text
from textual import work
from textual.binding import Binding, BindingType
from textual.widgets import Static

from brass_pebble.core.say.counts import say_count
from brass_pebble.protocol.asking import AskValues, ValueRow, Values
from brass_pebble.screen.base.desk_actions import QUIET_STOP, UNDO
from brass_pebble.screen.base.list_view import ListedView
from brass_pebble.screen.base.sheets import AskText
from brass_pebble.screen.giving.reading import sketch_rows
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import Sketch

MOST_SHOWN, MOST_OF_A_CHANGE = 40, 24
# What stands beside and below what a value became: its name, use and drawing.
LINES_BESIDE = 34


class ValuesView(ListedView[ValueRow]):
    """Rows of kept values."""

    NAME = "Values"
    FRESH: ClassVar[tuple[str, ...]] = ("desk", "values")
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("delete", "reset_it", "reset", tooltip="let it be again what it begins with"),
        Binding("c", "copy_text", "copy", tooltip="copy the value as text"),
        Binding("O", "open", "open macro", tooltip="open a macro that uses it"), *UNDO, QUIET_STOP,
    ]

    @work(group="values", exclusive=True)
    async def load(self) -> None:
        """Ask, and show."""
        reply = await self.query_engine(Values, AskValues())
        if reply is not None:
            self.put(reply.values)

    def same(self, row: ValueRow, other: ValueRow) -> bool:
        return row.name == other.name

    def line(self, row: ValueRow) -> Text:
        palette = self.palette
        value = row.value.replace("\n", " ⏎ ")
        shown = value if len(value) <= MOST_SHOWN else f"{value[:MOST_SHOWN - 1]}…"
        return Text.assemble(("✗ " if row.trouble else "  ", palette.rust), (f"{row.name:20} ", "bold"),
                             (shown or "(empty)", palette.brass if row.is_set else palette.dim),
                             ("" if row.is_set else "   not set yet", palette.dim))

    def summary(self) -> Text:
        palette = self.palette
        head = Text.assemble(("Values   ", f"bold {palette.brass}"))
        if self.rows:
            head.append(f"macros keep {say_count(len(self.rows), 'value')}", style=palette.text)
            head.append("\nThey outlive a run and a restart, and all macros of the desk share them.", style=palette.dim)
        else:
            head.append("no macro keeps a value yet", style=palette.text)
            head.append("\nWrite “kept take from 1” at the top of a macro, and “let take be take + 1” where it counts.",
                        style=palette.dim)
        return head

    def show_row(self, row: ValueRow | None) -> None:
        palette, sketch = self.palette, self.query_one(Sketch)
        says, bar = self.query_one("#says", Static), self.query_one(PathBar)
        sketch.display = False
        if row is None:
            says.update("")
            bar.set_hops([Hop("values", "values")])
            return
        text = Text.assemble((f"{row.name}\n", f"bold {palette.brass}"), (f"{row.value or '(empty)'}\n\n", "bold"),
                             (f"a {row.kind}; begins with {row.first or 'nothing'}\n", palette.dim))
        if row.trouble:
            text.append(f"✗ {row.trouble}. Enter: put it right. Delete: reset it.\n", style=palette.rust)
        names = {macro.id: macro.name for macro in self.known.desk.macros}
        users = [names.get(macro, macro) for macro in row.macros]
        text.append(f"used by {', '.join(users)}\n" if users else "no macro uses it any more\n", style=palette.text)
        text.append("\nOn a cap: write {" + row.name + "} into a label.\n", style=palette.dim)
        text.append_text(self._changes(row, names))
        says.update(text)
        bar.set_hops([Hop(row.name, "change_it"), Hop(users[0] if users else "no macro", "open")])
        self._draw(row, sketch)

    def _changes(self, row: ValueRow, names: Mapping[str, str]) -> Text:
        """What it became since the engine was started, the newest first: when, and by which macro."""
        palette, room = self.palette, max(3, self.size.height - LINES_BESIDE)
        text = Text("\nChanged\n" if row.changes else "", style=palette.text)
        for number, change in enumerate(row.changes[:room]):
            when = datetime.fromtimestamp(change.at).strftime("%H:%M:%S")
            value = change.value.replace("\n", " ⏎ ")
            shown = value if len(value) <= MOST_OF_A_CHANGE else f"{value[:MOST_OF_A_CHANGE - 1]}…"
            who = names.get(change.macro, change.macro) or "you, or its file"
            text.append(f"{when}  ", style=palette.dim)
            text.append(f"{shown or '(empty)':12} ", style="" if number else "bold")
            text.append(f"{who if change.is_set else 'reset'}\n", style=palette.dim)
        if len(row.changes) > room:
            text.append(f"and {len(row.changes) - room} before\n", style=palette.dim)
        return text

    def _draw(self, row: ValueRow, sketch: Sketch) -> None:
        """The first surface whose controls play a macro that uses it."""
        for surface in self.known.desk.surfaces:
            found = {binding.control for layer in surface.layers for binding in layer.bindings
                     if binding.kind == "play" and binding.target in row.macros}
            if found:
                rows, seen = sketch_rows(surface, found)
                sketch.display = True
                sketch.show(rows, seen=seen)
                return

    def enter(self) -> None:
        self.action_change_it()

    @work(exclusive=True, group="change")
    async def action_change_it(self) -> None:
        """Another value."""
        row = self.row
        if row is None:
            return

        async def save(text: str) -> str:
            _, wrong = await self.ask_or_say("set_value", value=row.name, to=text)
            return wrong
        if await self.app.push_screen_wait(AskText(f"Value “{row.name}”", f"A {row.kind}.", row.value, save=save)):
            self.notify("Saved. u: undo.", title=row.name, timeout=4)
            self.load()

    @work(exclusive=True, group="change")
    async def action_reset_it(self) -> None:
        """What it begins with."""
        row = self.row
        if row is None:
            return
        if not row.is_set:
            self.notify(f"It is {row.first} already.", title=row.name, timeout=4)
        elif await self.change("reset_value", value=row.name):
            self.notify(f"It is {row.first or 'gone'} again. u: undo.", title=row.name, timeout=4)
            self.load()

    def action_copy_text(self) -> None:
        """The value, as it is."""
        if (row := self.row) is not None:
            self.app.copy_text(row.value)  # type: ignore[attr-defined]

    def action_open(self) -> None:
        """A macro that uses it."""
        if (row := self.row) is not None and row.macros:
            self.app.open_view("macro", macro=row.macros[0])  # type: ignore[attr-defined]
