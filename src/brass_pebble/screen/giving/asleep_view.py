"""The Guests view: what came from somebody else, reaches outside the keyboard, and sleeps until it is approved."""

from __future__ import annotations

from typing import ClassVar

from rich.text import Text
from textual import on, work
from textual.binding import Binding, BindingType
from textual.widgets import Static

from brass_pebble.core.desk.look.drawn import SurfaceRow
from brass_pebble.core.say.counts import say_count
from brass_pebble.protocol.giving import AskAsleep, Asleep, AsleepRow
from brass_pebble.screen.base.list_view import ListedView
from brass_pebble.screen.base.sheets import Choose
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import Sketch

from .reading import sketch_rows


class AsleepView(ListedView[AsleepRow]):
    """Asks the engine what sleeps, and lets a person approve each."""

    NAME = "Guests"
    DEFAULT_CSS = """
    AsleepView #about { width: 50%; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("a,enter", "approve", "approve", tooltip="approve it"),
        Binding("ctrl+a", "approve_item", "approve all of this macro",
                tooltip="approve all steps of this macro or control"),
        Binding("A", "approve_all", "approve all", tooltip="approve everything"),
        Binding("O", "open", "open it", tooltip="open the macro or the surface"),
    ]

    @work(group="asleep", exclusive=True)
    async def load(self) -> None:
        """Ask, and show."""
        reply = await self.query_engine(Asleep, AskAsleep())
        if reply is not None:
            self.put(reply.asleep)

    def line(self, row: AsleepRow) -> Text:
        return Text.assemble(("☾ ", self.palette.rust), (f"{row.does:20}  ", self.palette.dim), row.text[:100])

    def summary(self) -> Text:
        palette = self.palette
        head = Text.assemble(("Guests   ", f"bold {palette.brass}"))
        if self.rows:
            wait = "waits" if len(self.rows) == 1 else "wait"
            head.append(f"☾ {say_count(len(self.rows), 'step')} {wait} for approval", style=f"bold {palette.rust}")
            head.append("\nFrom somebody else, affecting more than the keyboard. Read each one; a: approve it.",
                        style=palette.dim)
        else:
            head.append("✓ nothing waits for approval", style=f"bold {palette.verdigris}")
            head.append("\nImported steps that affect more than the keyboard are listed here.",
                        style=palette.dim)
        return head

    def show_row(self, row: AsleepRow | None) -> None:
        palette, sketch = self.palette, self.query_one(Sketch)
        if row is None:
            self.query_one("#says", Static).update("")
            self.query_one(PathBar).set_hops([Hop("guests", "guests")])
            sketch.display = False
            return
        line = f", line {row.line}" if row.line else ""
        text = Text.assemble((f"{row.does}\n", f"bold {palette.rust}"), (f"{row.text}\n\n", "bold"),
                             (f"in {row.where}{line}\n", palette.text))
        if row.via:
            text.append(f"by the macro “{row.via}”, which it plays\n", style=palette.text)
        if row.values:
            text.append(f"with {row.values}\n", style=palette.text)
        if row.origin:
            text.append(f"came with {row.origin}\n", style=palette.dim)
        if row.changed:
            text.append("\nYou approved it before. Changed since then:\n", style=f"bold {palette.brass}")
            for line in row.changed:
                text.append(f"{line}\n", style=palette.rust if line.startswith("-") else palette.verdigris)
        text.append("\nAn approval covers the whole: this macro, what it plays, and the values it shares. If any of it "
                    "changes, it asks again.\n", style=palette.dim)
        self.query_one("#says", Static).update(text)
        self.query_one(PathBar).set_hops([Hop(row.where, "open"), Hop(row.does, "open"),
                                          Hop("asleep", "open", wrong=True)])
        surface, controls = self._surface(row)
        sketch.display = surface is not None
        if surface is not None:
            rows, seen = sketch_rows(surface, controls)
            sketch.show(rows, seen=seen)

    def _surface(self, row: AsleepRow) -> tuple[SurfaceRow | None, set[str]]:
        """The surface that it is about, and the controls: for a macro, those that play it."""
        if not row.where.startswith("macros/"):
            place, _, control = row.where.partition(" ")
            return self.known.surface(place), {control}
        macro = row.where.removeprefix("macros/").removesuffix(".macro")
        for surface in self.known.desk.surfaces:
            found = {binding.control for layer in surface.layers for binding in layer.bindings
                     if binding.kind == "play" and binding.target == macro}
            if found:
                return surface, found
        return None, set()

    @work(group="approve", exclusive=True)
    async def action_approve(self) -> None:
        """Approve the chosen one."""
        if row := self.row:
            await self._approve([row.mark])

    def enter(self) -> None:
        self.action_approve()

    @work(group="approve", exclusive=True)
    async def action_approve_item(self) -> None:
        """Let everything of the chosen macro or control be approved."""
        if row := self.row:
            await self._approve([other.mark for other in self.rows if other.where == row.where])

    @work(group="approve", exclusive=True)
    async def action_approve_all(self) -> None:
        """Everything that sleeps, or all of it the person's own: as for a desk that is new on this computer."""
        if not self.rows:
            return
        count = len(self.rows)
        names = sorted({row.where.removeprefix("macros/").removesuffix(".macro").partition(" ")[0]
                        for row in self.rows})
        chosen = await self.app.push_screen_wait(Choose(
            "Approve all", f"{say_count(count, 'step')} of {', '.join(names[:6])}"
            f"{' and more' if len(names) > 6 else ''} would do what they say.",
            ["Approve all of them", "They are mine: do not ask again", "Cancel"]))
        if chosen == 0:
            await self._approve([row.mark for row in self.rows])
        elif chosen == 1:
            for origin in sorted({row.origin for row in self.rows}):
                given = {"origin": origin} if origin else {"names": names}
                if reply := await self.change("adopt", **given):
                    self.notify("All are approved.", title=reply.words[:60], timeout=4)
            self.load()

    async def _approve(self, marks: list[str]) -> None:
        if reply := await self.change("approve", marks=sorted(set(marks))):
            self.notify("Approved.", title=reply.words, timeout=4)
            self.load()

    def action_open(self) -> None:
        """Open the macro, or the surface."""
        row = self.row
        if row is None:
            return
        if row.where.startswith("macros/"):
            macro = row.where.removeprefix("macros/").removesuffix(".macro")
            self.app.open_view("macro", macro=macro)  # type: ignore[attr-defined]
        else:
            surface, _, control = row.where.partition(" ")
            self.app.open_view("surface", surface=surface, control=control)  # type: ignore[attr-defined]

    @on(PathBar.Opened)
    def _door(self) -> None:
        self.action_open()
