"""The Surface view: one surface large, its layers as sheets, what the selected control means beside it."""

from __future__ import annotations

from typing import ClassVar

from textual import events, on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical
from textual.widgets import Static

from brass_pebble.core.desk.look.drawn import ControlRow, SurfaceRow
from brass_pebble.core.desk.look.shown import NOTHING, what_does
from brass_pebble.core.play.gesture import PRESS
from brass_pebble.core.play.told import TraceRow
from brass_pebble.core.say.counts import say_count
from brass_pebble.protocol.base import News
from brass_pebble.protocol.layers import CyclesBegun, First, LayerAdded, LayerSwitched
from brass_pebble.protocol.topics import DeskNews, LayersNews, PressNews, TraceNews
from brass_pebble.screen.base.desk_actions import SETTINGS, STOP, UNDO, VISITS, DeskActions, arrows
from brass_pebble.screen.base.finder import Finder
from brass_pebble.screen.base.sheets import AskText
from brass_pebble.screen.known import NO_CONTROL, NO_SURFACE, Known, Spot
from brass_pebble.screen.link import Asks
from brass_pebble.screen.switches import is_switch
from brass_pebble.screen.widgets.board import Board
from brass_pebble.screen.widgets.key_footer import KeyFooter
from brass_pebble.screen.widgets.path_bar import PathBar
from brass_pebble.screen.widgets.status_line import StatusLine
from brass_pebble.screen.widgets.surface_drawing import SurfaceDrawing

from .family import FamilySheet
from .gestures import GestureList
from .layer_panel import LayerPanel
from .sheets import NOW, LayerSheets

SIDE = 52
PLACES = {"copy": "copied", "move": "moved", "swap": "swapped"}


_SHEETS = "the sheets: what answers now, then layer by layer"
_THEN_WHERE = "copy, move, swap: then choose where, and Enter"


class SurfaceView(DeskActions):
    """Owns its work: sheets, selection of one or several controls, binding, rearranging."""

    NAME = "Surface"
    ALSO = (("press it", "a control pressed on the device itself is selected"),)
    DEFAULT_CSS = """
    SurfaceView { background: $background; }
    SurfaceView #body { height: 1fr; }
    SurfaceView #side { width: 52; background: $panel; padding: 0 1; }
    SurfaceView #board-box { width: 1fr; }
    SurfaceView #chosen { height: auto; max-height: 5; padding: 1 0; }
    SurfaceView #task { height: auto; max-height: 2; padding: 0 1; background: $primary; color: $background;
        display: none; }
    SurfaceView #task.shown { display: block; }
    SurfaceView #last { height: auto; max-height: 7; padding: 1 0; color: $text-muted; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        *arrows("select a control"),
        Binding("enter", "take", "bind", tooltip="bind its gesture; Tab leads to the gestures, ↑ ↓ choose one"),
        Binding("space", "press", "press it", tooltip="press it, if it is on the bench or pressed by hand"),
        Binding("P", "by_hand", "press by hand", show=False,
                tooltip="press this surface on the screen, even while its device is missing; again: stop"),
        Binding("b", "bind", "bind", show=False, tooltip="bind its press"),
        Binding("pagedown", "leaf(1)", "next layer", priority=True, tooltip=_SHEETS),
        Binding("pageup", "leaf(-1)", "sheet before", show=False, priority=True, tooltip=_SHEETS),
        Binding("greater_than_sign", "other(1)", "next surface", tooltip="another surface"),
        Binding("less_than_sign", "other(-1)", "surface before", show=False, tooltip="another surface"),
        Binding("l", "layer", "layer", tooltip="what is set for this layer"),
        Binding("n", "add_layer", "new layer", show=False, tooltip="a new layer on top"),
        Binding("o", "switch", "on / off", tooltip="switch this layer on or off"),
        Binding("w", "together", "with another", show=False, tooltip="bind it for while another control is held"),
        Binding("v", "mark", "several", tooltip="take several controls"),
        Binding("c", "copy", "copy", tooltip=_THEN_WHERE),
        Binding("m", "move", "move", show=False, tooltip=_THEN_WHERE),
        Binding("s", "swap", "swap", show=False, tooltip=_THEN_WHERE),
        Binding("h", "mirror", "mirror", show=False, tooltip="mirror: left and right change places"),
        Binding("f2", "whole('copy layer')", "copy the layer", show=False,
                tooltip="copy the whole layer to another one, on any surface"),
        Binding("f3", "whole('mirror layer')", "mirror the layer", show=False,
                tooltip="the same, with left and right exchanged"),
        Binding("delete", "clear", "clear", show=False),
        Binding("y", "free", "what is free", show=False, tooltip="what is free here?"),
        Binding("F", "family", "free chords", tooltip="free chords, for one or a whole family"),
        Binding("f", "find", "find", tooltip="find the control that plays a macro or sends a chord"),
        *SETTINGS,
        Binding("g", "pin", "pin layers", show=False, tooltip="pin the layers, whatever has the focus"),
        Binding("0", "first", "cycle to its first", show=False, tooltip="restart the control's cycle"), *UNDO, STOP,
        Binding("e", "explain", "explain", show=False, tooltip="explain its last press"),
        *VISITS, Binding("escape", "back", "back"),
    ]
    AUTO_FOCUS = "Board"

    def __init__(self, known: Known, link: Asks, surface: str = "", control: str = "", layer: str = "") -> None:
        super().__init__(known, link)
        self.surface_id = surface or next((s.id for s in known.desk.surfaces), "")
        self.sheet = layer
        self._first = control
        self._marked: list[str] = []
        self._narrow = False
        # What waits for a second place: how, from where.
        self._pending_task: tuple[str, list[list[str]]] | None = None
        # Whether this view took hands off for it.
        self._hands_are_off = False

    def compose(self) -> ComposeResult:
        """From top to bottom."""
        yield StatusLine(self.known)
        yield PathBar(self.known)
        yield LayerSheets()
        yield Static("", id="task", markup=False)
        with Horizontal(id="body"):
            with Vertical(id="board-box"):
                yield Board(self.known)
            with Vertical(id="side"):
                yield Static("", id="chosen", markup=False)
                yield GestureList()
                yield Static("", id="last", markup=False)
        yield KeyFooter()

    @property
    def board(self) -> Board:
        """The drawing."""
        return self.query_one(Board)

    @property
    def surface(self) -> SurfaceRow:
        """The surface that is shown."""
        return self.known.surface(self.surface_id) or NO_SURFACE

    @property
    def control(self) -> ControlRow:
        """The selected control."""
        return self.known.control(self.board.selected) or NO_CONTROL

    @property
    def layer_id(self) -> str:
        """The layer that is meant: the sheet's, or what answers on the selected control, or the topmost."""
        if self.sheet:
            return self.sheet
        on = [layer.id for layer in self.surface.layers if layer.on]
        return self.control.layer or (on[-1] if on else "")

    # News.

    async def show_all(self) -> None:
        """After connecting, or when the desk changed."""
        if not self.surface.id:
            self.surface_id = next((s.id for s in self.known.desk.surfaces), "")
        if self.sheet not in [layer.id for layer in self.surface.layers]:
            self.sheet = NOW
        board = self.board
        board.zoomed = self.surface_id
        if board.selected[0] != self.surface_id:
            controls = [control.id for control in self.surface.controls]
            board.selected = (self.surface_id, self._first if self._first in controls else
                              controls[0] if controls else "")
        self._share_room()
        await board.rebuild()
        self._show()

    async def take(self, message: News, changed: set[Spot]) -> None:
        """News of one topic, already in the state."""
        if isinstance(message, DeskNews):
            await self.show_all()
        elif isinstance(message, TraceNews):
            self._pressed(message.trace)
        elif isinstance(message, PressNews | LayersNews):
            self.board.refresh_spots(changed)
            if isinstance(message, LayersNews):
                self._show()
        self.query_one(StatusLine).redraw()

    def _pressed(self, trace: TraceRow) -> None:
        """A control was pressed: it is selected."""
        spot = (trace.surface, trace.control)
        if spot[0] == self.surface_id and not is_switch(trace) and self.known.control(spot) \
                and spot != self.board.selected and trace.id == self.known.traces[-1].id and trace.held_ms is None \
                and self.board.follow(spot, trace.at):
            self._show()
        elif spot == self.board.selected:
            self._show_side()
        self.board.refresh_spots({spot})

    def _show(self) -> None:
        for drawing in self.query(SurfaceDrawing):
            drawing.sheet = self.sheet
            drawing.marked = set(self._marked) if drawing.surface_id == self.surface_id else set()
        self.board.redraw_all()
        self.query_one(LayerSheets).show(self.surface, self.sheet, self.palette, self.size.width)
        self.query_one(PathBar).show(self.board.selected, following=not self.sheet)
        self.query_one(StatusLine).redraw()
        task = self.query_one("#task", Static)
        task.set_class(self._pending_task is not None or bool(self._marked), "shown")
        task.update(self._say_task())
        self._show_side()
        self._choose_without_firing()

    @work(group="choosing")
    async def _choose_without_firing(self) -> None:
        """While a place is chosen, a press on the device itself only chooses."""
        choosing = self._pending_task is not None
        if choosing == self._hands_are_off or (choosing and self.known.hands_off()):
            return
        self._hands_are_off = choosing
        await self.ask("hands_off" if choosing else "hands_on")

    def _say_task(self) -> str:
        if self._pending_task is not None:
            how, places = self._pending_task
            what = f"{say_count(len(places), 'control')}" if len(places) > 1 else f"{self._say_place(places[0])}"
            if how.endswith("layer"):
                return (f"{how.capitalize()} of {self._say_place(places[0])}to which one? PageDown and < > lead there, "
                        "Enter. Esc: cancel.")
            if how == "with":
                return f"{what} together with which control? Choose it (< > other surfaces), Enter. Esc: cancel."
            return f"{how.capitalize()} {what}: choose where (PgDn, < >: elsewhere), Enter. Esc: cancel."
        return (f"{say_count(len(self._marked), 'control')}: c copy, m move, h mirror, Delete clear, F free chords "
                "for all. "
                "v: deselect one, Esc: all.") if self._marked else ""

    def _say_place(self, place: list[str]) -> str:
        surface = self.known.surface(place[0])
        return f"{surface.name if surface else ''} {place[2]}"

    def _show_side(self) -> None:
        control, surface, palette = self.control, self.surface, self.palette
        chosen = self.query_one("#chosen", Static)
        if not control.id:
            chosen.update("No drawing yet. Press Esc, then i to draw it.")
            return
        layer = next((row.name for row in surface.layers if row.id == self.layer_id), "no layer")
        hint = "" if self._narrow else ("\nPress a control to select it (H first, so that nothing is sent). Enter or "
                                          "Tab: bind a gesture.")
        chosen.update(f"{surface.name} ▸ {control.legend}   in {layer}{hint}")
        self.query_one(GestureList).show(surface, control, self.sheet, palette)
        trace = self.known.last_trace_of(self.board.selected)
        self.query_one("#last", Static).update(f"Last: {trace.sentence}" if trace else
                                               "Not pressed yet.")

    def on_resize(self, event: events.Resize) -> None:
        """Share the room between the drawing and what stands beside it."""
        self.call_after_refresh(self._share_room)

    def _share_room(self) -> None:
        width, height = self.size
        narrow = width < 100
        self.query_one("#body").styles.layout = "vertical" if narrow else "horizontal"
        side, box = self.query_one("#side"), self.query_one("#board-box")
        side.styles.width, side.styles.height = ("100%", 6) if narrow else (SIDE, "100%")
        self.query_one("#last").display = not narrow
        self.query_one("#chosen").styles.padding = (0, 0) if narrow else (1, 0)
        self._narrow = narrow
        rows = height - 5 - (6 if narrow else 0)
        box.styles.height = rows if narrow else "100%"
        self.board.give_room(width if narrow else width - SIDE - 1, max(5, rows))

    # Selecting.

    def action_go(self, dx: int, dy: int) -> None:
        """Select the control next to the selected one."""
        self.board.choose(self.board.neighbour(dx, dy))
        self._show()

    @on(SurfaceDrawing.Pressed)
    def _mouse(self, message: SurfaceDrawing.Pressed) -> None:
        if message.down:
            self.board.focus()
            self.board.choose(message.spot)
            self._show()
            if self._pending_task is not None:
                self.action_take()

    def action_leaf(self, by: int) -> None:
        """The next sheet."""
        sheets = [NOW, *(layer.id for layer in self.surface.layers)]
        self.sheet = sheets[(sheets.index(self.sheet) + by) % len(sheets)]
        self._show()

    @on(LayerSheets.Opened)
    def _sheet(self, message: LayerSheets.Opened) -> None:
        self.sheet = message.layer
        self._show()

    async def action_other(self, by: int) -> None:
        """Another surface."""
        ids = [surface.id for surface in self.known.desk.surfaces]
        if ids:
            self.surface_id = ids[(ids.index(self.surface_id) + by) % len(ids)]
            self.sheet, self._marked, self._first = NOW, [], ""
            await self.show_all()

    def action_mark(self) -> None:
        """Take the selected control to those that are changed together, or out again."""
        control = self.board.selected[1]
        if control:
            (self._marked.remove if control in self._marked else self._marked.append)(control)
            self._show()

    def action_free(self) -> None:
        """Mark every control on which nothing is bound."""
        on = [self.sheet] if self.sheet else [layer.id for layer in self.surface.layers]
        free = [control.id for control in self.surface.controls
                if what_does(control.id, self.surface.layers, on) == NOTHING]
        self._marked = [] if self._marked == free else free
        where = "in this layer" if self.sheet else "in any layer"
        self.notify(f"{len(free)} {'control is' if len(free) == 1 else 'controls are'} free {where}.", timeout=4)
        self._show()

    @work(exclusive=True, group="find")
    async def action_find(self) -> None:
        """Which control plays this macro, sends that chord?"""
        found = await self.app.push_screen_wait(Finder(self.known))
        if found is not None:
            self.surface_id, self.sheet, self._marked = found.surface, found.layer, []
            self.board.selected = (found.surface, found.control)
            await self.show_all()

    # Binding.

    def _places(self) -> list[list[str]]:
        controls = self._marked or [self.board.selected[1]]
        return [[self.surface_id, self.layer_id, control] for control in controls if control]

    def action_take(self) -> None:
        """Bind the press of the selected control; or end what waits for a place."""
        if self._pending_task is None:
            self._bind(self.query_one(GestureList).chosen)
            return
        how, places = self._pending_task
        self._pending_task = None
        if how == "with":
            surface, control = self.board.selected
            own = surface == places[0][0]
            self._bind_at(places[0], f"with {control}" if own else f"with {surface}/{control}")
        else:
            control = "" if how.endswith("layer") else self.board.selected[1]
            self._rearrange(how, places, [self.surface_id, self.layer_id, control])
        self._show()

    def action_bind(self) -> None:
        """Bind the highlighted gesture."""
        self._bind(self.query_one(GestureList).chosen)

    @on(GestureList.Chosen)
    def _gesture(self, message: GestureList.Chosen) -> None:
        self._bind(message.gesture)

    def _bind(self, gesture: str) -> None:
        if self.board.selected[1]:
            self._bind_at([self.surface_id, self.layer_id, self.board.selected[1]], gesture)

    @work(exclusive=True, group="edit")
    async def _bind_at(self, place: list[str], gesture: str) -> None:
        await self.bind((place[0], place[2]), layer=place[1], gesture=gesture or PRESS)

    def action_together(self) -> None:
        """Bind the selected control for while another one is held."""
        self._begin("with", self._places()[:1])

    def action_copy(self) -> None:
        """Copy what is bound to another place."""
        self._begin("copy", self._places())

    def action_move(self) -> None:
        """Move what is bound to another place."""
        self._begin("move", self._places())

    def action_whole(self, how: str) -> None:
        """Copy this sheet's whole layer to another layer, of this surface or another one, as it is or mirrored."""
        self._begin(how, [[self.surface_id, self.layer_id, ""]])

    def action_swap(self) -> None:
        """Let two places change what is bound."""
        self._begin("swap", self._places()[:1])

    def _begin(self, how: str, places: list[list[str]]) -> None:
        if places:
            self._pending_task, self._marked = (how, places), []
            self._show()

    def action_mirror(self) -> None:
        """Left and right change places: the marked controls, or the whole layer."""
        places = self._places() if len(self._marked) > 1 else [[self.surface_id, self.layer_id, ""]]
        self._rearrange("mirror", places)

    def action_clear(self) -> None:
        """Clear the selected control, or all marked ones."""
        self._rearrange("clear", self._places())

    @work(group="edit")
    async def _rearrange(self, how: str, places: list[list[str]], to: list[str] | None = None) -> None:
        reply = await self.change("rearrange", how=how, places=places, **({"to": to} if to else {}))
        self._marked = []
        if reply:
            self.notify("Saved. u: undo.", title=reply.words, timeout=4)
        self._show()

    @work(exclusive=True, group="edit")
    async def action_family(self) -> None:
        """Chords that nothing takes: for the selected control, or a whole family for the marked ones."""
        places = self._places()
        if not places:
            return
        label = self.control.label if len(places) == 1 else ""
        chords = await self.app.push_screen_wait(FamilySheet(len(places), label, self.ask, places))
        if chords and (reply := await self.change("bind_family", places=places, chords=chords)):
            self._marked = []
            self.notify("Saved. u: undo.", title=reply.words, timeout=4)

    # Layers.

    def action_layer(self) -> None:
        """What is set for the layer of this sheet."""
        if layer := self.layer_id:
            self.app.push_screen(LayerPanel(self.surface_id, layer, self.known, self.ask))

    @work(exclusive=True, group="layer")
    async def action_add_layer(self) -> None:
        """Add a layer on top."""
        made = ""

        async def add(name: str) -> str:
            nonlocal made
            reply, wrong = await self.ask_or_say("add_layer", surface=self.surface_id, name=name)
            made = reply.layer if isinstance(reply, LayerAdded) else ""
            return wrong
        await self.app.push_screen_wait(AskText("A new layer", f"Name of the new layer. It starts empty, on top of "
                                                               "the other layers of "
                                         f"{self.surface.name}.", save=add))
        if made:
            self.sheet = made
            await self.show_all()

    @work(group="layer")
    async def action_switch(self) -> None:
        """Switch the layer of this sheet on or off, by hand."""
        reply = await self.ask("layer", surface=self.surface_id, layer=self.layer_id)
        if isinstance(reply, LayerSwitched):
            self.notify(reply.words, timeout=3)

    @work(group="layer")
    async def action_first(self) -> None:
        """Begin the control's cycle again."""
        surface, control = self.board.selected
        if reply := await self.query_engine(CyclesBegun, First(surface=surface, control=control)):
            self.notify("The cycle starts again." if reply.count else "No cycle is under way.", timeout=3)

    def here(self) -> Spot:
        return self.board.selected

    def action_settings(self) -> None:
        """What is set for this surface; draw it again, try it, take it off the desk."""
        self.surface_settings(self.surface_id)

    # The rest.

    def action_explain(self) -> None:
        """The last press of the selected control, hop by hop."""
        self.explain_last(self.board.selected)

    def action_by_hand(self) -> None:
        """Let the screen press this surface though it is real, or no longer."""
        self.press_by_hand(self.surface_id)
        self.board.redraw_all()

    def action_press(self) -> None:
        """Press the selected control, if it is on the bench or pressed by hand."""
        self.tap(self.board.selected)

    @on(PathBar.Opened)
    def _door(self, message: PathBar.Opened) -> None:
        self.board.focus()
        if message.door == "binding":
            self.action_bind()
        elif message.door == "trace":
            self.action_explain()

    async def action_back(self) -> None:
        """Out of a task or of the marks, or back to the view before."""
        if self._pending_task is not None or self._marked:
            self._pending_task, self._marked = None, []
            self._show()
        else:
            # The desk goes on with the control that was looked at here.
            self.app.desk_view.show_spot(self.board.selected)  # type: ignore[attr-defined]
            await self.action_leave()
