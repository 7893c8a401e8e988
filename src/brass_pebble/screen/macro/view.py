"""The Macro view: text beside lanes.  A change in one is seen in the other at once, and is live at once."""

from __future__ import annotations

import time
from dataclasses import replace
from typing import ClassVar

from rich.text import Text
from textual import events, on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical
from textual.timer import Timer
from textual.widgets import Static, TextArea

from brass_pebble.client import EngineError
from brass_pebble.core.macro import edit as edits
from brass_pebble.core.macro.help.words import values_named
from brass_pebble.core.macro.renamed import old_words
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.durations import MS, parse_duration, say_duration, write_duration
from brass_pebble.core.say.problem import Problem, ProblemError
from brass_pebble.protocol.base import News
from brass_pebble.protocol.layers import AskPrograms, AskWindows, Programs, Windows
from brass_pebble.protocol.macros import AskMacros, DraftRow, Macros
from brass_pebble.protocol.topics import DeskNews, PressNews, RehearsalNews, TraceNews
from brass_pebble.screen.base.sheets import AskText, Choose
from brass_pebble.screen.known import Known, Spot
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.key_footer import KeyFooter
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.status_line import StatusLine

from .lanes import LanesView
from .model import MacroModel
from .names import MacroNames
from .offers import OfferLine
from .place import PicksPlaces
from .record import RecordSheet
from .reference import ReferenceSheet
from .rehearsal import RehearsalPanel
from .text import MacroText
from .tools import Tools

SAVE_AFTER = 0.35
READ_AFTER = 0.12
# So soon what is typed is kept, whatever becomes of the terminal, in s.
DRAFT_AFTER = 0.5
# Texts of more lines are read when the typing has come to rest.
LONG = 600
STEPS = (1 * MS, 10 * MS, 100 * MS)
COUNT_IN = 3
MOVES = {"longer": (edits.lengthen, 1), "shorter": (edits.lengthen, -1), "later": (edits.move, 1),
         "earlier": (edits.move, -1)}


class MacroView(PicksPlaces, MacroNames):
    """One macro, open for editing."""

    NAME = "Macro"
    ALSO = (("mouse", "in the lanes: choose a bar"), ("Ctrl+Z  Ctrl+Y", "undo, redo in the text"))
    PARTS = (LanesView,)
    DEFAULT_CSS = """
    MacroView { background: $background; }
    MacroView #head { height: 1; padding: 0 1; margin: 1 0 0 0; }
    MacroView #says { height: 1; padding: 0 1; margin: 0 0 1 0; }
    MacroView #both { height: 1fr; }
    MacroView #left { width: 44%; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("f5", "rehearse", "rehearse", priority=True,
                tooltip="rehearse with simulated programs"),
        Binding("f6", "play", "play", priority=True, tooltip="play to real programs, after a count-in"),
        Binding("f8", "record", "record", priority=True),
        Binding("f9", "bind", "bind", priority=True, tooltip="bind to the next key pressed"),
        Binding("f7", "stop", "stop", priority=True, tooltip="stop everything"),
        Binding("f4", "format", "tidy", show=False, priority=True, tooltip="write the text in its usual form"),
        Binding("tab", "other_side", "text / lanes", tooltip="from the text to the lanes, and back"),
        Binding("f1", "reference", "steps", tooltip="in the text: the step in this line; in the lanes: all keys"),
        Binding("escape", "leave", "back", tooltip="back; everything is saved"),
    ]
    AUTO_FOCUS = "LanesView"

    def __init__(self, known: Known, link: Asks, macro: str = "", spot: Spot = ("", ""),
                 line: int = 0) -> None:
        super().__init__(known, link)
        # `line` is the one to begin in; without it, the first step.
        self.macro_id, self.spot, self._begins_at = macro, spot, line
        self.model: MacroModel | None = None
        self._step = STEPS[1]
        self._says, self._wrong = "", False
        # Whether what is told is that a word has been renamed.
        self._hinted = False
        self._saved = ""
        self._read_text: str | None = None
        self._save_timer: Timer | None = None
        self._read_timer: Timer | None = None
        self._draft_timer: Timer | None = None
        self._drafted = False
        self._clock: Timer | None = None
        self._began = 0.0
        self._binding = False
        self._loading = True

    def compose(self) -> ComposeResult:
        """From top to bottom."""
        yield StatusLine(self.known)
        yield PathBar(self.known)
        yield Static(id="head", markup=False)
        yield Static(id="says", markup=False)
        with Horizontal(id="both"):
            with Vertical(id="left"):
                yield MacroText()
                yield OfferLine()
            with Vertical():
                yield Tools()
                yield LanesView()
        yield RehearsalPanel()
        yield KeyFooter()

    async def on_mount(self) -> None:
        """Open the macro."""
        self.app.offer_screen_keys()  # type: ignore[attr-defined]
        self.query_one(StatusLine).redraw()
        self._open()

    @work(exclusive=True, group="open")
    async def _open(self) -> None:
        reply = await self.query_engine(Macros, AskMacros())
        if reply is None:
            return
        text = self._saved = reply.texts.get(self.macro_id, "")
        self.model = MacroModel(self.macro_id, reply, self.outside.typist)
        text = await self._offer_draft(text, reply.drafts.get(self.macro_id))
        area = self.query_one(MacroText)
        area.load_text(text)
        self._loading = False
        self._read(text)
        self._ask_windows()
        self._ask_programs()
        # The cursor begins at the first step rather than in the settings.
        if self._begins_at:
            self._go_to_line(self._begins_at)
            self.query_one(LanesView).choose_line(self._begins_at)
            self._tell_selected()
        elif self.model.bars():
            self._go_to_line(self.model.bars()[0][1].line)
            self._tell_selected()
        else:
            area.move_cursor(area.document.end)
            area.focus()
            self._tell("Write a step, or record with F8. It takes effect once it has no errors.")

    async def _offer_draft(self, text: str, draft: DraftRow | None) -> str:
        """What was typed before and is not live: opened, if the person wants it."""
        if draft is None or draft.text == text:
            return text
        at = time.strftime("%d %B, %H:%M", time.localtime(draft.at))
        chosen = await self.app.push_screen_wait(Choose(
            "Unfinished text", f"Text of this macro from {at} has not taken effect. The macro plays the last good "
                               "version.",
            ["Open the unfinished text", "Leave it for later", "Discard it"]))
        if chosen == 2:
            await self.ask("draft_macro", macro=self.macro_id)
        return str(draft.text) if chosen == 0 else text

    # Reading and saving.

    def unsaved(self) -> bool:
        return self.query_one(MacroText).text != self._saved

    @on(TextArea.Changed)
    def _changed(self, event: TextArea.Changed) -> None:
        if self.model is None or self._loading or event.text_area.text == self._read_text:
            return
        if event.text_area.document.line_count > LONG:
            if self._read_timer is not None:
                self._read_timer.stop()
            self._read_timer = self.set_timer(READ_AFTER, lambda: self._read(self.query_one(MacroText).text))
        else:
            self._read(event.text_area.text)

    def _read(self, text: str) -> None:
        model = self.model
        if model is None:
            return
        self._read_text = text
        model.read(text)
        self._names()
        self.query_one(LanesView).show(model)
        hints = [] if model.problems else old_words(text)
        if model.problems:
            self._tell_problem(model.problems[0])
        elif hints:
            self._tell(f"line {hints[0].line}: {hints[0].what}. {hints[0].hint}; F4 writes the new one")
        elif self._wrong or self._hinted:
            self._tell("")
        self._hinted = bool(hints)
        self._show_head()
        if text != self._saved:
            self._keep_draft_soon()
            if not model.problems:
                self._save_soon()

    def _keep_draft_soon(self) -> None:
        """What is typed is safe within a second, whatever becomes of the terminal."""
        if self._draft_timer is None:
            self._draft_timer = self.set_timer(DRAFT_AFTER, self._keep_draft)

    @work(group="draft")
    async def _keep_draft(self) -> None:
        self._draft_timer = None
        text = self.query_one(MacroText).text
        if text != self._saved:
            self._drafted = True
            await self.ask("draft_macro", macro=self.macro_id, text=text)

    def _save_soon(self) -> None:
        if self._save_timer is not None:
            self._save_timer.stop()
        self._save_timer = self.set_timer(SAVE_AFTER, self._save)

    @work(group="save")
    async def _save(self) -> None:
        text = self.query_one(MacroText).text
        if self.model is None or self.model.problems or text == self._saved:
            return
        try:
            await self.link.ask("write_macro", macro=self.macro_id, text=text, base=self._saved)
        except EngineError as error:
            if error.code == "changed":
                await self._settle_conflict(text)
            else:
                self.notify(f"{error.what}. {error.hint}", severity="error", timeout=8)
            return
        self._saved, self._drafted = text, False
        self._show_head()
        # It may have been changed, and even changed back, while it was being saved.
        if self.query_one(MacroText).text != text:
            self._save_soon()

    async def _settle_conflict(self, text: str) -> None:
        """Somebody else saved the macro meanwhile: the person says which text counts; both are kept."""
        reply = await self.query_engine(Macros, AskMacros())
        if reply is None:
            return
        other = reply.texts.get(self.macro_id, "")
        chosen = await self.app.push_screen_wait(Choose(
            "Changed in another program", f"macros/{self.macro_id}.macro was saved by another program while you were "
                                          "typing. "
            "Both texts are in the history (V on the desk).",
            ["Save my text", "Use the other text and keep mine as a draft", "Decide later"]))
        if chosen in (0, 1):
            self._saved = other
        if chosen == 0:
            self._save_soon()
        elif chosen == 1:
            area = self.query_one(MacroText)
            self._read_text = other
            area.load_text(other)
            self._read(other)

    def _tell(self, text: str, *, wrong: bool = False) -> None:
        self._says, self._wrong = text, wrong
        colour = self.palette.rust if wrong else self.palette.dim
        self.query_one("#says", Static).update(Text(text, style=colour, no_wrap=True, overflow="ellipsis"))

    def _tell_problem(self, problem: Problem) -> None:
        place = f"line {problem.line}" + (f", column {problem.column}" if problem.column else "")
        self._tell(f"✗ {place}: {problem.what}. {problem.hint}", wrong=True)

    def _show_head(self) -> None:
        model, palette = self.model, self.palette
        if model is None:
            return
        lanes, macro = model.lanes, model.macro
        head = Text(no_wrap=True, overflow="ellipsis")
        colour = palette.tint(macro.tint) if macro.tint else palette.brass
        head.append(macro.name or self.macro_id, style=f"bold {colour}")
        # What is going on first; numbers give way where the line is short.
        saved = self.query_one(MacroText).text == self._saved
        head.append("   ✗ a draft: the last good version plays" if model.problems else "   ✓ live" if saved else "   …",
                    style=palette.rust if model.problems else palette.verdigris)
        width = self.size.width - 2
        bound = self._bound()
        more = len(bound) - 1
        says = ", ".join(bound) if bound else "nowhere yet (F9)"
        if head.cell_len + len(says) + 10 > width and more > 0:
            says = f"{bound[0]} and {more} more"
        head.append(f"   bound: {says}", style=palette.dim if bound else palette.brass)
        closest = f" · closest pair {say_duration(lanes.closest)}" if lanes.closest is not None else ""
        live = " · depends on the press or the world: shown for an ordinary one" if macro.live else ""
        for numbers in (f"{say_duration(lanes.length)} · {say_count(lanes.events, 'event')}", closest, live):
            if head.cell_len + len(numbers) + 3 > width:
                break
            head.append(f"   {numbers}" if numbers[:1] != " " else numbers, style=palette.text)
        self.query_one("#head", Static).update(head)
        self._show_path()

    def _bound(self) -> list[str]:
        return [f"{surface.name} {control.legend}" for surface in self.known.desk.surfaces
                for control in surface.controls
                if control.kind == "play" and control.target == self.macro_id]

    def _show_path(self) -> None:
        model = self.model
        hops: list[Hop] = []
        surface, control = self.known.surface(self.spot[0]), self.known.control(self.spot)
        if surface and control:
            hops += [Hop(surface.name, "desk"), Hop(control.legend, "desk"), Hop("press", "desk")]
        if model is not None:
            hops.append(Hop(f"macro {model.macro.name}", "macro", bool(model.problems)))
            lanes = model.lanes
            hops.append(Hop(f"{say_count(lanes.events, 'event')}, {say_duration(lanes.length)}", "macro"))
        programs = self.known.programs
        hops.append(Hop(", ".join(p.name for p in programs) if programs else "the focused program", "desk"))
        self.query_one(PathBar).set_hops(hops)

    @on(PathBar.Opened)
    async def _door(self, message: PathBar.Opened) -> None:
        if message.door == "desk":
            await self.action_leave()

    # Text and lanes choose together.

    @on(MacroText.Offers)
    def _offered(self, message: MacroText.Offers) -> None:
        self.query_one(OfferLine).show(message.offers, message.taken)

    @on(OfferLine.Taken)
    def _take_offer(self, message: OfferLine.Taken) -> None:
        self.query_one(MacroText).take(message.index)

    @work(exclusive=True, group="names of windows")
    async def _ask_windows(self) -> None:
        """Windows that are open can be named in steps; where they cannot be told, none are offered."""
        try:
            reply = await self.link.send(AskWindows())
        except EngineError:
            return
        assert isinstance(reply, Windows)
        area = self.query_one(MacroText)
        area.names = replace(area.names, windows=tuple(dict.fromkeys(row.title for row in reply.windows)),
                             classes=tuple(dict.fromkeys(row.cls for row in reply.windows if row.cls)))

    @work(exclusive=True, group="names of programs")
    async def _ask_programs(self) -> None:
        """Programs can be named in steps."""
        try:
            reply = await self.link.send(AskPrograms())
        except EngineError:
            return
        assert isinstance(reply, Programs)
        area = self.query_one(MacroText)
        area.names = replace(area.names, programs=tuple(reply.programs))

    def _names(self) -> None:
        """What a person has made up can be named in steps."""
        desk, area = self.known.desk, self.query_one(MacroText)
        assert self.model is not None
        area.names = replace(
            area.names, macros=tuple(macro.id for macro in desk.macros if macro.id != self.macro_id),
            layers=tuple(dict.fromkeys(layer.id for surface in desk.surfaces for layer in surface.layers)),
            values=values_named(self.model.draft.known))

    @on(TextArea.SelectionChanged)
    def _cursor_moved(self, event: TextArea.SelectionChanged) -> None:
        self.query_one(MacroText).look_ahead()
        if self.query_one(MacroText).has_focus:
            self.query_one(LanesView).choose_line(event.selection.end[0] + 1)
            self._tell_selected()

    @on(LanesView.Chosen)
    def _bar_chosen(self, message: LanesView.Chosen) -> None:
        self._go_to_line(message.line)
        self._tell_selected()

    def _go_to_line(self, line: int) -> None:
        area = self.query_one(MacroText)
        area.move_cursor((min(line, area.document.line_count) - 1, 0), center=True)

    def _tell_selected(self) -> None:
        lanes, model = self.query_one(LanesView), self.model
        if model is None or self._wrong or not 0 <= lanes.at < len(model.bars()):
            return
        index, bar = model.bars()[lanes.at]
        long = f", {say_duration(bar.end - bar.start)} long" if bar.end > bar.start else ""
        stretch = lanes.stretch
        marked = f"   marked: lines {stretch[0]} to {stretch[1]}" if stretch else ""
        self._tell(f"selected: {model.lanes.lanes[index].name} #{bar.number}, at {say_duration(bar.start)}{long}, "
                   f"line {bar.line}   step {write_duration(self._step)} (i){marked}")

    # Editing in the lanes.

    @on(Tools.Clicked)
    async def _tool(self, message: Tools.Clicked) -> None:
        await self.query_one(LanesView).run_action(message.action)

    @on(LanesView.Asked)
    def _asked(self, message: LanesView.Asked) -> None:
        if message.what == "size":
            self._step = STEPS[(STEPS.index(self._step) + 1) % len(STEPS)]
            self._tell_selected()
        elif message.what in ("undo", "redo"):
            area = self.query_one(MacroText)
            (area.undo if message.what == "undo" else area.redo)()
        elif message.what in ("insert", "snap"):
            self._ask_and_edit(message)
        else:
            self._edit(message.what, message.line, message.stretch)

    @work(exclusive=True, group="ask")
    async def _ask_and_edit(self, message: LanesView.Asked) -> None:
        if message.what == "insert":
            words = await self.app.push_screen_wait(AskText("A new step", "Inserted after the selected step, "
                                                            "for example  wait 300ms  or  tap Ctrl+C:"))
        else:
            words = await self.app.push_screen_wait(AskText("Snap to a rhythm", "Start the marked steps on multiples "
                                                                                "of:", "250ms"))
        if words:
            self._edit(message.what, message.line, message.stretch, words)

    def _edit(self, what: str, line: int, stretch: tuple[int, int] | None, words: str = "") -> None:
        area = self.query_one(MacroText)
        text, (first, last) = area.text, stretch or (1, area.document.line_count)
        try:
            if what in MOVES:
                call, sign = MOVES[what]
                edited = call(text, line, sign * self._step)
            elif what == "close":
                edited = edits.close_gap(text, line)
            elif what in ("half", "double"):
                edited = edits.scale(text, first, last, 0.5 if what == "half" else 2)
            elif what == "snap":
                edited = edits.snap(text, stretch[0] if stretch else self._first_line(), last, parse_duration(words))
            elif what == "copy":
                edited = edits.duplicate(text, line)
            elif what == "delete":
                edited = edits.delete(text, line)
            else:
                edited = edits.insert(text, line, words)
        except ProblemError as error:
            self._tell(f"✗ {error.problem.what}. {error.problem.hint}", wrong=True)
            self._wrong = False
            return
        # One change of the text, so that one undo takes it back.
        area.replace(edited.text, (0, 0), area.document.end, maintain_selection_offset=False)
        self._read(area.text)
        self.query_one(LanesView).choose_line(edited.line)
        self._go_to_line(edited.line)
        if not self._wrong:
            self._tell(f"{edited.words}   u: undo")

    def _first_line(self) -> int:
        return self.model.bars()[0][1].line if self.model and self.model.bars() else 1

    def action_format(self) -> None:
        """Write the text in its usual form."""
        from brass_pebble.core.macro.writer import format_macro
        area = self.query_one(MacroText)
        try:
            text = format_macro(area.text)
        except ProblemError as error:
            self._tell_problem(error.problem)
            return
        if text != area.text:
            area.replace(text, (0, 0), area.document.end)

    def action_reference(self) -> None:
        """What the step under the cursor does; in the lanes, all keys."""
        area = self.query_one(MacroText)
        if not area.has_focus:
            self.action_keys()
            return
        line = area.document.get_line(area.cursor_location[0])
        self.app.push_screen(ReferenceSheet(line, self.palette))

    def action_other_side(self) -> None:
        """From the text to the lanes, and back."""
        lanes = self.query_one(LanesView)
        (self.query_one(MacroText) if lanes.has_focus else lanes).focus()

    # Playing.

    @work(exclusive=True, group="rehearse")
    async def action_rehearse(self) -> None:
        """Play it into the stage, and see what landed when."""
        panel = self.query_one(RehearsalPanel)
        panel.begin()
        panel.add_class("shown")
        reply = await self.ask("rehearse", text=self.query_one(MacroText).text, macro=self.macro_id)
        if reply:
            self._start_clock()

    @work(exclusive=True, group="play")
    async def action_play(self) -> None:
        """Play it for real, after a count-in that leaves time to focus the target."""
        await self._save().wait()
        if self.model is None or self.model.problems:
            self._tell("✗ The macro has an error. Correct it first.", wrong=True)
            return
        where = "the stage" if self.known.desk.output == "stage" else "whatever has the focus then"
        for left in range(COUNT_IN, 0, -1):
            self._tell(f"Playing to {where} in {left} …   F7 stops")
            await self._wait(1.0)
        if await self.ask("play", macro=self.macro_id):
            self._tell("playing for real")
            self._start_clock()

    async def _wait(self, seconds: float) -> None:
        import asyncio
        await asyncio.sleep(seconds)

    @work(group="stop")
    async def action_stop(self) -> None:
        """Stop everything, the count-in and the rehearsal included."""
        self.workers.cancel_group(self, "play")
        await self.ask("end_rehearsal")
        await self.ask("stop")
        self._stop_clock()
        self._tell("stopped; no key is down")

    def _start_clock(self) -> None:
        self._stop_clock()
        self._began = time.monotonic()
        self._clock = self.set_interval(0.05, self._tick)

    def _stop_clock(self) -> None:
        if self._clock is not None:
            self._clock.stop()
            self._clock = None
        lanes = self.query_one(LanesView)
        lanes.now = None
        lanes.redraw()

    def _tick(self) -> None:
        lanes = self.query_one(LanesView)
        lanes.now = int((time.monotonic() - self._began) * 1e9)
        if self.model is not None and lanes.now > self.model.lanes.length + 300 * MS:
            self._stop_clock()
            return
        lanes.redraw()
        # In the text, the line that plays is the one that is marked.
        if self.model is not None and not self.query_one(MacroText).has_focus:
            line = self.model.line_at(lanes.now)
            if line and line != self.query_one(MacroText).cursor_location[0] + 1:
                self._go_to_line(line)

    @work(exclusive=True, group="record")
    async def action_record(self) -> None:
        """Play it on a device; what was played is put in behind the selected line."""
        text = await self.app.push_screen_wait(RecordSheet(self.known, self.link))
        if not text:
            return
        area = self.query_one(MacroText)
        lines = area.text.splitlines()
        at = self.query_one(LanesView).line or len(lines)
        if self.model is not None and not self.model.bars():
            at = len(lines)
        # Recorded steps stand outside the blocks, behind the one that the selected line belongs to.
        while at < len(lines) and lines[at].startswith(" "):
            at += 1
        whole = "\n".join([*lines[:at], *text.splitlines(), *lines[at:], ""])
        area.replace(whole, (0, 0), area.document.end, maintain_selection_offset=False)
        self._read(area.text)
        self.query_one(LanesView).choose_line(at + 1)
        self._tell(f"{say_count(len(text.splitlines()), 'line')} recorded   u: undo")

    @work(exclusive=True, group="bind")
    async def action_bind(self) -> None:
        """Let a control play it: the next one that is pressed."""
        self._binding = not self._binding
        if not self._binding:
            self._tell("")
            return
        self._tell("Press the key that should play this macro, on its device; or press Esc, then b on the desk. F9: "
                   "cancel")

    def _bind_pressed(self, message: PressNews) -> None:
        for surface, control, value in message.keys:
            if value and self._binding:
                self._binding = False
                self._bind_to(surface, control)

    @work(group="bind")
    async def _bind_to(self, surface: str, control: str) -> None:
        if reply := await self.change("bind", surface=surface, control=control, kind="play", target=self.macro_id):
            self.spot = (surface, control)
            self._tell(f"saved: {reply.words}   u on the desk: undo")
            self._show_head()

    # News.

    async def show_all(self) -> None:
        """The desk changed."""
        if self.is_mounted:
            self.query_one(StatusLine).redraw()
            self._show_head()

    async def take(self, message: News, changed: set[Spot]) -> None:
        """News of the engine."""
        if isinstance(message, RehearsalNews):
            self.query_one(RehearsalPanel).take(message)
            if message.done:
                self._stop_clock()
        elif isinstance(message, PressNews):
            self._bind_pressed(message)
        elif isinstance(message, DeskNews):
            await self.show_all()
        elif isinstance(message, TraceNews) and message.trace.target == self.macro_id and \
                message.trace.state == "playing" and self._clock is None:
            self._start_clock()
        self.query_one(StatusLine).redraw()

    @on(RehearsalPanel.Chosen)
    def _event_chosen(self, message: RehearsalPanel.Chosen) -> None:
        self.query_one(LanesView).choose_line(message.line)
        self._go_to_line(message.line)
        self._tell_selected()

    def on_resize(self, event: events.Resize) -> None:
        """A narrow terminal shows one side at a time, one above the other."""
        both = self.query_one("#both")
        narrow = event.size.width < 100
        both.styles.layout = "vertical" if narrow else "horizontal"
        text = self.query_one("#left")
        text.styles.width = "100%" if narrow else "44%"
        text.styles.height = "50%" if narrow else "1fr"

    async def action_leave(self) -> None:
        """Back; what has a mistake is kept as it is, and told."""
        panel = self.query_one(RehearsalPanel)
        if panel.has_class("shown"):
            await self.ask("end_rehearsal")
            panel.remove_class("shown")
            self.query_one(LanesView).focus()
            return
        text = self.query_one(MacroText).text
        if self.model is not None and text != self._saved:
            # Nothing typed is ever lost, and what works goes on working.
            if self.model.problems:
                if await self.ask("draft_macro", macro=self.macro_id, text=text) is not None:
                    self.notify("The unfinished text is kept as a draft. The macro still plays the last good "
                                "version.", timeout=6)
            else:
                await self.ask("write_macro", macro=self.macro_id, text=text, base=self._saved)
        elif self._drafted:
            await self.ask("draft_macro", macro=self.macro_id)
        self.app.pop_screen()
