"""The Clashes view: what gets in each other's way, the surface it speaks of, and the repair."""

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
from brass_pebble.core.desk.action import ACTION_KINDS
from brass_pebble.core.desk.look.shown import PLACE, show_control
from brass_pebble.screen.base.desk_actions import DeskActions
from brass_pebble.screen.base.sheets import Sheet, key_help
from brass_pebble.screen.link import Link
from brass_pebble.screen.state import DeskState, Row, Spot
from brass_pebble.screen.surface.family import FamilySheet
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import Sketch
from brass_pebble.screen.widgets.status_line import StatusLine

MARKS = {"bad": "✗", "notice": "·"}


class ClashesView(DeskActions):
    """Asks the engine for clashes, anew after every change of the desk."""

    DEFAULT_CSS = """
    ClashesView { background: $background; }
    ClashesView #summary { height: 2; padding: 0 1; }
    ClashesView OptionList { width: 1fr; height: 1fr; border: none; background: $background; padding: 0 1; }
    ClashesView #about { width: 52%; padding: 0 2; }
    ClashesView #says { height: auto; max-height: 50%; }
    ClashesView Sketch { margin: 1 0 0 0; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("k", "free", "free chord"), Binding("b", "bind", "bind"), Binding("g", "go", "go there"),
        Binding("o", "open_macro", "macro"), Binding("l", "look", "look again"), Binding("u", "undo", "undo"),
        Binding("r", "redo", "redo", show=False), Binding("t", "tables", "tables"),
        Binding("R", "restart", "restart engine", show=False), Binding("question_mark", "keys", "keys"),
        Binding("escape", "leave", "desk"),
    ]
    AUTO_FOCUS = "OptionList"

    def __init__(self, state: DeskState, link: Link) -> None:
        super().__init__(state, link)
        self.clashes: list[Row] = []
        self.programs: list[Row] = []
        self.troubles: list[Row] = []
        self._at: dict[str, int] = {}

    def compose(self) -> ComposeResult:
        """The clashes, and what the chosen one means."""
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
        self.action_look()

    async def take(self, message: Message, changed: set[Spot]) -> None:
        """News of the engine."""
        if message["topic"] == "desk":
            await self.show_all()
        self.query_one(StatusLine).redraw()

    @work(exclusive=True, group="look")
    async def action_look(self) -> None:
        """Look for clashes again."""
        reply = await self.ask("clashes")
        if reply is None:
            return
        before = self.clash["text"] if self.clash else ""
        self.clashes, self.programs, self.troubles = reply["clashes"], reply["programs"], reply["problems"]
        options = self.query_one(OptionList)
        at = options.highlighted or 0
        options.clear_options()
        options.add_options([Option(self._line(clash)) for clash in self.clashes])
        kept = next((index for index, clash in enumerate(self.clashes) if clash["text"] == before), at)
        options.highlighted = min(kept, len(self.clashes) - 1) if self.clashes else None
        self._summary()
        self._about()

    def _line(self, clash: Row) -> Text:
        bad = clash["weight"] == "bad"
        return Text.assemble((f"{MARKS[clash['weight']]} ", f"bold {self.palette.rust if bad else self.palette.dim}"),
                             (f"{clash['kind']:16}", self.palette.brass if bad else self.palette.dim),
                             f"{clash['chord'] or self._macro_name(clash):18} ",
                             (self._places(clash), self.palette.dim))

    def _macro_name(self, clash: Row) -> str:
        return next((str(macro["name"]) for macro in self.state.desk["macros"] if macro["id"] == clash["macro"]), "")

    def _places(self, clash: Row) -> str:
        names = []
        for where in clash["where"][:3]:
            surface = self.state.surface(where["surface"])
            names.append(f"{surface['name'] if surface else ''} {where['control']}")
        more = len(clash["where"]) - len(names)
        return ", ".join(dict.fromkeys(names)) + (f" +{more}" if more > 0 else "")

    @property
    def clash(self) -> Row | None:
        """The chosen one."""
        index = self.query_one(OptionList).highlighted
        return self.clashes[index] if index is not None and index < len(self.clashes) else None

    @property
    def spot(self) -> Row | None:
        """The binding that the chosen clash is about: of several, the last, which is usually the one to change."""
        return self.clash["where"][-1] if self.clash and self.clash["where"] else None

    def _summary(self) -> None:
        bad = sum(clash["weight"] == "bad" for clash in self.clashes)
        palette = self.palette
        text = Text("Clashes   ", style=f"bold {palette.brass}")
        if bad:
            text.append(f"✗ {bad} {'gets' if bad == 1 else 'get'} in the way", style=f"bold {palette.rust}")
        else:
            text.append("✓ nothing gets in the way", style=f"bold {palette.verdigris}")
        notices = len(self.clashes) - bad
        text.append(f"   · {notices} worth knowing", style=palette.dim)
        count = sum(len(program["shortcuts"]) for program in self.programs)
        names = ", ".join(program["name"] for program in self.programs)
        text.append(f"\nKnown are {count} shortcuts of {names}   (t shows them)", style=palette.dim)
        if self.troubles:
            text.append(f"   ✗ {self.troubles[0]['file']}: {self.troubles[0]['what']}", style=palette.rust)
        self.query_one("#summary", Static).update(text)

    @on(OptionList.OptionHighlighted)
    def _chosen(self) -> None:
        self._about()

    def _about(self) -> None:
        clash, sketch, palette = self.clash, self.query_one(Sketch), self.palette
        says, bar = self.query_one("#says", Static), self.query_one(PathBar)
        if clash is None:
            says.update("Nothing gets in each other's way, as far as the tables tell. t shows which programs are "
                        "known; add one with: brass-pebble programs import FILE")
            sketch.show([])
            bar.set_hops([Hop("Clashes", "clash")])
            return
        text = Text.assemble((f"{MARKS[clash['weight']]} {clash['kind']}\n\n", "bold"), f"{clash['text']}\n")
        text.append("\n" + _REPAIRS.get(clash["kind"], ""), style=palette.brass)
        says.update(text)
        where = self.spot
        surface = self.state.surface(where["surface"]) if where else None
        sketch.show(self._drawn(surface, clash) if surface else [])
        sketch.selected = where["control"] if where else ""
        bad = clash["weight"] == "bad"
        hops = [Hop(surface["name"], "surface"), Hop(where["control"], "surface"), Hop(where["gesture"], "binding")] \
            if surface and where else []
        bar.set_hops([*hops, Hop(clash["chord"] or clash["macro"] or clash["kind"], "binding", bad)])

    def _drawn(self, surface: Row, clash: Row) -> list[Row]:
        """The surface with only what the clash is about in colour."""
        involved = {(row["control"], row["layer"]) for row in clash["where"] if row["surface"] == surface["id"]}
        controls = []
        for control in surface["controls"]:
            row = {name: value for name, value in control.items() if name in PLACE} | {"key": ""}
            for layer in (layer for name, layer in involved if name == control["id"]):
                row |= show_control(control["id"], surface["layers"], (layer,))
                row["key"] = row.get("label", "")
            controls.append(row)
        return controls

    # Repairs.

    @work(exclusive=True, group="edit")
    async def action_free(self) -> None:
        """Give the binding a chord that nothing takes."""
        where = self.spot
        row = self._row(where) if where else None
        if where is None or row is None or ACTION_KINDS[row["kind"]].takes != "chord":
            self.notify("This clash is not about a chord of one control. g goes there, o opens its macro.", timeout=5)
            return
        chords = await self.app.push_screen_wait(FamilySheet(1, row["label"], self.ask))
        if chords:
            fields = {name: row[name] for name in ("kind", "tint", "plays", "again", "note", "hold_after",
                                                   "second_within", "every", "back", "adds")}
            reply = await self.ask("bind", surface=where["surface"], layer=where["layer"], control=where["control"],
                                   gesture=where["gesture"], **{**fields, "tint": row["own_tint"]},
                                   label=row["own_label"], target=chords[0])
            if reply:
                self.notify("Live now. Let the program learn it, too: F4 in the same list sends it. u undoes it.",
                            title=reply["words"], timeout=6)

    def _row(self, where: Row) -> Row | None:
        surface = self.state.surface(where["surface"]) or {"layers": []}
        return next((row for layer in surface["layers"] if layer["id"] == where["layer"] for row in layer["bindings"]
                     if (row["control"], row["gesture"]) == (where["control"], where["gesture"])), None)

    @work(exclusive=True, group="edit")
    async def action_bind(self) -> None:
        """Give the binding another action."""
        if where := self.spot:
            await self.bind((where["surface"], where["control"]), layer=where["layer"], gesture=where["gesture"])

    def action_go(self) -> None:
        """Open the surface there."""
        if where := self.spot:
            self.app.open_view("surface", surface=where["surface"], control=where["control"],  # type: ignore[attr-defined]
                               layer=where["layer"])

    def action_open_macro(self) -> None:
        """Open the macro that it is about."""
        if self.clash and self.clash["macro"]:
            self.app.open_view("macro", macro=self.clash["macro"])  # type: ignore[attr-defined]

    @on(OptionList.OptionSelected)
    def _enter(self) -> None:
        if self.clash and self.clash["macro"] and not self.clash["where"]:
            self.action_open_macro()
        else:
            self.action_go()

    @on(PathBar.Opened)
    def _door(self, message: PathBar.Opened) -> None:
        if message.door == "binding":
            self.action_bind()
        elif message.door == "surface":
            self.action_go()

    def action_tables(self) -> None:
        """The shortcut tables there are."""
        rows = []
        for program in self.programs:
            hears = "always" if program["always"] else "while it has the focus"
            rows.append((program["name"], f"{program['origin']}; hears {hears}"))
            rows += [(f"  {shortcut['chord']}", shortcut["does"]) for shortcut in program["shortcuts"]]
        rows.append(("", "Your own: brass-pebble programs import FILE, or programs/NAME.toml beside desk.toml"))
        self.app.push_screen(Sheet("Shortcut tables", key_help(rows, self.palette)))

    def action_keys(self) -> None:
        """All keys."""
        self.app.push_screen(Sheet("Keys of the Clashes view", key_help([
            ("↑ ↓", "choose a clash"), ("k", "give it a chord that nothing takes"), ("b", "give it another action"),
            ("Enter  g", "open the surface there"), ("o", "open its macro"), ("t", "the shortcut tables"),
            ("l", "look again"), ("u  r", "undo, redo"), ("Esc", "back")], self.palette)))


_REPAIRS = {
    "taken twice": "k gives it a chord that nothing known takes, b another action.",
    "never": "g goes there.", "too short": "b binds it anew, o opens its macro.",
    "slow double tap": "g goes there; F8 while binding changes the time.",
    "the same": "g goes to one of them.", "unplayed": "o opens the macro; F9 there binds it.",
}
