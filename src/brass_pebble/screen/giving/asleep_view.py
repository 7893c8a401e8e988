"""The Guests view: what came from somebody else, reaches outside the keyboard, and sleeps until it is approved."""

from __future__ import annotations

from typing import ClassVar

from rich.text import Text
from textual import on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical
from textual.widgets import Footer, OptionList, Static
from textual.widgets.option_list import Option

from brass_pebble.client import Message
from brass_pebble.screen.base.sheets import Choose, Sheet, key_help
from brass_pebble.screen.base.view import View
from brass_pebble.screen.link import Link
from brass_pebble.screen.state import DeskState, Row, Spot
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import Sketch
from brass_pebble.screen.widgets.status_line import StatusLine

from .reading import sketch_rows


class AsleepView(View):
    """Asks the engine what sleeps, and lets a person approve each."""

    DEFAULT_CSS = """
    AsleepView { background: $background; }
    AsleepView #summary { height: 2; padding: 0 1; }
    AsleepView OptionList { width: 1fr; height: 1fr; background: $background; padding: 0 1; }
    AsleepView #about { width: 50%; padding: 0 2; }
    AsleepView #says { height: auto; }
    AsleepView Sketch { margin: 1 0 0 0; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("a,enter", "approve", "approve"), Binding("m", "approve_item", "approve all of this macro"),
        Binding("A", "approve_all", "approve all"),
        Binding("o", "open", "open it"), Binding("question_mark", "keys", "keys"), Binding("escape", "leave", "back"),
    ]
    AUTO_FOCUS = "OptionList"

    def __init__(self, state: DeskState, link: Link) -> None:
        super().__init__(state, link)
        self.rows: list[Row] = []

    def compose(self) -> ComposeResult:
        """The list, and what the chosen one would do."""
        yield StatusLine(self.state)
        yield PathBar(self.state)
        yield Static(id="summary", markup=False)
        with Horizontal():
            yield OptionList(markup=False)
            with Vertical(id="about"):
                yield Static(id="says", markup=False)
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

    @work(group="asleep", exclusive=True)
    async def load(self) -> None:
        """Ask, and show."""
        reply = await self.ask("asleep") if self.state.connected else None
        if reply is None:
            return
        self.rows = reply["asleep"]
        options, palette = self.query_one(OptionList), self.palette
        at = options.highlighted or 0
        options.clear_options()
        options.add_options([Option(Text.assemble(("☾ ", palette.rust), (f"{row['does']:20} ", palette.dim),
                                                  row["text"][:100]))
                             for row in self.rows])
        options.highlighted = min(at, len(self.rows) - 1) if self.rows else None
        head = Text("Guests   ", style=f"bold {palette.brass}")
        if self.rows:
            many = "1 thing sleeps" if len(self.rows) == 1 else f"{len(self.rows)} things sleep"
            head.append(f"☾ {many}", style=f"bold {palette.rust}")
            head.append("\nThey came from somebody else and reach outside the keyboard. Read each; a lets it do "
                        "what it says.", style=palette.dim)
        else:
            head.append("✓ nothing sleeps", style=f"bold {palette.verdigris}")
            head.append("\nWhat somebody else made and reaches outside the keyboard would be listed here.",
                        style=palette.dim)
        self.query_one("#summary", Static).update(head)
        self._about()

    @property
    def row(self) -> Row | None:
        """The chosen one."""
        index = self.query_one(OptionList).highlighted
        return self.rows[index] if index is not None and index < len(self.rows) else None

    @on(OptionList.OptionHighlighted)
    def _chosen(self) -> None:
        self._about()

    def _about(self) -> None:
        row, palette, sketch = self.row, self.palette, self.query_one(Sketch)
        if row is None:
            self.query_one("#says", Static).update("")
            self.query_one(PathBar).set_hops([Hop("guests", "guests")])
            sketch.display = False
            return
        line = f", line {row['line']}" if row["line"] else ""
        text = Text.assemble((f"{row['does']}\n", f"bold {palette.rust}"), (f"{row['text']}\n\n", "bold"),
                             (f"in {row['where']}{line}\n", palette.text))
        if row["via"]:
            text.append(f"by your own macro “{row['via']}”, which it plays\n", style=palette.text)
        if row["values"]:
            text.append(f"with {row['values']}\n", style=palette.text)
        if row["origin"]:
            text.append(f"came with {row['origin']}\n", style=palette.dim)
        text.append("\nAn approval is for these very words: when the step is changed, it asks again.\n",
                    style=palette.dim)
        self.query_one("#says", Static).update(text)
        self.query_one(PathBar).set_hops([Hop(row["where"], "open"), Hop(row["does"], "open"),
                                          Hop("asleep", "open", wrong=True)])
        surface, controls = self._surface(row)
        sketch.display = surface is not None
        if surface is not None:
            rows, seen = sketch_rows(surface, controls)
            sketch.show(rows, seen=seen)

    def _surface(self, row: Row) -> tuple[Row | None, set[str]]:
        """The surface that it is about, and the controls: for a macro, those that play it."""
        if not row["where"].startswith("macros/"):
            surface, _, control = row["where"].partition(" ")
            return self.state.surface(surface), {control}
        macro = row["where"].removeprefix("macros/").removesuffix(".macro")
        for surface in self.state.desk["surfaces"]:
            found = {binding["control"] for layer in surface["layers"] for binding in layer["bindings"]
                     if binding["kind"] == "play" and binding["target"] == macro}
            if found:
                return surface, found
        return None, set()

    @work(group="approve", exclusive=True)
    async def action_approve(self) -> None:
        """Let the chosen one do what it says."""
        if row := self.row:
            await self._approve([row["mark"]])

    @on(OptionList.OptionSelected)
    def _enter(self) -> None:
        self.action_approve()

    @work(group="approve", exclusive=True)
    async def action_approve_item(self) -> None:
        """Let everything of the chosen macro or control do what it says."""
        if row := self.row:
            await self._approve([other["mark"] for other in self.rows if other["where"] == row["where"]])

    @work(group="approve", exclusive=True)
    async def action_approve_all(self) -> None:
        """Everything that sleeps, or all of it the person's own: as for a desk that is new on this computer."""
        if not self.rows:
            return
        count = len(self.rows)
        names = sorted({row["where"].removeprefix("macros/").removesuffix(".macro").partition(" ")[0]
                        for row in self.rows})
        chosen = await self.app.push_screen_wait(Choose(
            "Approve all", f"{count} {'step' if count == 1 else 'steps'} of {', '.join(names[:6])}"
            f"{' and more' if len(names) > 6 else ''} would do what they say.",
            ["Approve all of them as they are", "They are my own: do not ask for them again", "Cancel"]))
        if chosen == 0:
            await self._approve([row["mark"] for row in self.rows])
        elif chosen == 1:
            for origin in sorted({row["origin"] for row in self.rows}):
                given = {"origin": origin} if origin else {"names": names}
                if reply := await self.ask("adopt", **given):
                    self.notify("Nothing of them sleeps any more.", title=reply["words"][:60], timeout=4)
            self.load()

    async def _approve(self, marks: list[str]) -> None:
        if reply := await self.ask("approve", marks=sorted(set(marks))):
            self.notify("It does what it says from now on.", title=reply["words"], timeout=4)
            self.load()

    def action_open(self) -> None:
        """Open the macro, or the surface."""
        row = self.row
        if row is None:
            return
        if row["where"].startswith("macros/"):
            macro = row["where"].removeprefix("macros/").removesuffix(".macro")
            self.app.open_view("macro", macro=macro)  # type: ignore[attr-defined]
        else:
            surface, _, control = row["where"].partition(" ")
            self.app.open_view("surface", surface=surface, control=control)  # type: ignore[attr-defined]

    @on(PathBar.Opened)
    def _door(self) -> None:
        self.action_open()

    def action_keys(self) -> None:
        """All keys."""
        rows = [("↑ ↓", "choose"), ("a  Enter", "let it do what it says"),
                ("m", "let all of this macro or control do what it says"),
                ("A", "let everything do what it says"), ("o", "open the macro or the surface"),
                ("Esc", "back")]
        self.app.push_screen(Sheet("Keys of the Guests view", key_help(rows, self.palette)))
