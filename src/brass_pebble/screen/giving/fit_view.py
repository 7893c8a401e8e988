"""A sheet on which a surface of a parcel is fitted to one of mine: both drawings, and the tray of what fits nowhere."""

from __future__ import annotations

from typing import ClassVar

from msgspec.structs import replace
from rich.text import Text
from textual import on
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical
from textual.screen import ModalScreen
from textual.widgets import Static

from brass_pebble.core.desk.look.drawn import BareSurface, SurfaceRow
from brass_pebble.core.desk.look.shown import place_of
from brass_pebble.core.parcel.contents import Parcel
from brass_pebble.core.parcel.fitting import HOWS, Fit, match, suits
from brass_pebble.core.parcel.look import bound_of
from brass_pebble.core.parcel.merge import Item
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.known import Known
from brass_pebble.screen.widgets.sketch import Sketch

from .reading import sketch_rows


class FitSheet(ModalScreen[tuple[str, Fit] | None]):
    """Returns onto which surface of mine, and how; None to leave it as it was."""

    DEFAULT_CSS = """
    FitSheet { align: center middle; }
    FitSheet > Vertical { width: 98%; height: 96%; background: $panel; border: round $primary;
        border-title-color: $primary; border-subtitle-color: $text-muted; padding: 0 1; background: $background; }
    FitSheet #head { height: 3; }
    FitSheet .half { width: 1fr; }
    FitSheet .half Static { height: 1; }
    FitSheet #tray { height: auto; max-height: 5; padding: 1 0 0 0; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("i", "how", "by position / by name"), Binding("greater_than_sign", "other", "another surface of mine"),
        Binding("tab", "side", "other side", priority=True), Binding("delete", "off", "into the tray"),
        Binding("ctrl+s", "done", "done"), Binding("escape", "leave", "cancel"),
    ]

    def __init__(self, known: Known, parcel: Parcel, item: Item, theirs: BareSurface,
                 before: tuple[str, Fit] | None) -> None:
        super().__init__()
        self._known, self._theirs, self._item = known, theirs, item
        self._bound = bound_of(parcel, item.id)
        self._labels: dict[str, str] = {row.id: row.key for row in sketch_rows(theirs)[0] if row.key}
        self._how = HOWS[0]
        ids = [surface.id for surface in known.desk.surfaces]
        self._here = before[0] if before else item.id if item.id in ids else ids[0]
        self._fit = before[1] if before else self._match()

    @property
    def _mine(self) -> SurfaceRow:
        return self._known.surface(self._here) or self._known.desk.surfaces[0]

    def _match(self) -> Fit:
        controls = [control for control in self._mine.controls if not control.absent]
        return match(self._theirs.controls, self._bound, controls, self._how)

    def compose(self) -> ComposeResult:
        """Theirs at the left, mine at the right, the tray below."""
        with Vertical() as box:
            box.border_title = f"Fit {self._item.name}"
            box.border_subtitle = ("i position / name   > another surface   Tab side   Enter places   Del tray   "
                                   "Ctrl+S done")
            yield Static(id="head", markup=False)
            with Horizontal():
                with Vertical(classes="half"):
                    yield Static(id="theirs-name", markup=False)
                    yield Sketch(id="theirs")
                with Vertical(classes="half"):
                    yield Static(id="mine-name", markup=False)
                    yield Sketch(id="mine")
            yield Static(id="tray", markup=False)

    def on_mount(self) -> None:
        """Begin with what is in the tray, if anything."""
        theirs = self.query_one("#theirs", Sketch)
        theirs.selected = self._fit.tray[0] if self._fit.tray else next(iter(self._bound), "")
        theirs.focus()
        self._draw()

    def _label(self, control: str) -> str:
        return self._labels.get(control, control)

    def _draw(self) -> None:
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        theirs, mine = self.query_one("#theirs", Sketch), self.query_one("#mine", Sketch)
        # What is in the tray shows its label where others have what is printed on the cap.
        waiting = {row.id: f"{row.legend} {self._label(row.id)}" for row in self._theirs.controls
                   if row.id in self._fit.tray}
        theirs.show([replace(place_of(row, self._labels.get(row.id, "")), legend=waiting.get(row.id, row.legend))
                     for row in self._theirs.controls], seen=set(self._fit.placed))
        source = {place: control for control, place in self._fit.placed.items()}
        mine.show([place_of(row, self._label(source[row.id]) if row.id in source else "")
                   for row in self._mine.controls], seen=set(source))
        head = Text(f"{len(self._fit.placed)} of {len(self._bound)} placed by {self._how}",
                    style=f"bold {palette.brass}")
        head.append(f"   onto {self._mine.name}, as layers of their own\n", style=palette.text)
        chosen = theirs.selected
        if chosen in self._bound:
            place = self._fit.placed.get(chosen)
            legend = next((row.legend for row in self._mine.controls if row.id == place), "")
            head.append(f"{self._label(chosen)}: " + (f"goes to {legend}" if place else "in the tray"), style="bold")
            head.append("   choose a control on the right and press Enter", style=palette.dim)
        self.query_one("#head", Static).update(head)
        self.query_one("#theirs-name", Static).update(Text("THEIRS  ✓ placed", style=palette.dim))
        self.query_one("#mine-name", Static).update(Text(f"{self._mine.name.upper()}", style=palette.dim))
        tray = Text("✓ everything is placed", style=palette.verdigris)
        if self._fit.tray:
            tray = Text("tray (left out unless placed):  ", style=f"bold {palette.brass}")
            tray.append("   ".join(f"{self._label(control)} ({control})" for control in self._fit.tray),
                        style=palette.text)
        self.query_one("#tray", Static).update(tray)

    @on(Sketch.Picked)
    def _picked(self, message: Sketch.Picked) -> None:
        """Of theirs one is chosen; of mine it is the place for it."""
        if not message.down:
            return
        control = message.row.id
        if message.sketch.id == "theirs":
            self.query_one("#mine", Sketch).focus()
        else:
            chosen = self.query_one("#theirs", Sketch).selected
            if chosen not in self._bound:
                self.notify("That control has no binding. Choose one with a label.", timeout=3)
                return
            place = next(row for row in self._mine.controls if row.id == control)
            if not suits(self._bound[chosen], place):
                self.notify(f"{place.legend} cannot do that: {', '.join(self._bound[chosen])}.", timeout=4)
                return
            self._fit = self._fit.with_hand(chosen, control)
            if self._fit.tray:
                self.query_one("#theirs", Sketch).selected = self._fit.tray[0]
        self._draw()

    def action_side(self) -> None:
        """The other drawing."""
        theirs, mine = self.query_one("#theirs", Sketch), self.query_one("#mine", Sketch)
        (mine if theirs.has_focus else theirs).focus()
        self._draw()

    def action_off(self) -> None:
        """The chosen one of theirs into the tray."""
        chosen = self.query_one("#theirs", Sketch).selected
        if chosen in self._fit.placed:
            self._fit = self._fit.with_hand(chosen, "")
            self._draw()

    def action_how(self) -> None:
        """Match again, in the other way."""
        self._how = HOWS[(HOWS.index(self._how) + 1) % len(HOWS)]
        self._fit = self._match()
        self._draw()

    def action_other(self) -> None:
        """Another surface of mine."""
        ids = [surface.id for surface in self._known.desk.surfaces]
        self._here = ids[(ids.index(self._here) + 1) % len(ids)]
        self._fit = self._match()
        self._draw()

    def on_key(self) -> None:
        """The arrows have moved: say what is chosen now."""
        self.call_after_refresh(self._draw)

    def action_done(self) -> None:
        """As it is shown."""
        self.dismiss((self._here, self._fit))

    def action_leave(self) -> None:
        """As it was."""
        self.dismiss(None)
