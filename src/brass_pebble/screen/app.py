"""The application: connects to the engine and chooses the view; each view owns its own work."""

from __future__ import annotations

import asyncio
import gc
import signal
from collections.abc import Callable, Iterable, Sequence
from importlib import import_module
from pathlib import Path
from typing import Any, ClassVar

from msgspec.structs import replace
from rich.console import RenderableType
from textual import constants
from textual._compositor import CompositorUpdate
from textual.app import App, SystemCommand
from textual.binding import Binding, BindingType
from textual.color import Color
from textual.command import Provider
from textual.filter import LineFilter
from textual.screen import Screen

from brass_pebble.client import EngineError, StartError
from brass_pebble.core.label.block_letters import block_label
from brass_pebble.core.say.counts import say_count
from brass_pebble.protocol.asking import QuestionRow
from brass_pebble.protocol.base import News
from brass_pebble.protocol.desk import AskDesk, AskTraces, Traces, WholeDesk
from brass_pebble.protocol.topics import NoteNews, QuestionsNews, TraceNews

from .base.few_colours import FewColours
from .base.key_help import say_key
from .base.key_order import KeyOrder
from .base.only_changes import OnlyChanges, TerminalMemory, Way
from .base.palette import BASALT, PALETTES, Palette, outlines
from .base.signs import DrawnSigns
from .base.terminal import TerminalDriver
from .base.view import View
from .desk.view import DeskView
from .glance.view import GlanceView
from .known import Known
from .link import Asks, Link
from .outside import Colours, Outside, ScreenMemory, Signs, TerminalLook
from .switches import Switches

TOPICS = ["desk", "press", "trace", "stage", "script", "problem", "devices", "heard", "note", "rehearsal", "recorder",
          "hands_off", "layers", "chord", "moves", "sessions", "questions", "values", "voice",
          "loudness"]


WARM_AFTER = 1.5
# How the toolkit calls what a terminal can show.
COLOUR_SYSTEMS: dict[Colours, str] = {"none": "standard", "sixteen": "standard", "256": "256", "all": "truecolor"}
# Each view is loaded when it is opened, so that the desk is there sooner: module, class.
VIEWS = {
    "surface": ("surface.view", "SurfaceView"), "macro": ("macro.view", "MacroView"), "meet": ("meet.view", "MeetView"),
    "clashes": ("clashes.view", "ClashesView"), "checkup": ("checkup.view", "CheckupView"),
    "network": ("network.view", "NetworkView"), "curve": ("curve.view", "CurveView"),
    "labels": ("labels.view", "LabelsView"), "usage": ("usage.view", "UsageView"),
    "take in": ("giving.take_in_view", "TakeInView"), "asleep": ("giving.asleep_view", "AsleepView"),
    "versions": ("giving.versions_view", "VersionsView"), "values": ("kept.view", "ValuesView"),
    "phrases": ("phrases.view", "PhrasesView"),
}


def find_view(name: str) -> type[View]:
    """The class of a view."""
    module, kind = VIEWS[name]
    found: type[View] = getattr(import_module(f"brass_pebble.screen.{module}"), kind)
    return found


def _warm() -> None:
    """What is opened first is there sooner: the views, and the grammar of macros."""
    from brass_pebble.core.macro.reader import read_macro
    for name in VIEWS:
        find_view(name)
    read_macro("tap A")


def _places() -> type[Provider]:
    from .base.places import Places
    return Places


class BrassPebbleApp(KeyOrder):
    """The screen on one engine: its socket, or what waits for it.

    `restart` starts another engine when this one has ended; `glance` is a surface that is shown alone; `first_view`
    lies on the desk at first; `on_bench`: it is a desk of the person's own, simulated.  It returns why the engine could
    not start, or how to begin again.
    """

    TITLE = "Brass Pebble"
    COMMANDS: ClassVar[set[Any]] = App.COMMANDS | {_places}
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("f12", "screen_keys", "on-screen keys", show=False, priority=True,
                tooltip="a keyboard on the screen, to type with the mouse"),
        Binding("ctrl+l", "repaint", "repaint", show=False, priority=True,
                tooltip="draw everything again, if another program wrote into the terminal"),
    ]
    CSS = """
    OptionList, OptionList:focus { border: none; background-tint: transparent; }
    OptionList > .option-list--option-highlighted, OptionList:focus > .option-list--option-highlighted {
        background: $primary 10%; color: $foreground; text-style: bold; }
    Input > .input--placeholder, Input:focus > .input--placeholder { color: $dim; }
    Input:focus { background-tint: transparent; }
    App.few ModalScreen { background: transparent; }
    App.few OptionList > .option-list--option-highlighted, App.few OptionList:focus > .option-list--option-highlighted {
        background: $primary; color: $background; }
    """

    def __init__(self, socket: Path | Callable[[], Path], restart: Callable[[], Path] | None = None,
                 glance: str = "", *, first_view: str = "", on_bench: bool = False, outside: Outside,
                 link: Callable[..., Asks] = Link, look: TerminalLook = TerminalLook()) -> None:
        # The toolkit takes it from its environment, where only the name of the terminal stands.
        constants.COLOR_SYSTEM = COLOUR_SYSTEMS[look.colours]  # type: ignore[misc]
        super().__init__(driver_class=TerminalDriver)
        self.look, self._signs_chosen = look, False
        self.shown = TerminalMemory()
        self.no_color = look.colours == "none"
        self.set_class(look.colours in ("sixteen", "none"), "few")
        self._drawn = DrawnSigns(plain=look.signs == "plain")
        self._few = FewColours(coloured=look.colours == "sixteen", enabled=look.colours in ("sixteen", "none"))
        self.socket, self.restart, self.outside = socket, restart, outside
        self.known = Known()
        self.known.starting = callable(socket)
        self._make_link, self._first_view = link, first_view
        # Whether this is somebody's own desk on simulated devices.
        self.on_bench = on_bench
        self.link: Asks = link(self._news, self._gone)
        self.desk_view: View = GlanceView(self.known, self.link, glance) if glance else DeskView(self.known, self.link)
        self._tasks: set[asyncio.Task[None]] = set()
        for palette in PALETTES.values():
            self.register_theme(palette.theme())
        remembered = outside.recall()
        self.theme = remembered.theme if remembered.theme in PALETTES else BASALT.name
        self.known.letters = remembered.letters
        self.known.tour = remembered.tour and not glance and not on_bench
        # Whether a keyboard is drawn wherever something is typed.
        self.types_on_screen = False
        self.switches = Switches(self)

    def action_screen_keys(self) -> None:
        """A keyboard on the screen, here and wherever something is typed from now on; or no longer."""
        from .widgets.screen_keys import ScreenKeys
        shown = list(self.screen.query(ScreenKeys))
        self.types_on_screen = not shown
        if shown:
            for keys in shown:
                keys.remove()
        else:
            self.screen.mount(ScreenKeys())

    def offer_screen_keys(self) -> None:
        """Something is typed on this screen."""
        if self.types_on_screen:
            from .widgets.screen_keys import ScreenKeys
            self.screen.mount(ScreenKeys())

    @property
    def palette(self) -> Palette:
        """The colours of the theme in use."""
        palette = PALETTES.get(self.theme, BASALT)
        return palette if self.look.colours in ("256", "all") else outlines(palette.name)

    def _display(self, screen: Screen[Any], renderable: RenderableType | None) -> None:
        """Send only what differs from what the terminal shows."""
        if isinstance(renderable, CompositorUpdate):
            renderable = OnlyChanges(renderable, self.shown, tuple(self.size), self.way_out())
        super()._display(screen, renderable)

    def on_resize(self) -> None:
        """A terminal of another size has moved what stood in it."""
        self.shown.forget()

    def action_repaint(self) -> None:
        """Draw everything again, after something else has written into the terminal."""
        self.shown.forget()
        self.refresh(layout=True)

    def get_line_filters(self) -> Sequence[LineFilter]:
        """None for the lines of a widget: on the way out each goes through them once, and only if it is sent."""
        return ()

    def way_out(self) -> Way:
        """What every piece goes through before it is sent; signs and colours that the terminal lacks come last."""
        palette = self.palette
        self._few.suit(palette.ground, dark=palette.dark if self.look.dark is None else self.look.dark)
        last: list[LineFilter] = [self._drawn, self._few] if self._few.enabled else [self._drawn]
        return Way([*super().get_line_filters(), *last], Color.parse(palette.ground))

    def copy_text(self, text: str) -> None:
        """Hand a text to the terminal's clipboard (OSC 52), which it may refuse."""
        self.copy_to_clipboard(text)
        lines = text.count("\n") + (not text.endswith("\n"))
        self.notify(f"Copied {say_count(lines, 'line')}. If nothing can be pasted, the terminal does not let programs "
                    "copy.", timeout=4)

    def large_text(self, words: str, width: int, height: int) -> tuple[str, ...]:
        """Words in block letters, in rows of cells; empty if they have no room, or plain ones are wanted."""
        if self.known.letters == "plain":
            return ()
        return block_label(words, width, height, whole=self.look.signs == "plain")

    def draw_signs(self, signs: Signs) -> None:
        """Draw plain signs, or all of them, from now on in this terminal."""
        self.look, self._signs_chosen = replace(self.look, signs=signs), True
        self._drawn.plain = signs == "plain"
        self.refresh_css(animate=False)

    def remember(self) -> None:
        """Remember how the screen looks."""
        before = self.outside.recall()
        signs = {**before.signs, self.look.key: self.look.signs} if self._signs_chosen else before.signs
        self.outside.remember(ScreenMemory(theme=self.theme, letters=self.known.letters, signs=signs,
                                           tour=self.known.tour))

    @property
    def view(self) -> View:
        """The topmost view; sheets may lie on it."""
        return next((screen for screen in reversed(self.screen_stack) if isinstance(screen, View)), self.desk_view)

    def open_view(self, name: str, **options: Any) -> None:
        """Put another view (see `VIEWS`) on top; Escape leads back."""
        self.push_screen(find_view(name)(self.known, self.link, **options))

    async def visit(self, name: str, **options: Any) -> None:
        """Show a view: the one that is open already, with those above it closed; or a new one on top."""
        kind = find_view(name)
        if any(isinstance(screen, kind) for screen in self.screen_stack):
            while not isinstance(self.screen, kind):
                await self.pop_screen()
        else:
            self.open_view(name, **options)

    async def on_mount(self) -> None:
        """Show the desk."""
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGHUP):
            # Whoever ends this program gets the terminal back as it was.
            loop.add_signal_handler(number, self.exit)
        await self.push_screen(self.desk_view)
        self.set_timer(WARM_AFTER, lambda: self.run_worker(asyncio.to_thread(_warm), thread=False))
        await self._connect()

    async def _connect(self) -> None:
        if callable(self.socket):
            try:
                self.socket = await asyncio.to_thread(self.socket)
            except StartError as error:
                self.exit(error)
                return
        self.known.starting = False
        try:
            await self.link.connect(self.socket)
            await self.link.ask("follow", topics=TOPICS)
            self.known.connected = True
            whole, latest = await self.link.send(AskDesk()), await self.link.send(AskTraces())
            assert isinstance(whole, WholeDesk) and isinstance(latest, Traces)
            self.known.take_snapshot(whole, latest.traces)
            questions = whole.questions
        except EngineError as error:
            self.known.connected = False
            self.notify(str(error), severity="error", timeout=10)
            questions = []
        await self.view.show_all()
        self._put_questions(questions)
        if self._first_view and self.known.connected:
            first, self._first_view = self._first_view, ""
            self.open_view(first)
        gc.freeze()
        gc.enable()

    def _news(self, message: News) -> None:
        if isinstance(message, NoteNews):
            self._note(message)
            return
        if isinstance(message, QuestionsNews):
            self._put_questions(message.questions)
            return
        # A sheet on top may wait for something.
        if message.topic in getattr(self.screen, "HEARS", ()):
            self.screen.hear(message)  # type: ignore[attr-defined]
            return
        if isinstance(message, TraceNews):
            self.switches.hear(message.trace)
        changed = self.known.take(message)
        task = asyncio.create_task(self.view.take(message, changed))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def _note(self, message: NoteNews) -> None:
        """A macro tells the person something."""
        if message.bell:
            self.bell()
        if message.text:
            self.notify(message.text, title="a macro says", timeout=8)

    def _put_questions(self, rows: list[QuestionRow]) -> None:
        """What macros ask now, on top of whatever is shown."""
        from .asking.sheet import QuestionSheet
        sheet = next((screen for screen in self.screen_stack if isinstance(screen, QuestionSheet)), None)
        if sheet is not None:
            sheet.show(rows)
        elif rows:
            self.push_screen(QuestionSheet(rows, self._answer))

    async def _answer(self, question: str, text: str | None) -> str:
        """Answer a question, or close it; what is wrong with the answer."""
        try:
            await self.link.ask("answer", question=question, **({} if text is None else {"text": text}))
        except EngineError as error:
            return f"{error.what}. {error.hint}" if error.hint else error.what
        return ""

    def _gone(self) -> None:
        self._put_questions([])
        self.known.connected = False
        self.known.forget_live()
        if self.is_running:
            task = asyncio.create_task(self.view.show_all())
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)

    def restart_engine(self) -> None:
        """Start the engine again, if this screen may."""
        if self.restart is None:
            self.notify("Start it again with brass-pebble run.", severity="warning", timeout=8)
            return
        self.run_worker(self._restart(self.restart), exclusive=True)

    async def _restart(self, restart: Callable[[], Path]) -> None:
        try:
            self.socket = await asyncio.to_thread(restart)
        except StartError as error:
            self.notify(str(error), severity="error", timeout=10)
            return
        self.link = self._make_link(self._news, self._gone)
        for screen in self.screen_stack:
            if isinstance(screen, View):
                screen.link = self.link
        await self._connect()

    def get_system_commands(self, screen: Screen[object]) -> Iterable[SystemCommand]:
        """Every action of the view, by name."""
        for key in self.view.BINDINGS:
            name, what = key.action, key.description  # type: ignore[union-attr]
            if not what or name.startswith(("go(", "app.")):
                continue
            longer = f"{key.tooltip}; " if key.tooltip else ""  # type: ignore[union-attr]
            yield SystemCommand(what[:1].upper() + what[1:], f"{longer}key {say_key(key.key)}",  # type: ignore[union-attr]
                                self._doing(name))
        yield SystemCommand("Quit", "leave the screen", self.action_quit)

    def _doing(self, action: str) -> Callable[[], Any]:
        view = self.view
        return lambda: self.run_worker(view.run_action(action))

    async def on_unmount(self) -> None:
        """Leave the engine in good order."""
        self.link.close()
