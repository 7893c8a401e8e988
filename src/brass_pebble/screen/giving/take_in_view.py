"""The Take-in view: what a parcel holds, before anything changes; what is taken, and what may reach outside."""

from __future__ import annotations

import asyncio
import difflib
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar

from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.widgets import Static

from brass_pebble.core.desk.look.changes import Difference, differences
from brass_pebble.core.desk.look.drawn import BareSurface
from brass_pebble.core.parcel.contents import surface_without_own
from brass_pebble.core.parcel.fitting import Fit
from brass_pebble.core.parcel.look import Look, Reaching, at_most
from brass_pebble.core.parcel.merge import BOTH, DIFFERS, LEAVE, NEW, SAME, TAKE, Item, Mine
from brass_pebble.core.say.counts import say_count
from brass_pebble.screen.base.list_view import ListedView
from brass_pebble.screen.known import Known
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import Sketch

from .reading import sketch_rows

MARKS = {NEW: "+", SAME: "=", DIFFERS: "≠"}
SAID = {TAKE: "import", LEAVE: "skip", BOTH: "keep both"}
# What can be done with an item, by how it stands to what is here.
WAYS = {NEW: (TAKE, LEAVE), DIFFERS: (LEAVE, TAKE, BOTH), SAME: (LEAVE,)}
MOST_LINES, MOST_WORDS = 200, 6


@dataclass(frozen=True)
class Line:
    """A line of the list: an item of the parcel, or something that reaches outside, or a heading."""

    item: Item | None = None
    reaching: Reaching | None = None
    heading: str = ""


class TakeInView(ListedView[Line]):
    """Shows a parcel, takes the choices, and lets the engine carry them out."""

    NAME = "Import"
    FRESH = ()
    DEFAULT_CSS = """
    TakeInView OptionList { width: 74; }
    TakeInView #about { width: 1fr; }
    TakeInView #says { max-height: 40%; }
    TakeInView #sides { height: 1fr; }
    TakeInView .side { width: 1fr; height: 1fr; scrollbar-size: 1 1; padding: 0 1 0 0; }
    TakeInView .side Static { height: auto; }
    TakeInView #drawings { height: 1fr; }
    TakeInView #drawings Vertical { width: 1fr; }
    TakeInView #drawings Static { height: 1; color: $text-muted; text-style: bold; }
    TakeInView.narrow OptionList { width: 44; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("space,enter", "choose", "import / skip / both", tooltip="import, skip, or keep both"),
        Binding("a", "approve", "approve", tooltip="approve a step that affects more than the keyboard, or not"),
        Binding("m", "fit", "fit to mine", tooltip="fit a surface to one of yours: by position, by name, by hand"),
        Binding("I", "take_in", "import", tooltip="import the selection as one change"),
        Binding("escape", "leave", "cancel", tooltip="cancel; nothing was changed"),
    ]

    def __init__(self, known: Known, link: Asks, look: Look, file: str) -> None:
        super().__init__(known, link)
        self.look, self.file = look, file
        self.choices: dict[str, str] = {}
        self.fits: dict[str, tuple[str, Fit]] = {}
        self.approved: set[str] = set()
        self._drawn: dict[str, BareSurface] = {}
        self._mine: Mine | None = None

    def beside(self) -> ComposeResult:
        """The chosen thing: theirs, and mine where it differs."""
        yield Static(id="says", markup=False)
        with Horizontal(id="drawings"):
            for side in ("yours", "theirs"):
                with Vertical(id=f"{side}-drawn"):
                    yield Static(side.upper(), markup=False)
                    yield Sketch(id=f"{side}-sketch")
        with Horizontal(id="sides"):
            for side in ("mine", "theirs"):
                with VerticalScroll(classes="side", id=side, can_focus=False):
                    yield Static(markup=False)

    async def on_mount(self) -> None:
        """Read what the drawings need."""
        self._drawn, self._mine = await asyncio.to_thread(self.outside.drawn, self.look, self.known.desk.folder)
        self.load()

    async def show_all(self) -> None:
        """After connecting, or when the desk changed."""
        self.set_class(self.size.width < 120, "narrow")
        await super().show_all()

    def load(self) -> None:
        """The list, again."""
        look = self.look
        lines = [Line(item=item) for item in look.items]
        if look.reaching:
            taken = sum(self._taken(row) for row in look.reaching)
            lines += [Line(heading=_reaching(taken, self._sleeping()))]
            lines += [Line(reaching=row) for row in look.reaching]
        else:
            lines.append(Line(heading="Nothing in it affects more than the keyboard."))
        self.put(lines)

    def may_choose(self, row: Line) -> bool:
        return not row.heading

    def _taken(self, row: Reaching) -> bool:
        """Whether what it belongs to is taken in, as things are chosen now."""
        item = next((item for item in self.look.items if item.key == row.item), None)
        return item is not None and (item.id in self.fits or (
            item.state != SAME and self.choices.get(item.key, item.usual) != LEAVE))

    def _sleeping(self) -> int:
        """How many steps will sleep when it is taken in as chosen now."""
        return sum(self._taken(row) and not self._may(row) for row in self.look.reaching)

    def _may(self, row: Reaching) -> bool:
        return row.reach.mark in self.approved or row.reach.mark in self.look.approved

    def _does(self, item: Item) -> str:
        if item.sort == "surface" and item.id in self.fits:
            here = self.known.surface(self.fits[item.id][0])
            return f"onto {here.name if here else '?'}"
        return "here already" if item.state == SAME else SAID[self.choices.get(item.key, item.usual)]

    def line(self, row: Line) -> Text:
        line = row
        palette = self.palette
        if line.heading:
            return Text(f"\n{line.heading}", style=f"bold {palette.brass}")
        if line.item is not None:
            item = line.item
            colour = {NEW: palette.verdigris, SAME: palette.dim, DIFFERS: palette.brass}[item.state]
            narrow = self.has_class("narrow")
            name, room = (18 if narrow else 34), (29 if narrow else 60)
            most = at_most(self.look, item)
            return Text.assemble((f"{MARKS[item.state]} ", f"bold {colour}"), (f"{item.sort:8}", palette.dim),
                                 f"{item.name[:name - 2]:{name}}", (f"{self._does(item):14}", colour),
                                 (f"\n          {most if len(most) <= room else most[:room - 1] + '…'}", palette.dim))
        assert line.reaching is not None
        reaching = line.reaching
        sign, colour = ("✓ ", palette.verdigris) if self._may(reaching) else ("☾ ", palette.rust)
        if not self._taken(reaching):
            sign, colour = "· ", palette.dim
        return Text.assemble((sign, colour), (f"{reaching.reach.does}: ", palette.dim),
                             (reaching.reach.text[:90], palette.text if self._taken(reaching) else palette.dim))

    def summary(self) -> Text:
        palette, parcel = self.palette, self.look.parcel
        head = Text.assemble(("Import   ", f"bold {palette.brass}"))
        head.append(parcel.manifest.name, style="bold")
        head.append(f"   {Path(self.file).name}   {parcel.manifest.made_with}\n", style=palette.dim)
        head.append("Nothing has changed yet. ", style=f"bold {palette.verdigris}")
        head.append("+ new   = identical   ≠ differs   ☾ waits for approval   · not selected   I: "
                    "import", style=palette.dim)
        return head

    def show_row(self, row: Line | None) -> None:
        line, says = row or Line(), self.query_one("#says", Static)
        drawings, sides = self.query_one("#drawings"), self.query_one("#sides")
        hops = [Hop("package", "parcel")]
        item = line.item
        if line.reaching is not None:
            sort, _, name = line.reaching.item.partition(" ")
            item = next((found for found in self.look.items if (found.sort, found.id) == (sort, name)), None)
            hops += [Hop(f"{sort} {name}", "item"), Hop(line.reaching.where, "item"),
                     Hop(line.reaching.reach.does, "item")]
        elif item is not None:
            hops.append(Hop(f"{item.sort} {item.name}", "item"))
        self.query_one(PathBar).set_hops(hops)
        drawn = self._drawn.get(item.id) if item is not None and item.sort == "surface" else None
        drawings.display = drawn is not None
        sides.display = drawn is None and item is not None
        says.update(self._says(line, item))
        if drawn is not None and item is not None:
            self._draw(item, drawn, line.reaching)
        elif item is not None:
            self._compare(item, line.reaching.reach.line if line.reaching else 0)

    def _differences(self, item: Item) -> list[Difference]:
        """What differs between their surface and mine of that name."""
        if self._mine is None or item.state != DIFFERS:
            return []
        mine, theirs = self._mine.surfaces[item.id], self.look.parcel.surfaces[item.id]
        return differences({"surface": {item.id: surface_without_own(mine)}},
                           {"surface": {item.id: surface_without_own(theirs)}})

    def _draw(self, item: Item, drawn: BareSurface, reaching: Reaching | None) -> None:
        """Their surface; beside it mine of that name, with what differs on both."""
        mine = self.known.surface(item.id) if item.state == DIFFERS else None
        self.query_one("#yours-drawn").display = mine is not None
        marked = {reaching.where.partition(" ")[0]} if reaching is not None else None
        if mine is not None and reaching is None:
            marked = {found.control for found in self._differences(item)}
        for name, surface in (("yours", mine), ("theirs", drawn)):
            if surface is not None:
                rows, seen = sketch_rows(surface, marked)
                self.query_one(f"#{name}-sketch", Sketch).show(rows, seen=seen)

    def _says(self, line: Line, item: Item | None) -> Text:
        palette = self.palette
        if line.reaching is not None:
            row = line.reaching
            text = Text.assemble((f"{row.reach.does}\n", f"bold {palette.rust}"), (f"{row.reach.text}\n\n", "bold"))
            if not self._taken(row):
                text.append(f"It belongs to {row.item}, which is not selected for import.\n", style=palette.dim)
            text.append("✓ Approved. a: withdraw approval.\n" if self._may(row) else
                        "☾ It does nothing until you approve it: a now, or G on the desk later.\n",
                        style=palette.verdigris if self._may(row) else palette.brass)
            return text.append("Approval covers exactly this text; a changed step asks again.\n",
                               style=palette.dim)
        if item is None:
            return Text("")
        text = Text.assemble((f"{item.sort} {item.name}", f"bold {palette.brass}"), (f"   {item.id}\n", palette.dim))
        said = {NEW: "Not on this desk yet.", SAME: "Already on this desk, identical.",
                DIFFERS: "This desk has a different one with that name. Yours stays unless you import this one or "
                         "keep both."}
        text.append(said[item.state] + "\n", style=palette.text)
        text.append(f"At most it {at_most(self.look, item)}.\n", style=palette.dim)
        if item.sort == "surface":
            self._say_fit(text, item)
            if item.state == DIFFERS and self._mine is not None:
                differs = self._differences(item)
                for found in differs[:MOST_WORDS]:
                    text.append(f"≠ {found.words.removeprefix(item.id).strip()}\n", style=palette.brass)
                if len(differs) > MOST_WORDS:
                    text.append(f"… and {len(differs) - MOST_WORDS} more\n", style=palette.dim)
        for problem in self.look.problems:
            if problem.file in (f"macros/{item.id}.macro", f"layouts/{item.id}.toml"):
                text.append(f"✗ line {problem.line}: {problem.what}\n", style=palette.rust)
        return text

    def _say_fit(self, text: Text, item: Item) -> None:
        palette = self.palette
        if item.id in self.fits:
            here, fit = self.fits[item.id]
            mine = self.known.surface(here)
            text.append(f"Fitted to {mine.name if mine else here}: {say_count(len(fit.placed), 'control')} "
                        "placed", style="bold")
            text.append(f", {len(fit.tray)} in the tray are left out: {', '.join(fit.tray)}\n" if fit.tray else "\n",
                        style=palette.brass)
        else:
            text.append("m: fit it to one of your surfaces, by position, by name or by hand.\n", style=palette.dim)

    def _compare(self, item: Item, line: int) -> None:
        """Both texts side by side, with what differs in colour."""
        parcel, palette = self.look.parcel, self.palette
        theirs = {"macro": parcel.macros, "layout": parcel.layouts, "program": parcel.programs,
                  "value": parcel.values}[item.sort][item.id]
        mine = ""
        if self._mine is not None and item.state == DIFFERS:
            mine = {"macro": self._mine.macros, "layout": self._mine.layouts, "program": self._mine.programs,
                    "value": self._mine.values}[
                item.sort][item.id]
        self.query_one("#mine").display = bool(mine)
        one, other = mine.splitlines()[:MOST_LINES], theirs.splitlines()[:MOST_LINES]
        texts = {"mine": Text("YOURS\n", style=f"bold {palette.dim}"),
                 "theirs": Text("THEIRS\n", style=f"bold {palette.brass}")}
        for tag, a, b, c, d in difflib.SequenceMatcher(None, one, other, autojunk=False).get_opcodes():
            changed = tag != "equal" and bool(mine)
            for side, rows, start, end in (("mine", one, a, b), ("theirs", other, c, d)):
                for number in range(start, end):
                    here = side == "theirs" and number + 1 == line
                    style = f"bold {palette.rust}" if here else f"bold {palette.brass}" if changed else palette.text
                    texts[side].append(f"{number + 1:>3} ", style=palette.dim)
                    texts[side].append(rows[number] + "\n", style=style)
        for side, text in texts.items():
            self.query_one(f"#{side} Static", Static).update(text)

    # Choosing.

    def enter(self) -> None:
        self.action_choose()

    def action_choose(self) -> None:
        """The next thing that can be done with the item."""
        line = self.row or Line()
        if line.reaching is not None:
            self.action_approve()
            return
        if line.item is None:
            return
        item = line.item
        if item.state == SAME and item.id not in self.fits:
            self.notify("Already here and identical: nothing to import.", timeout=4)
            return
        if self.fits.pop(item.id, None) is None:
            ways = WAYS[item.state]
            now = self.choices.get(item.key, item.usual)
            self.choices[item.key] = ways[(ways.index(now) + 1) % len(ways)]
        self.load()

    def action_approve(self) -> None:
        """Let the chosen step be approved, or sleep."""
        row = (self.row or Line()).reaching
        if row is None:
            self.notify("Choose a step that affects more than the keyboard; each is approved separately.", timeout=4)
        elif row.reach.mark in self.look.approved:
            self.notify("You approved exactly this text before.", timeout=4)
        else:
            self.approved ^= {row.reach.mark}
            self.load()

    @work(group="fit", exclusive=True)
    async def action_fit(self) -> None:
        """Fit the chosen surface to one of mine."""
        item = (self.row or Line()).item
        if item is None or item.sort != "surface" or item.id not in self._drawn:
            self.notify("Choose a surface in the file.", timeout=4)
            return
        if not self.known.desk.surfaces:
            self.notify("This desk has no surfaces yet. Press M on the desk to meet a device.", timeout=5)
            return
        from .fit_view import FitSheet
        found = await self.app.push_screen_wait(FitSheet(self.known, self.look.parcel, item, self._drawn[item.id],
                                                         self.fits.get(item.id)))
        if found is not None:
            self.fits[item.id] = found
            self.load()

    @work(group="take", exclusive=True)
    async def action_take_in(self) -> None:
        """Carry everything out, in one change."""
        fields: dict[str, Any] = {
            "file": self.file, "digest": self.look.parcel.digest, "choices": self.choices,
            "onto": {name: {"here": here, "placed": fit.placed} for name, (here, fit) in self.fits.items()},
            "approve": sorted(self.approved)}
        if reply := await self.change("take_in", **fields):
            sleeps = self._sleeping()
            more = f" {say_count(sleeps, 'step')} off until approved: G shows them." if sleeps else ""
            self.app.notify(f"Saved. u: undo.{more}", title=reply.words, timeout=8)
            self.app.pop_screen()


def _reaching(taken: int, asleep: int) -> str:
    """How many steps affect more than the keyboard, and how many of them stay off."""
    if not taken:
        return "Steps that affect more than the keyboard: none selected"
    many = f"{say_count(taken, 'step')} {'affects' if taken == 1 else 'affect'} more than the keyboard"
    return f"{many}; {'it stays' if asleep == taken == 1 else f'{asleep} stay'} off until you approve " \
           f"{'it' if asleep == 1 else 'them'}" if asleep else f"{many}; approved"
