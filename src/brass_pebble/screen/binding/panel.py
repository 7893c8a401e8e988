"""Give a gesture of a control another action: type or press a chord, or choose a macro, a layer, a deed."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import Any, ClassVar

from textual import events, on, work
from textual.app import ComposeResult
from textual.binding import BindingType
from textual.containers import Vertical
from textual.widgets import Input, Label, OptionList

from brass_pebble.core.desk.action import BETWEEN, DEEDS, read_action
from brass_pebble.core.desk.binding import Binding as Bound
from brass_pebble.core.desk.binding import fits
from brass_pebble.core.desk.layer_switch import HOWS, WHILE_HELD
from brass_pebble.core.desk.look.drawn import OWN, ControlRow, LayerRow, MacroRow, SurfaceRow
from brass_pebble.core.desk.look.shown import BANDS, gestures_for
from brass_pebble.core.effects.drive import parse_drive, parse_level
from brass_pebble.core.play.gesture import MOVE, PRESS, ends_at_once
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.durations import MS, say_duration
from brass_pebble.core.say.limits import LONGEST_FAR, LONGEST_LABEL
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.say.setting import Setting, Stride, settings_of
from brass_pebble.core.signals.keys import key_table, parse_chord
from brass_pebble.protocol.base import Reply
from brass_pebble.protocol.layers import Catching, Takers
from brass_pebble.protocol.topics import ChordNews
from brass_pebble.screen.base.choosing import ChoosingSheet
from brass_pebble.screen.base.key_line import KeyLine
from brass_pebble.screen.known import NO_BINDING

Ask = Callable[..., Awaitable[Reply | None]]
# Has fields saved: the reply, or None and why not.
Save = Callable[[dict[str, Any]], Awaitable[tuple[Reply | None, str]]]
# The keys that go through what can be set: the first three always the same, the others whatever else there is.
KEYS_OF = {"plays": "f2", "again": "f3", "tint": "f7"}
FURTHER_KEYS = ("f8", "f9", "f10")
# So long after the last letter it is looked up who takes a chord, in s.
LOOK_UP_AFTER = 0.15
# Terminals of fewer rows show fewer proposals.
LOW = 30
# What a position can drive, to choose from and to change.
DRIVES = ("cc 7 on 1", "fine cc 7 on 1", "bend on 1", "osc /level to 127.0.0.1:9000", "pointer x", "pointer y",
          "scroll", "scroll sideways", "controller x", "controller z", "pointer x / pointer y",
          "controller x / controller y")
@dataclass(frozen=True)
class Choice:
    """One proposal: what the action would be, or what to complete the text to."""

    shown: str
    kind: str = ""
    target: str = ""
    completes: str = ""


def proposals(text: str, macros: list[MacroRow], *, bound: bool, layers: list[LayerRow] | None = None,
              gesture: str = PRESS) -> tuple[list[Choice], str]:
    """What may be meant by `text`, the likeliest first, and a complaint if it is a chord gone wrong."""
    text = text.strip()
    folded = text.casefold()
    choices: list[Choice] = []
    complaint = ""
    if gesture == MOVE:
        return _drives(text, bound=bound)
    deeds = [Choice(f"{row.glyph}  {deed}", "do", deed) for deed, row in DEEDS.items() if folded in deed]
    if bound and folded in "clear nothing":
        deeds.append(Choice("○  nothing: clear this control", "", ""))
    # Stop and Clear are keys, too; whoever types so much of a deed's name means the deed.
    if len(text) >= 3:
        choices += deeds
    if folded.startswith(("set", "step")):
        found, complaint = _levels(text)
        choices += found
    elif text:
        found, complaint = _chords(text, [macro.id for macro in macros], gesture)
        choices += found
    choices += _layers(folded, layers or [], gesture)
    named = _name(folded, "play")
    for macro in macros:
        if named in macro.name.casefold() or named in macro.id:
            choices.append(Choice(f"▸  play “{macro.name}”   {say_duration(round(macro.length_ms * MS))}, "
                                  f"{say_count(macro.events, 'key event')}", "play", macro.id))
    if text:
        before, plus, last = text.rpartition("+")
        begun = last.strip().casefold()
        near = [key.name for key in key_table().by_code.values() if not key.button
                and key.name.casefold().startswith(begun) and key.name.casefold() != begun]
        if begun:
            before = _proper_names(before)
            choices += [Choice(f"…  {before + plus + name}", completes=before + plus + name)
                        for name in sorted(near, key=len)[:4]]
    if len(text) < 3:
        choices += deeds
    return choices, "" if choices else complaint


def _drives(text: str, *, bound: bool) -> tuple[list[Choice], str]:
    """What a position can go on to: what was typed, if it is something, and what it may become."""
    choices, complaint = [], ""
    if text:
        try:
            for part in text.split(BETWEEN):
                parse_drive(part.strip())
            choices.append(Choice(f"∿  drive {text}", "drive", text))
        except ProblemError as error:
            complaint = str(error)
    choices += [Choice(f"∿  drive {drive}", "drive", drive) for drive in DRIVES
                if drive != text and (not text or text.casefold() in drive)]
    if bound and text.casefold() in "clear nothing":
        choices.append(Choice("○  nothing: clear this", "", ""))
    return choices, "" if choices else complaint


def _proper_names(keys: str) -> str:
    """Keys of a chord as the table writes them; what it does not know stays as it was typed."""
    names = []
    for word in keys.split("+"):
        try:
            names.append(key_table().find(word).name)
        except ProblemError:
            names.append(word)
    return "+".join(names)


def _levels(text: str) -> tuple[list[Choice], str]:
    kind, _, target = text.partition(" ")
    try:
        parse_level(target, steps=kind == "step")
    except ProblemError as error:
        examples = [Choice(f"…  {example}", completes=example) for example in
                    ("set controller x at 50 %", "step controller x by 1/100", "set cc 7 on 1 at 100 %",
                     "step cc 7 on 1 by -1/8") if example.startswith(kind) or kind in ("set", "step", "s")]
        return examples, str(error)
    return [Choice(f"{'±' if kind == 'step' else '⊥'}  {text}", kind, target)], ""


def _chords(text: str, macros: list[str], gesture: str) -> tuple[list[Choice], str]:
    if BETWEEN.strip() in text:
        try:
            action = read_action("cycle", BETWEEN.join(part.strip() for part in text.split("/")), macros)
        except ProblemError as error:
            return [Choice("…  a cycle, like   tap Ctrl+1 / tap Ctrl+2 / play welcome", completes="")], str(error)
        return [Choice(f"↻  cycle: {action.target}", "cycle", action.target)], ""
    try:
        chord = str(parse_chord(text))
    except ProblemError as error:
        return [], str(error)
    choices = [Choice(f"•  tap {chord} once", "tap", chord)]
    if not ends_at_once(gesture):
        choices += [Choice(f"◖  sustain {chord} for as long as it is held", "sustain", chord),
                    Choice(f"≡  tap {chord} rapidly for as long as it is held", "rapid", chord)]
    return [*choices, Choice(f"◐  latch {chord} down until the next press", "latch", chord)], ""


def _name(folded: str, action: str) -> str:
    """What is meant by a name, typed alone or as the list shows it, behind the action and in quotes."""
    return folded.removeprefix(f"{action} ").strip(' "“”')


def _layers(folded: str, layers: list[LayerRow], gesture: str) -> list[Choice]:
    if not folded:
        return []
    choices, wanted = [], _name(folded, "layer")
    for layer in layers[1:]:
        if wanted in layer.name.casefold() or wanted in layer.id or folded in "layer":
            choices += [Choice(f"▤  layer {layer.name}: {means}", "layer", f"{how} {layer.id}")
                        for how, (named, means) in HOWS.items()
                        if named and not (how == WHILE_HELD and ends_at_once(gesture))]
    if folded in "layer" or any(folded in how for how in ("next", "previous")):
        choices += [Choice(f"▤  {means}", "layer", how) for how, (named, means) in HOWS.items() if not named]
    return choices


class BindPanel(ChoosingSheet[Reply | None]):
    """Has the action saved, and returns the reply; None if nothing was changed.  What could not be saved stays here,
    with what was typed."""

    DEFAULT_CSS = """
    BindPanel { align: center middle; }
    BindPanel > Vertical { width: 84; max-width: 96%; height: auto; max-height: 96%; background: $panel;
        border: round $primary; border-title-color: $primary; padding: 0 2; }
    BindPanel Input, BindPanel Input:focus { border: none; background: $background; height: 1; padding: 0 1; }
    BindPanel Input:focus { background: $background-lighten-1; }
    BindPanel OptionList { height: auto; max-height: 10; border: none; background: $panel; margin: 1 0 0 0;
        padding: 0; }
    BindPanel Label { color: $text-muted; width: 100%; }
    BindPanel #settings { color: $foreground; margin: 1 0 0 0; }
    BindPanel #complaint { color: $error; margin: 0; height: auto; }
    BindPanel #complaint.listening { color: $primary; text-style: bold; }
    """
    HEARS = ("chord",)
    BINDINGS: ClassVar[list[BindingType]] = [
        ("f4", "catch", "press the chord"), ("f5", "gesture", "another gesture"), ("f6", "layer", "another layer"),
        *((key, f"set('{key}')", "what is set") for key in (*KEYS_OF.values(), *FURTHER_KEYS)),
    ]

    def __init__(self, surface: SurfaceRow, control: ControlRow, macros: list[MacroRow], *, save: Save,
                 ask: Ask | None = None, layer: str = "", gesture: str = "") -> None:
        super().__init__()
        self.surface, self.control, self.macros, self._ask, self._save = surface, control, macros, ask, save
        on = [row.id for row in surface.layers if row.on]
        self.on_layer = layer or control.layer or (on[-1] if on else "")
        self.gesture = gesture or control.gesture or PRESS
        self._from_terminal = False
        self._listening = False
        self._looked_up = ""
        self._load()

    def _load(self) -> None:
        """What is bound there now."""
        layers = self.surface.layers
        rows = next((layer.bindings for layer in layers if layer.id == self.on_layer), [])
        self.row = next((row for row in rows if row.control == self.control.id and row.gesture == self.gesture),
                        NO_BINDING)
        # As it is written; what is typed in fields is read from there.
        self.settings: dict[str, Any] = {name: getattr(self.row, OWN.get(name, name)) for name in settings_of(Bound)}

    def compose(self) -> ComposeResult:
        """One field, its proposals, a label, a note, and what is set."""
        with Vertical():
            yield Label("", id="now", markup=False)
            yield Input(placeholder="Chord, macro or action. Example: ctrl+alt+1",
                        id="what")
            yield Label("", id="complaint", markup=False)
            yield OptionList(id="choices", markup=False)
            yield KeyLine(id="settings")
            yield Label(f"Key label (up to {LONGEST_LABEL} characters; default: the action's name):")
            yield Input(placeholder="label", id="label", max_length=4 * LONGEST_LABEL)
            yield Label(f"Short form for large letters (up to {LONGEST_FAR} characters; default: the label):",
                        classes="further")
            yield Input(placeholder="short form for large letters", id="far", max_length=4 * LONGEST_FAR)
            yield Label("Note, for yourself:", classes="further")
            yield Input(placeholder="note, for yourself", id="note", max_length=120)
            yield KeyLine(id="keys", types=True)

    def on_mount(self) -> None:
        """Begin in the field."""
        self.query_one("#what", Input).focus()
        if self.size.height < LOW:
            self.query_one(OptionList).styles.max_height = 6
            # What is empty says itself what belongs there.
            self.query(".further").set(display=False)
        self._show()

    def _show(self) -> None:
        """After another gesture or layer was chosen."""
        layer = next((row.name for row in self.surface.layers if row.id == self.on_layer), "")
        hops = (self.surface.name, self.control.legend.split(" ↓")[0], self.gesture, layer)
        self.query_one(Vertical).border_title = " ▸ ".join(hop for hop in hops if hop)
        self.query_one("#now", Label).update(f"Now: {self.row.words or 'nothing bound'}")
        self.query_one("#label", Input).value = self.row.own_label
        self.query_one("#far", Input).value = self.row.far
        self.query_one("#note", Input).value = self.row.note
        self._propose(self.query_one("#what", Input).value)
        self._show_settings()

    def _show_settings(self) -> None:
        parts = [f"{key.upper()} {row.label}: {row.say(self.settings[row.name]).replace('none', '–')}"
                 for key, row in self._keys().items()]
        self.query_one("#settings", KeyLine).say("   ".join(parts))
        listen = "F4 press the chord   " if self._ask else ""
        self.query_one("#keys", KeyLine).say(f"↑ ↓ choose   Enter: bind   {listen}F5 gesture   F6 layer   "
                                             "Tab label, note   Esc: cancel")

    def _keys(self) -> dict[str, Setting]:
        """What can be set for this gesture and action, by the key that goes through it."""
        fitting = [row for row in settings_of(Bound).values() if self._values(row) and fits(row, self._kind(),
                                                                                             self.gesture)]
        further = iter(FURTHER_KEYS)
        found = {KEYS_OF.get(row.name) or next(further, ""): row for row in fitting}
        return {key: found[key] for key in (*KEYS_OF.values(), *FURTHER_KEYS) if key in found}

    def _values(self, row: Setting) -> tuple[Any, ...]:
        """What a setting goes through here: steps of a knob without ends are counts, of others shares of the way."""
        if not isinstance(row.kind, Stride):
            return row.proposals
        turns = bool(self.control.turns)
        if self.gesture == MOVE and not turns:
            return ()
        counts = turns and self.gesture != MOVE
        return tuple(value for value in row.proposals if not value or value.isdigit() == counts)

    def _kind(self) -> str:
        """The kind of action that is chosen, or else bound."""
        index = self.query_one(OptionList).highlighted
        kind = self.choices[index].kind if index is not None and index < len(self.choices) else ""
        return str(kind or self.row.kind)

    def action_choose(self, by: int) -> None:
        """Move among the proposals; what can be set goes with what is chosen."""
        super().action_choose(by)
        self._show_settings()

    def action_set(self, key: str) -> None:
        """The next value of what this key goes through."""
        row = self._keys().get(key)
        if row is not None:
            self.settings[row.name] = _next(self._values(row), self.settings[row.name])
            self._show_settings()

    def action_gesture(self) -> None:
        """The next gesture of the control."""
        rows = next((layer.bindings for layer in self.surface.layers if layer.id == self.on_layer), [])
        bound = [row.gesture for row in rows if row.control == self.control.id]
        known = gestures_for(self.control, bound)
        for begins, bands in BANDS.items():
            if any(gesture.startswith(begins) for gesture in known):
                known += [band for band in bands if band not in known]
        self.gesture = _next((*known, *([self.gesture] if self.gesture not in known else [])), self.gesture)
        self._load()
        self._show()

    def action_layer(self) -> None:
        """The next layer of the surface."""
        self.on_layer = _next(tuple(row.id for row in self.surface.layers), self.on_layer)
        self._load()
        self._show()

    @on(Input.Changed, "#what")
    def _typed(self, event: Input.Changed) -> None:
        self._propose(event.value)
        self._show_settings()

    def _propose(self, text: str) -> None:
        choices, complaint = proposals(text, self.macros, bound=bool(self.row), layers=self.surface.layers,
                                       gesture=self.gesture)
        self.offer([(choice.shown, choice) for choice in choices])
        self._say(f"✗ {complaint}" if complaint else "")
        chord = next((choice.target for choice in choices if choice.kind == "tap"), "")
        if chord != self._looked_up:
            self._looked_up = chord
            if self._ask is not None and chord:
                self._look_up(chord)

    @work(exclusive=True, group="takers")
    async def _look_up(self, chord: str) -> None:
        """Say who takes this chord, before it is bound."""
        assert self._ask is not None
        await asyncio.sleep(LOOK_UP_AFTER)
        reply = await self._ask("who_takes", chord=chord)
        if not isinstance(reply, Takers) or self._looked_up != chord or not self.is_current or self._listening:
            return
        here = (self.surface.id, self.control.id)
        others = [row.shown for row in reply.controls if (row.surface, row.control) != here]
        said = [f"“{row.does}” in {row.name}" for row in reply.programs]
        if said or others:
            sent = f"; also sent by {', '.join(others[:2])}{' …' if len(others) > 2 else ''}" if others else ""
            sign = "!" if len(said) > 1 else "·"
            self._say(f"{sign} {chord}: {' and '.join(said) or 'no known program takes it'}{sent}")

    def _say(self, text: str, *, listening: bool = False) -> None:
        label = self.query_one("#complaint", Label)
        label.update(text)
        label.set_class(listening, "listening")

    # Pressing the chord instead of typing it.

    @work(exclusive=True)
    async def action_catch(self) -> None:
        """Listen for one chord on the main keyboard."""
        if self._ask is None or self._listening:
            return
        reply = await self._ask("catch_chord")
        if not self.is_current:
            return
        # Only now: news of an earlier catch may still have been on their way.
        self._listening = True
        if not isinstance(reply, Catching) or reply.bench_only:
            # Nothing but the terminal's own keyboard is here: what it can tell, it tells.
            self._from_terminal = True
            self.set_focus(None)
            self._say("● Press the chord. The terminal reports it without Super, without F13 to F24, and left and "
                      "right alike. Esc: cancel.",
                      listening=True)
        else:
            self._say(f"● Press the chord on {', '.join(reply.keyboards)}; no other program gets it. "
                      f"{reply.seconds:.0f} s. Esc: cancel.", listening=True)

    def hear(self, message: ChordNews) -> None:
        """News of the chord that is listened for."""
        if not self._listening or (self._from_terminal and not message.chord):
            return
        if message.chord:
            self._caught(message.chord)
        elif message.state == "listening":
            if message.down:
                self._say(f"● {'+'.join(message.down)} …", listening=True)
        else:
            self._listening = False
            self._say("No chord within ten seconds. F4: listen again."
                      if message.state == "over" else "Cancelled. F4: listen again.")

    def _caught(self, chord: str) -> None:
        self._listening = self._from_terminal = False
        field = self.query_one("#what", Input)
        field.focus()
        field.value = chord
        field.cursor_position = len(chord)

    async def on_event(self, event: events.Event) -> None:
        """While the terminal tells the chord, its keys mean nothing else."""
        if isinstance(event, events.Key) and self._from_terminal:
            event.stop()
            if event.key == "escape":
                self._listening = self._from_terminal = False
                self.query_one("#what", Input).focus()
                self._say("Cancelled. F4: listen again.")
            elif chord := chord_of_terminal(event.key, event.character):
                self._caught(chord)
            else:
                self._say(f"✗ “{event.key}” cannot be sent as a key. Type the chord instead.")
            if self._ask is not None and not self._from_terminal:
                self.run_worker(self._ask("leave_chord"))
            return
        await super().on_event(event)

    def take(self, choice: Choice) -> None:
        if choice.completes or choice.shown.startswith("…"):
            field = self.query_one("#what", Input)
            field.value = choice.completes or field.value
            field.cursor_position = len(field.value)
            field.focus()
            return
        typed = {name: self.query_one(f"#{name}", Input).value.strip() for name in ("label", "far", "note")}
        settings = {name: value for name, value in {**self.settings, **typed}.items()
                    if choice.kind or not isinstance(value, str) or name in typed}
        settings.pop("icon")
        fields = {"surface": self.surface.id, "control": self.control.id, "layer": self.on_layer,
                  "gesture": self.gesture, "kind": choice.kind, "target": choice.target, **settings}
        self.run_worker(self._finish(fields), exclusive=True, group="save")

    async def _finish(self, fields: dict[str, Any]) -> None:
        reply, wrong = await self._save(fields)
        if reply is not None:
            self.dismiss(reply)
        else:
            self._say(f"✗ {wrong}")

    def action_leave(self) -> None:
        """Change nothing."""
        if self._listening:
            self._listening = False
            self._say("Cancelled. F4: listen again.")
            if self._ask is not None:
                self.run_worker(self._ask("leave_chord"))
            return
        self.dismiss(None)


def _next(values: tuple[Any, ...], now: Any) -> Any:
    return values[(values.index(now) + 1) % len(values)] if now in values else values[0]


def chord_of_terminal(key: str, character: str | None) -> str:
    """A chord from what a terminal reports, or an empty text if it is none."""
    *modifiers, last = key.split("+")
    words = [{"ctrl": "Ctrl", "alt": "Alt", "shift": "Shift", "super": "Super", "meta": "Super"}.get(word, word)
             for word in modifiers]
    if len(last) == 1 and last.isupper() and "Shift" not in words:
        words.append("Shift")
    if last.startswith("upper_"):
        last, words = last.removeprefix("upper_"), [*words, "Shift"]
    for name in (last, _NAMES.get(last, last)):
        try:
            return str(parse_chord("+".join([*words, name])))
        except (ProblemError, KeyError):
            continue
    return ""


# What terminals' reports are called where the key table has another word.
_NAMES = {"full_stop": "Dot", "question_mark": "Shift+Slash", "exclamation_mark": "Shift+1",
          "underscore": "Shift+Minus",
          "plus": "Shift+Equal", "equals_sign": "Equal", "semicolon": "Semicolon", "apostrophe": "Apostrophe",
          "left_square_bracket": "LeftBracket", "right_square_bracket": "RightBracket", "backslash": "Backslash",
          "grave_accent": "Grave", "asterisk": "Shift+8", "at": "Shift+2", "number_sign": "Shift+3"}
