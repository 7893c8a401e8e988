"""The Desk view: every surface drawn as the thing it is, the stage, and the latest traces as sentences."""

from __future__ import annotations

from typing import Any, ClassVar

from textual import events, on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.widgets import Static

from brass_pebble.core.desk.action import CHOOSE, NEXT, PREVIOUS
from brass_pebble.core.desk.look.drawn import SurfaceRow
from brass_pebble.core.macro.naming import with_name
from brass_pebble.core.play.told import TraceRow
from brass_pebble.core.say.counts import say_count
from brass_pebble.protocol.base import News
from brass_pebble.protocol.desk import SurfaceStates
from brass_pebble.protocol.macros import MacroWritten
from brass_pebble.protocol.rows import ProblemRow
from brass_pebble.protocol.topics import (
    DeskNews,
    HandsOffNews,
    LayersNews,
    ProblemNews,
    RecorderNews,
    ScriptNews,
    StageNews,
    TraceNews,
)
from brass_pebble.screen.base.desk_actions import SETTINGS, STOP, UNDO, DeskActions, arrows
from brass_pebble.screen.base.finder import Finder
from brass_pebble.screen.base.look_sheet import LETTERS, MEANS, LookSheet
from brass_pebble.screen.base.sheets import Choose, Sheet, problem_list
from brass_pebble.screen.known import Known, Spot
from brass_pebble.screen.link import Asks
from brass_pebble.screen.macro.picker import MacroPicker
from brass_pebble.screen.outside import Reopen
from brass_pebble.screen.switches import is_switch
from brass_pebble.screen.widgets.board import Board
from brass_pebble.screen.widgets.key_footer import KeyFooter
from brass_pebble.screen.widgets.path_bar import PathBar
from brass_pebble.screen.widgets.stage_panel import StagePanel
from brass_pebble.screen.widgets.status_line import StatusLine
from brass_pebble.screen.widgets.surface_drawing import SurfaceDrawing
from brass_pebble.screen.widgets.trace_list import TraceList

from .tour import STEPS, Tour, step_now

STRIDE = 0.5
# With so many steps of the tour done, a desk is nobody's first one.
BEGUN = 2
LEAST_TRACE_ROWS = 4


# What the menu of a control has, by the action that it stands for.
DEEDS = (
    ("tap", "press it"), ("latch", "hold it down, or let it go"), ("bind", "bind: give it an action"),
    ("clear", "clear it"),
    ("open_macro", "open its macro, or choose one"), ("explain", "explain its last press"),
    ("layers", "its layers and gestures"), ("curve", "its curve"), ("visit('labels')", "labels of this surface"),
    ("settings", "settings of this surface"), ("by_hand", "press this surface on the screen, or no longer"),
    ("toggle_rest", "let this surface rest, or wake it"),
)
_TURN = "turn or push what moves, on the bench"


class DeskView(DeskActions):
    """Owns its work: selection, pressing on the bench, binding, undo."""

    NAME = "Desk"
    ALSO = (("mouse", "a drawn key is down for as long as the button is"),
            ("Tab", "to the path bar, the traces, and back"), ("Ctrl+P", "find a command by name"))
    DEFAULT_CSS = """
    DeskView { background: $background; }
    DeskView #caption { height: auto; max-height: 2; padding: 0 1; background: $panel; color: $primary;
        text-style: italic; display: none; }
    DeskView #caption.shown { display: block; }
    DeskView #trouble { height: auto; padding: 0 1; background: $error; color: $background; display: none; }
    DeskView #trouble.shown { display: block; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        # The way out stands where no footer is too narrow for it.
        Binding("q", "app.quit", "quit", tooltip="quit; the engine goes on if it ran before"),
        Binding("k", "keep", "keep it", tooltip="keep what was taken over on trial"),
        *arrows("select a control"),
        Binding("enter", "tap", "press", tooltip="press it"),
        Binding("space", "latch", "hold / let go", tooltip="hold it down; again: let it go"),
        Binding("b", "bind", "bind", tooltip="give it another action"),
        Binding("delete", "clear", "clear", show=False, tooltip="clear it"), *UNDO, STOP,
        Binding("W", "watch", "watch a class", tooltip="watch a minute of the class"),
        Binding("e", "explain", "explain", tooltip="explain its last press, step by step"),
        Binding("P", "by_hand", "press by hand", show=False,
                tooltip="press this surface on the screen; again: no longer"),
        Binding("o", "toggle_rest", "rest / wake", show=False,
                tooltip="rest or wake the surface; one that was refused, on trial"),
        Binding("M", "visit('meet')", "meet a device",
                tooltip="meet a device: press a key on it, take it over"),
        *SETTINGS,
        Binding("m", "arrange", "arrange", show=False,
                tooltip="arrange: move the selected surface with the arrows"),
        Binding("O", "open_macro", "macros", tooltip="the control's macro, all macros, or a new one"),
        Binding("l", "layers", "layers",
                tooltip="the surface in full size: layers, gestures"),
        Binding("K", "visit('clashes')", "clashes",
                tooltip="conflicts, and bindings that never fire"),
        Binding("f", "find", "find", show=False, tooltip="find the control that plays a macro or sends a chord"),
        Binding("g", "pin", "pin the layers", show=False,
                tooltip="pin the layers, whatever has the focus"),
        Binding("j", "next_program", "next program on the stage", show=False,
                tooltip="give the next program on the stage the focus"),
        Binding("C", "visit('checkup')", "checkup", show=False,
                tooltip="checkup: problems on this machine and how to fix them"),
        Binding("a", "accept", "accept the debounce", show=False,
                tooltip="accept the suggested debounce time"),
        Binding("p", "problems", "problems", show=False, tooltip="errors in the desk's files"),
        Binding("t", "look", "look", show=False, tooltip="theme, letters, and the signs that this terminal draws"),
        Binding("T", "letters", "large letters", show=False, tooltip="labels large where there is room, or plain"),
        Binding("z", "zoom", "zoom", show=False, tooltip="one surface large, the whole desk, its row"),
        Binding("pagedown", "row(1)", "next row", show=False, tooltip="the next row, the row before"),
        Binding("pageup", "row(-1)", "row before", show=False, tooltip="the next row, the row before"),
        Binding("left_square_bracket", "turn(-1, 0)", "turn left", show=False, tooltip=_TURN),
        Binding("right_square_bracket", "turn(1, 0)", "turn right", show=False, tooltip=_TURN),
        Binding("left_curly_bracket", "turn(-1, 1)", "push up", show=False, tooltip=_TURN),
        Binding("right_curly_bracket", "turn(1, 1)", "push down", show=False, tooltip=_TURN),
        Binding("backslash", "centre", "let the stick go", show=False, tooltip=_TURN),
        Binding("Y", "curve", "curve", show=False, tooltip="the curve of what moves"),
        Binding("N", "visit('network')", "network", show=False, tooltip="devices of the network"),
        Binding("L", "visit('labels')", "labels", show=False, tooltip="labels to print"),
        Binding("U", "visit('usage')", "usage", show=False, tooltip="usage, and better places"),
        Binding("V", "visit('versions')", "versions", show=False, tooltip="earlier versions of the desk"),
        Binding("S", "visit('values')", "values", show=False, tooltip="the values that macros keep"),
        Binding("J", "visit('phrases')", "phrases", show=False, tooltip="what is said, and what was heard"),
        Binding("ctrl+t", "tour", "tour", show=False, tooltip="the tour of five steps: hide it, or show it"),
        Binding("B", "bench", "bench", show=False,
                tooltip="try this desk on simulated devices, or leave the bench"),
        Binding("E", "give", "export", show=False, tooltip="export the desk as one file"),
        Binding("I", "take_in", "import", show=False, tooltip="import a file from somebody else"),
        Binding("G", "visit('asleep')", "guests", show=False, tooltip="imported steps that wait for your approval"),
        Binding("escape", "end_recording", "cancel", show=False, tooltip="end a recording without keeping it"),
    ]

    AUTO_FOCUS = "Board"

    def __init__(self, known: Known, link: Asks) -> None:
        super().__init__(known, link)
        self._followed = 0
        self._latched: set[Spot] = set()
        self._arranging = ""
        self._blank = ""
        # Whether the path is shown as soon as what was drawn before it is on the screen.
        self._path_is_due = False
        # The step of the tour that was shown last; -1 before anything is known.
        self._toured = -1

    def compose(self) -> ComposeResult:
        """From top to bottom."""
        yield StatusLine(self.known)
        yield PathBar(self.known)
        yield Tour()
        yield Static("", id="trouble", markup=False)
        yield Board(self.known)
        yield Static("", id="caption", markup=False)
        yield TraceList(self.known)
        yield KeyFooter()

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the sample has a class to watch; only what is on trial can be kept."""
        if action == "keep":
            return self._on_trial() is not None
        return bool(self.known.desk.script) if action == "watch" else True

    # News of the engine.

    async def show_all(self) -> None:
        """After connecting, or when the desk changed."""
        self._share_room()
        await self.query_one(Board).rebuild()
        self.query_one(StatusLine).redraw()
        self.query_one(TraceList).redraw()
        self._show_path()
        self._show_trouble()
        self._show_tour()
        self.refresh_bindings()

    # The tour of the first time.

    def _show_tour(self) -> None:
        known = self.known
        if not known.tour or not known.connected:
            self.query_one(Tour).show(0, wanted=False)
            return
        now = step_now(known)
        if self._toured < 0 and (now >= BEGUN or any(surface.bench for surface in known.desk.surfaces)):
            # A desk that is in use already, or the demo: nobody's first time.
            known.tour = False
        elif now == len(STEPS):
            known.tour = False
            self._remember()
            self.notify("Press ? for the keys of any view. In a terminal, brass-pebble help has more.",
                        title="That was the tour", timeout=8)
        self._toured = now
        self.query_one(Tour).show(now, wanted=known.tour)

    @on(Tour.Hidden)
    def action_tour(self) -> None:
        """Hide the tour, or show it again."""
        self.known.tour = not self.known.tour
        self._toured = 0
        self.known.stopped = False
        self._remember()
        self._show_tour()

    def after_stop(self) -> None:
        self._show_tour()

    async def take(self, message: News, changed: set[Spot]) -> None:
        """News of one topic, already in the state."""
        match message:
            case DeskNews():
                await self.show_all()
            case StageNews():
                self.query_one(Board).redraw_stage()
            case ScriptNews():
                self._show_caption()
            case RecorderNews():
                self._show_trouble()
            case HandsOffNews():
                self._show_status()
            case ProblemNews():
                self._show_trouble()
                self.query_one(StatusLine).redraw()
            case _:
                self._show_presses(message, changed)
                if isinstance(message, LayersNews):
                    self._show_path()

    def _show_presses(self, message: News, changed: set[Spot]) -> None:
        board = self.query_one(Board)
        if isinstance(message, TraceNews):
            trace = message.trace
            spot = (trace.surface, trace.control)
            if (spot[0] and not is_switch(trace) and self.known.control(spot) and trace.id > self._followed
                    and trace.id == self.known.traces[-1].id):
                self._followed = trace.id
                board.follow(spot, trace.at)
            self._offer(trace)
            self.query_one(TraceList).redraw()
            if self.known.tour:
                self._show_tour()
            if spot == board.selected:
                self._show_path()
        board.refresh_spots(changed)
        self._show_status()

    def _offer(self, trace: TraceRow) -> None:
        """A blank control was pressed: it can be bound there and then."""
        control = self.known.control((trace.surface, trace.control))
        blank = control is not None and trace.why.startswith("nothing bound") and not control.gestures
        said = f"○ {trace.surface_name} {control.legend} is not bound. b: bind." if control and blank else ""
        if said != self._blank:
            self._blank = said
            self._show_trouble()

    def _show_status(self) -> None:
        status = self.query_one(StatusLine)
        status.note = self.query_one(Board).row_name()
        status.redraw()

    def _show_path(self) -> None:
        self._path_is_due = False
        self._show_status()
        self.query_one(PathBar).show(self.query_one(Board).selected, following=True)

    def _show_caption(self) -> None:
        caption = self.query_one("#caption", Static)
        script = self.known.script
        caption.set_class(script.running, "shown")
        if script.running:
            at, length = int(script.at_ms / 1000), int(script.length_ms / 1000)
            caption.update(f"{at:>3} of {length} s   {script.caption}   (W ends it)")
        self.call_after_refresh(self._share_room)

    def _show_trouble(self) -> None:
        trouble = self.query_one("#trouble", Static)
        text = ""
        if not (self.known.connected or self.known.starting):
            text = ("✗ The engine has ended. No key is down, and every device works normally. R: start it again. "
                    "q: quit.")
        elif self._recording():
            text = self._recording()
        elif self._arranging:
            text = "✥ Move this surface with the arrows. Enter: done."
        elif on_trial := self._on_trial():
            text = f"◔ {on_trial.name} is on trial: it is given back after ten seconds. k: keep it."
        elif question := self.known.surface(self.known.desk.question):
            on_bench = bool(question.ask) and all(row.device.startswith("bench/") for row in question.ask)
            text = (f"? Which device is “{question.name}”? {question.why[:1].upper()}{question.why[1:]}"
                    + (" (on the bench: M shows the devices)." if on_bench else "."))
        elif self.known.problems:
            first = self.known.problems[0]
            place = f"{first.file}, line {first.line}: " if first.line else ""
            text = f"✗ {place}{first.what}. {first.hint}   (p shows all)"
        else:
            text = self._blank or next((_say_chatter(s) for s in self.known.desk.surfaces if s.chatter), "")
        trouble.update(text)
        trouble.set_class(bool(text), "shown")
        self.call_after_refresh(self._share_room)

    def _recording(self) -> str:
        """What the recording wants, while one goes on."""
        recorder = self.known.desk.recorder
        if recorder.state == "choose":
            return "● RECORD: press the key that should play this macro. Record again, Esc or x: cancel."
        if recorder.state == "recording":
            surface = self.known.surface(recorder.surface)
            name = surface.name if surface else ""
            what = "what the surfaces send and the keyboard types" if recorder.keyboard else \
                "what the surfaces send"
            return (f"● RECORDING onto {name} {recorder.control}: {what}. Press record again to save; at once, to "
                    "clear that key. Esc or x: cancel.")
        return ""

    def on_resize(self, event: events.Resize) -> None:
        """Share the rows between drawings and traces."""
        self.call_after_refresh(self._share_room)

    def _share_room(self) -> None:
        width, height = self.size
        taken = 3 + 1 + sum(self.query_one(name).size.height for name in ("#trouble", "#caption")
                            if self.query_one(name).has_class("shown"))
        rows = height - taken
        # A single surface is what the desk is for; of several, the traces tell which did what.
        most, board = rows - LEAST_TRACE_ROWS, self.query_one(Board)
        several = len(self.known.desk.surfaces) > 1 and not board.zoomed
        board.give_room(width, max(6, min(most, int(rows * 0.78)) if several and rows > 26 else most))

    # Selecting and pressing.

    def action_go(self, dx: int, dy: int) -> None:
        """Select the control next to the selected one."""
        board = self.query_one(Board)
        if self._arranging and (surface := self.known.surface(self._arranging)):
            self.known.move_surface(surface.id, [max(0.0, surface.at[0] + dx * STRIDE),
                                                 max(0.0, surface.at[1] + dy * STRIDE)])
            board.place_all()
            return
        board.choose(board.neighbour(dx, dy))
        # What was chosen is seen first; each of the two is a small part of the screen, together they are most of it.
        if not self._path_is_due:
            self._path_is_due = True
            self.call_after_refresh(self._show_path)

    def action_tap(self) -> None:
        """Press the selected control and let it go."""
        if self._arranging:
            self.action_arrange()
            return
        spot = self.query_one(Board).selected
        if spot in self._latched:
            self.action_latch()
            return
        self.tap(spot)

    def action_latch(self) -> None:
        """Hold the selected control down until this is asked again."""
        spot = self.query_one(Board).selected
        down = spot not in self._latched
        (self._latched.add if down else self._latched.discard)(spot)
        for drawing in self.query(SurfaceDrawing):
            drawing.latched = {control for surface, control in self._latched if surface == drawing.surface_id}
        self.press(spot, down=down)

    @on(SurfaceDrawing.Pressed)
    def _mouse(self, message: SurfaceDrawing.Pressed) -> None:
        spot = message.spot
        board = self.query_one(Board)
        if message.down:
            board.focus()
            board.choose(spot)
            self._show_path()
        if spot not in self._latched:
            self.press(spot, down=message.down)

    def switch(self, deed: str) -> bool:
        """What a switch does here: one control after the other, and what can be done with it."""
        board = self.query_one(Board)
        spots = [(surface.id, control.id) for surface in self.known.desk.surfaces for control in surface.controls]
        if deed in (NEXT, PREVIOUS) and spots:
            here = spots.index(board.selected) if board.selected in spots else -1
            board.choose(spots[(here + (1 if deed == NEXT else -1)) % len(spots)])
            self._show_path()
            return True
        if deed == CHOOSE:
            self._offer_deeds()
        return deed == CHOOSE

    @on(SurfaceDrawing.Asked)
    def _asked(self, message: SurfaceDrawing.Asked) -> None:
        self.query_one(Board).choose(message.spot)
        self._show_path()
        self._offer_deeds()

    @work(exclusive=True, group="deeds")
    async def _offer_deeds(self) -> None:
        """What can be done with the selected control, to choose from by mouse or arrows."""
        spot = self.query_one(Board).selected
        surface, control = self.known.surface(spot[0]), self.known.control(spot)
        if surface is None or control is None:
            return
        deeds = [(action, words) for action, words in DEEDS
                 if action != "curve" or control.moves]
        chosen = await self.app.push_screen_wait(Choose(
            f"{surface.name} ▸ {control.legend}", control.words or "nothing bound", [words for _, words in deeds]))
        if chosen >= 0:
            await self.run_action(deeds[chosen][0])

    @on(SurfaceDrawing.Turned)
    def _turned(self, message: SurfaceDrawing.Turned) -> None:
        self.query_one(Board).choose(message.spot)
        if message.to:
            self.move(message.spot, to=message.to)
        else:
            self.turn(message.spot, message.steps)

    def action_turn(self, steps: int, axis: int) -> None:
        """Turn the selected control, or push it."""
        self.turn(self.query_one(Board).selected, steps, axis=axis)

    def action_centre(self) -> None:
        """Let a stick go back to its middle."""
        spot = self.query_one(Board).selected
        row = self.known.control(spot)
        if row is not None and row.centred:
            self.known.at[spot] = [0.0] * row.moves
            self.move(spot, to=[0.0] * row.moves)

    def action_row(self, by: int) -> None:
        """Show the next row of the desk."""
        board = self.query_one(Board)
        board.choose(board.go_to_row(by))
        self._show_path()

    # Changing the desk.

    @work(exclusive=True, group="edit")
    async def action_bind(self) -> None:
        """Give the selected control another action."""
        await self.bind(self.query_one(Board).selected)

    @work(exclusive=True, group="edit")
    async def action_clear(self) -> None:
        """Take the selected control's action away."""
        surface, control = self.query_one(Board).selected
        row = self.known.control((surface, control))
        if row is not None and row.kind:
            await self.ask("rearrange", how="clear", places=[[surface, row.layer, control]])

    # The rest.

    def before_stop(self) -> None:
        """Let go what is held down here."""
        for spot in list(self._latched):
            self.press(spot, down=False)
        self._latched.clear()
        for drawing in self.query(SurfaceDrawing):
            drawing.latched = set()

    def action_by_hand(self) -> None:
        """Let the screen press the selected surface though it is real, or no longer."""
        board = self.query_one(Board)
        self.press_by_hand(board.selected[0])
        board.redraw_all()

    @work(group="rest")
    async def action_toggle_rest(self) -> None:
        """Let the selected surface type normally, or act again."""
        surface = self.known.surface(self.query_one(Board).selected[0])
        if surface is not None:
            reply = await self.ask("wake" if surface.state in ("resting", "refused") else "rest", surface=surface.id)
            if surface.state == "refused" and isinstance(reply, SurfaceStates) and \
                    reply.states.get(surface.id) == "refused":
                # Something else keeps it from being taken than that somebody may need it.
                self.notify(f"{surface.why}.", title=surface.name, timeout=10)

    def _on_trial(self) -> SurfaceRow | None:
        return next((surface for surface in self.known.desk.surfaces if surface.trial), None)

    @work(group="keep")
    async def action_keep(self) -> None:
        """Keep the device that was taken over on trial."""
        if (surface := self._on_trial()) is not None:
            await self.ask("keep", surface=surface.id)

    @work(group="record")
    async def action_end_recording(self) -> None:
        """Cancel the recording that goes on."""
        if self.known.desk.recorder.state != "idle":
            await self.ask("cancel_recording")

    @work(group="watch")
    async def action_watch(self) -> None:
        """Watch the scripted class, or end it."""
        await self.ask("script", run=not self.known.script.running)

    def action_zoom(self) -> None:
        """The selected surface large; the whole desk, if it has more rows than are shown; its row again."""
        board = self.query_one(Board)
        if board.zoomed:
            board.zoomed, board.whole = "", len(board.shape.rows) > 1
        elif board.whole:
            board.whole = False
        else:
            board.zoomed = board.selected[0]
        self._share_room()
        board.place_all()
        self._show_status()

    def action_look(self) -> None:
        """How this screen looks: the theme, the letters on the caps, the signs of this terminal."""
        self.app.push_screen(LookSheet(self._look_again))

    def action_letters(self) -> None:
        """Labels large where there is room, large wherever it can be, or plain: they can be copied and read aloud."""
        self.known.letters = LETTERS[(LETTERS.index(self.known.letters) + 1) % len(LETTERS)]
        self._remember()
        self.query_one(Board).redraw_all()
        self.notify(MEANS[self.known.letters], title="Letters on the caps", timeout=4)

    def _look_again(self) -> None:
        """Draw everything again."""
        self.query_one(Board).redraw_all()
        self.query_one(StatusLine).redraw()
        self.query_one(TraceList).redraw()
        self.query_one(PathBar).redraw()

    def _remember(self) -> None:
        self.app.remember()  # type: ignore[attr-defined]

    def action_explain(self) -> None:
        """The last press of the selected control, hop by hop."""
        self.explain_last(self.query_one(Board).selected)

    def action_problems(self) -> None:
        """What is wrong with the desk's files."""
        missing = [ProblemRow(what=s.why or s.state, file=s.name)
                   for s in self.known.desk.surfaces if s.state != "taken"]
        self.app.push_screen(Sheet("Problems", problem_list([*self.known.problems, *missing], self.palette)))


    # Devices: meeting them, and what is set for a surface.

    def more_help(self) -> list[tuple[str, str]]:
        return [("files", f"{self.known.desk.folder}, in any editor; live when saved")]

    # Layers, clashes, finding.

    def action_curve(self) -> None:
        """How the selected control's position is read."""
        self.open_curve(self.query_one(Board).selected)

    def action_layers(self) -> None:
        """The selected surface large, with its layers and gestures."""
        surface, control = self.query_one(Board).selected
        if not self.known.desk.surfaces:
            self.notify("No surfaces yet. M: meet a device.", timeout=4)
            return
        self.app.open_view("surface", surface=surface, control=control)  # type: ignore[attr-defined]

    @work(group="bench", exclusive=True)
    async def action_bench(self) -> None:
        """Begin again with this desk on simulated devices, or on its real ones."""
        app: Any = self.app
        folder = self.known.desk.folder
        if app.on_bench:
            chosen = await self.app.push_screen_wait(Choose(
                "Leave the bench", "The screen opens again with your own devices and programs.",
                ["Leave the bench", "Cancel"]))
            if chosen == 0:
                self.app.exit(Reopen("--desk", folder))
        elif all(surface.bench for surface in self.known.desk.surfaces) and self.known.desk.surfaces:
            self.notify("All devices of this desk are simulated already.", timeout=4)
        elif app.restart is None:
            self.notify("The engine of this desk runs without this screen, perhaps for a show. End it first with: "
                        f"brass-pebble stop --quit --desk {folder}", timeout=8)
        else:
            chosen = await self.app.push_screen_wait(Choose(
                "On the bench", "The screen opens again with this desk on simulated devices. Your own devices type "
                "normally meanwhile, and nothing reaches your programs.", ["Put it on the bench", "Cancel"]))
            if chosen == 0:
                self.app.exit(Reopen("demo", "--desk", folder))

    @work(group="parcel", exclusive=True)
    async def action_take_in(self) -> None:
        """Look at what somebody gave, before anything changes."""
        from brass_pebble.screen.giving.opening import open_parcel
        await open_parcel(self)

    @work(group="parcel", exclusive=True)
    async def action_give(self) -> None:
        """Pack the desk, or a surface, for somebody else."""
        from brass_pebble.screen.giving.opening import give
        await give(self, self.query_one(Board).selected)

    @work(exclusive=True, group="find")
    async def action_find(self) -> None:
        """Which control plays this macro, sends that chord?"""
        found = await self.app.push_screen_wait(Finder(self.known))
        if found is not None:
            self.app.open_view("surface", surface=found.surface, control=found.control,  # type: ignore[attr-defined]
                               layer=found.layer)

    @work(group="layer")
    async def action_next_program(self) -> None:
        """Give the next program on the stage the focus."""
        ids = [program.id for program in self.known.programs]
        at = next((index for index, program in enumerate(self.known.programs) if program.focused), -1)
        if ids:
            await self.ask("focus", stage=ids[(at + 1) % len(ids)])

    @on(StagePanel.Clicked)
    def _stage_clicked(self, message: StagePanel.Clicked) -> None:
        self._focus_program(message.program)

    @work(group="layer")
    async def _focus_program(self, program: str) -> None:
        await self.ask("focus", stage=program)

    @work(exclusive=True, group="macro")
    async def action_open_macro(self) -> None:
        """Open the macro of the selected control, or choose one, or begin a new one."""
        spot = self.query_one(Board).selected
        control = self.known.control(spot)
        if control and control.kind == "play":
            self.app.open_view("macro", macro=control.target, spot=spot)  # type: ignore[attr-defined]
            return
        macro_id, name = await self.app.push_screen_wait(MacroPicker(self.known))
        if name:
            reply = await self.ask("write_macro", name=name, text=with_name("\n", name))
            macro_id = reply.macro if isinstance(reply, MacroWritten) else ""
        if macro_id:
            self.app.open_view("macro", macro=macro_id)  # type: ignore[attr-defined]

    def here(self) -> Spot:
        return self.query_one(Board).selected

    def action_settings(self) -> None:
        """What is set for the selected surface; draw it again, try it, take it off the desk."""
        self.surface_settings(self._chosen_surface())

    def _chosen_surface(self) -> str:
        selected = self.query_one(Board).selected[0]
        return selected or next((s.id for s in self.known.desk.surfaces), "")

    def show_surface(self, surface_id: str) -> None:
        """Select a surface's first control, as after meeting it."""
        surface = self.known.surface(surface_id)
        if surface and surface.controls:
            self.query_one(Board).choose((surface_id, surface.controls[0].id))
            self._show_path()

    def show_spot(self, spot: Spot) -> None:
        """Select a control, as another view left it."""
        if self.known.control(spot):
            self.query_one(Board).choose(spot)
            self._show_path()

    @work(exclusive=True, group="edit")
    async def action_arrange(self) -> None:
        """Move the selected surface's drawing with the arrows, to where the thing stands on the real desk."""
        if self._arranging:
            await self._end_arranging()
        elif surface := self._chosen_surface():
            self._arranging = surface
            self.notify("Move this surface with the arrows. Enter: done.", timeout=5)
            self._show_trouble()

    async def _end_arranging(self) -> None:
        surface = self.known.surface(self._arranging)
        self._arranging = ""
        self._show_trouble()
        if surface is not None:
            await self.ask("set", surface=surface.id, what="at", value=list(surface.at))

    @work(exclusive=True, group="edit")
    async def action_accept(self) -> None:
        """Take the debounce time that is offered for a switch that bounces."""
        for surface in self.known.desk.surfaces:
            if surface.chatter:
                await self.ask("set", surface=surface.id, what="debounce", value=surface.chatter.offer)
                return

    @on(PathBar.Opened)
    def _door(self, message: PathBar.Opened) -> None:
        board = self.query_one(Board)
        board.focus()
        if message.door == "binding":
            self.action_bind()
        elif message.door == "macro":
            self.action_open_macro()
        elif message.door == "trace":
            self.action_explain()
        elif message.door == "surface":
            self.action_zoom()

    @on(TraceList.Opened)
    def _trace_opened(self, message: TraceList.Opened) -> None:
        self.show_trace(message.trace)


def _say_chatter(surface: SurfaceRow) -> str:
    chatter = surface.chatter
    if chatter is None:
        return ""
    return (f"~ {surface.name} {chatter.control} bounced {say_count(chatter.times, 'time')} in "
            f"{say_count(chatter.presses, 'press')}: a worn "
            f"switch. a: believe a release only after {chatter.offer}.")
