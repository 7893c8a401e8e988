"""The Clashes view: what gets in each other's way, the surface it speaks of, and the repair."""

from __future__ import annotations

from typing import ClassVar, NamedTuple

from rich.text import Text
from textual import on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical
from textual.widgets import OptionList, Static

from brass_pebble.core.desk.action import ACTION_KINDS
from brass_pebble.core.desk.binding import Binding as Bound
from brass_pebble.core.desk.look.drawn import OWN, BindingRow, DrawnRow, SurfaceRow
from brass_pebble.core.desk.look.shown import place_of, what_does
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.setting import settings_of
from brass_pebble.protocol.layers import AskClashes, Clashes, ClashRow, ProgramRow
from brass_pebble.protocol.rows import PlaceRow, ProblemRow
from brass_pebble.screen.base.desk_actions import UNDO
from brass_pebble.screen.base.key_help import key_table
from brass_pebble.screen.base.list_view import ListedView
from brass_pebble.screen.base.sheets import Sheet
from brass_pebble.screen.known import NO_SURFACE, Known
from brass_pebble.screen.link import Asks
from brass_pebble.screen.surface.family import FamilySheet
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import Sketch

MARKS = {"bad": "✗", "notice": "·"}


# Notes of a kind that are more than these stand in one row where not all of them have room; it opens and closes.
FOLD_FROM = 4
# So many surfaces that hold what clashes are drawn, side by side, each in so many columns at least.
MOST_DRAWN, DRAWN_FROM = 3, 24


class Fold(NamedTuple):
    """All notes of one kind, in one row."""

    kind: str
    many: int
    open: bool

    @property
    def words(self) -> str:
        """How many of what."""
        return say_count(self.many, _MEANS.get(self.kind, (self.kind, ""))[0])


class ClashesView(ListedView[ClashRow | Fold]):
    """Asks the engine for clashes, again after every change of the desk."""

    NAME = "Clashes"
    DEFAULT_CSS = """
    ClashesView OptionList { text-wrap: nowrap; text-overflow: ellipsis; }
    ClashesView #about { width: 46%; }
    ClashesView #says { max-height: 65%; }
    ClashesView #holders { height: 1fr; margin: 1 0 0 0; }
    ClashesView .holder { height: 1; padding: 0 1; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("y", "free", "free chord", tooltip="give it a chord that nothing takes"),
        Binding("b", "bind", "bind", tooltip="give it another action"),
        Binding("O", "open_macro", "macro", tooltip="open its macro"), Binding("f5", "look", "look again"), *UNDO,
        Binding("tab", "tables", "tables", tooltip="the shortcut tables of programs"),
    ]

    def __init__(self, known: Known, link: Asks) -> None:
        super().__init__(known, link)
        self.programs: list[ProgramRow] = []
        self.troubles: list[ProblemRow] = []
        self.found: list[ClashRow] = []
        # Kinds that the person has opened or closed, against what there is room for.
        self._turned: set[str] = set()

    @property
    def clash(self) -> ClashRow | None:
        """The chosen clash; None on a row that stands for several."""
        return self.row if isinstance(self.row, ClashRow) else None

    def load(self) -> None:
        self.action_look()

    @work(exclusive=True, group="look")
    async def action_look(self) -> None:
        """Look for clashes again."""
        reply = await self.query_engine(Clashes, AskClashes())
        if reply is not None:
            self.programs, self.troubles, self.found = reply.programs, reply.problems, reply.clashes
            self.put(self._folded())

    def _folded(self) -> list[ClashRow | Fold]:
        """Conflicts, and notes by their kind: many of a kind behind one row."""
        rows: list[ClashRow | Fold] = [clash for clash in self.found if clash.weight == "bad"]
        kinds: dict[str, list[ClashRow]] = {}
        for clash in self.found:
            if clash.weight != "bad":
                kinds.setdefault(clash.kind, []).append(clash)
        fits = len(self.found) + len(kinds) <= self.query_one(OptionList).size.height
        for kind, clashes in kinds.items():
            many, is_open = len(clashes) >= FOLD_FROM, fits != (kind in self._turned)
            rows += [Fold(kind, len(clashes), is_open)] if many else []
            rows += clashes if is_open or not many else []
        return rows

    def same(self, one: ClashRow | Fold, other: ClashRow | Fold) -> bool:
        if isinstance(one, Fold) or isinstance(other, Fold):
            return isinstance(one, Fold) and isinstance(other, Fold) and one.kind == other.kind
        return one.text == other.text

    def line(self, row: ClashRow | Fold) -> Text:
        if isinstance(row, Fold):
            return Text.assemble((f"{'▾' if row.open else '▸'} ", f"bold {self.palette.brass}"),
                                 row.words)
        bad = row.weight == "bad"
        line = Text.assemble((f"{MARKS[row.weight]} ", f"bold {self.palette.rust if bad else self.palette.dim}"),
                             (f"{row.kind:16}", self.palette.brass if bad else self.palette.dim),
                             f"{row.chord or self._macro_name(row):18} ", no_wrap=True, overflow="ellipsis")
        return self.finish_line(line, self._places(row), self.palette.dim, map(self._places, self.found))

    def _macro_name(self, clash: ClashRow) -> str:
        return next((str(macro.name) for macro in self.known.desk.macros if macro.id == clash.macro), "")

    def _places(self, clash: ClashRow) -> str:
        names = []
        for where in clash.where[:3]:
            surface = self.known.surface(where.surface)
            names.append(f"{surface.name if surface else ''} {where.control}")
        more = len(clash.where) - len(names)
        return ", ".join(dict.fromkeys(names)) + (f" +{more}" if more > 0 else "")

    def on_resize(self) -> None:
        """More or fewer rows have room."""
        if self.found:
            self.put(self._folded())

    def beside(self) -> ComposeResult:
        """What it says, and every surface that holds it."""
        yield Static(id="says", markup=False)
        with Horizontal(id="holders"):
            for _ in range(MOST_DRAWN):
                with Vertical():
                    yield Static(classes="holder", markup=False)
                    yield Sketch()

    def _draw(self, clash: ClashRow | None) -> None:
        """The surfaces that the clash is about, the one to change first."""
        names = list(dict.fromkeys(where.surface for where in reversed(clash.where))) if clash else []
        surfaces = [surface for surface in map(self.known.surface, names) if surface is not None]
        spot, room = self.spot, max(1, self.query_one("#holders").size.width // DRAWN_FROM)
        surfaces = surfaces[:room]
        for index, (title, sketch) in enumerate(zip(self.query(".holder").results(Static), self.query(Sketch),
                                                    strict=True)):
            there = index < len(surfaces)
            title.display = there and len(surfaces) > 1
            if sketch.parent is not None:
                sketch.parent.display = there
            if there and clash:
                surface = surfaces[index]
                title.update(Text(surface.name.upper(), style=f"bold {self.palette.text}"))
                sketch.selected = spot.control if spot is not None and spot.surface == surface.id else ""
                sketch.show(self._drawn(surface, clash))

    @property
    def spot(self) -> PlaceRow | None:
        """The binding that the chosen clash is about: of several, the last, which is usually the one to change."""
        return self.clash.where[-1] if self.clash and self.clash.where else None

    def summary(self) -> Text:
        bad = sum(clash.weight == "bad" for clash in self.found)
        palette = self.palette
        text = Text.assemble(("Clashes   ", f"bold {palette.brass}"))
        if bad:
            text.append(f"✗ {say_count(bad, 'conflict')}", style=f"bold {palette.rust}")
        else:
            text.append("✓ no conflicts", style=f"bold {palette.verdigris}")
        text.append(f"   · {say_count(len(self.found) - bad, 'note')}", style=palette.dim)
        count = sum(len(program.shortcuts) for program in self.programs)
        names = ", ".join(program.name for program in self.programs)
        text.append(f"\n{count} shortcuts known, of {names}   (Tab: show them)", style=palette.dim)
        if self.troubles:
            text.append(f"   ✗ {self.troubles[0].file}: {self.troubles[0].what}", style=palette.rust)
        return text

    def show_row(self, row: ClashRow | Fold | None) -> None:
        palette = self.palette
        self._draw(row if isinstance(row, ClashRow) else None)
        says, bar = self.query_one("#says", Static), self.query_one(PathBar)
        if isinstance(row, Fold):
            text = Text.assemble((f"· {row.words}\n\n", "bold"), _MEANS.get(row.kind, ("", ""))[1], "\n")
            says.update(text.append(f"\nEnter: {'hide' if row.open else 'show'} them.", style=palette.brass))
            bar.set_hops([Hop("Clashes", "clash"), Hop(row.words, "clash")])
            return
        if row is None:
            says.update("No conflicts with the programs whose shortcuts are known. Tab: show them. To add a program: "
                        "brass-pebble programs import FILE")
            bar.set_hops([Hop("Clashes", "clash")])
            return
        text = Text.assemble((f"{MARKS[row.weight]} {row.kind}\n\n", "bold"), f"{row.text}\n")
        text.append("\n" + _REPAIRS.get(row.kind, ""), style=palette.brass)
        says.update(text)
        where = self.spot
        surface = self.known.surface(where.surface) if where else None
        hops = [Hop(surface.name, "surface"), Hop(where.control, "surface"), Hop(where.gesture, "binding")] \
            if surface and where else []
        bar.set_hops([*hops, Hop(row.chord or row.macro or row.kind, "binding", row.weight == "bad")])

    def _drawn(self, surface: SurfaceRow, clash: ClashRow) -> list[DrawnRow]:
        """The surface with only what the clash is about in colour."""
        involved = {(place.control, place.layer) for place in clash.where if place.surface == surface.id}
        controls = []
        for control in surface.controls:
            said = [first.label for name, layer in involved if name == control.id
                    and (first := what_does(control.id, surface.layers, (layer,)).first) is not None]
            controls.append(place_of(control, said[-1] if said else ""))
        return controls

    # Repairs.

    @work(exclusive=True, group="edit")
    async def action_free(self) -> None:
        """Give the binding a chord that nothing takes."""
        where = self.spot
        row = self._bound(where) if where else None
        if where is None or row is None or ACTION_KINDS[row.kind].takes != "chord":
            self.notify("This is not about the chord of one control. Enter: go there. O: open its macro.", timeout=5)
            return
        chords = await self.app.push_screen_wait(FamilySheet(1, row.label, self.ask))
        if chords:
            settings = {name: getattr(row, OWN.get(name, name)) for name in settings_of(Bound)}
            reply = await self.change("bind", surface=where.surface, layer=where.layer, control=where.control,
                                   gesture=where.gesture, kind=row.kind, target=chords[0], **settings)
            if reply:
                self.notify("Saved. To teach it to the program, press F4 in the same list: it sends the chord. u: "
                            "undo.",
                            title=reply.words, timeout=6)

    def _bound(self, where: PlaceRow) -> BindingRow | None:
        surface = self.known.surface(where.surface) or NO_SURFACE
        return next((row for layer in surface.layers if layer.id == where.layer for row in layer.bindings
                     if (row.control, row.gesture) == (where.control, where.gesture)), None)

    @work(exclusive=True, group="edit")
    async def action_bind(self) -> None:
        """Give the binding another action."""
        if where := self.spot:
            await self.bind((where.surface, where.control), layer=where.layer, gesture=where.gesture)

    def action_go(self) -> None:
        """Open the surface there."""
        if where := self.spot:
            self.app.open_view("surface", surface=where.surface, control=where.control,  # type: ignore[attr-defined]
                               layer=where.layer)

    def action_open_macro(self) -> None:
        """Open the macro that it is about."""
        if self.clash and self.clash.macro:
            self.app.open_view("macro", macro=self.clash.macro)  # type: ignore[attr-defined]

    def enter(self) -> None:
        if isinstance(self.row, Fold):
            self._turned ^= {self.row.kind}
            self.put(self._folded())
        elif self.clash and self.clash.macro and not self.clash.where:
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
            hears = "always" if program.always else "while it has the focus"
            rows.append((program.name, f"{program.origin}; hears {hears}"))
            rows += [(f"  {shortcut.chord}", shortcut.does) for shortcut in program.shortcuts]
        rows.append(("", "Your own: brass-pebble programs import FILE, or programs/NAME.toml beside desk.toml"))
        self.app.push_screen(Sheet("Shortcut tables", key_table(rows, self.palette)))



# What notes of a kind are about, where several stand in one row.
_MEANS = {
    "duplicate": ("duplicate", "The same chord or macro on several controls. That is usually intended."),
    "unused": ("unused macro", "Macros that no control plays."),
    "unreachable": ("unreachable binding", "No press can reach them, because a layer above takes the control."),
    "too short": ("short tap", "Some programs are too slow to notice them."),
    "slow double tap": ("slow double tap", "Single taps that have to wait, because a second one means something else."),
}
_REPAIRS = {
    "conflict": "y: choose a free chord. b: bind another action.",
    "unreachable": "Enter: go there.", "too short": "b: bind again. O: open its macro.",
    "slow double tap": "Enter: go there. F8 while binding changes the time.",
    "duplicate": "Enter: go to one of them.", "unused": "O: open the macro. F9 there binds it.",
}
