"""What clients may ask about bindings, layers, the focused window, chords and clashes.

One method for each request, named after it; docs/protocol.md tells the fields.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import asdict, replace
from typing import Any, cast

from msgspec import UnsetType

from brass_pebble.core.desk import rearrange
from brass_pebble.core.desk.action import read_action
from brass_pebble.core.desk.binding import Binding
from brass_pebble.core.desk.layer_switch import HOWS, FocusedWindow, LayerTarget
from brass_pebble.core.desk.look.clashes import Survey, find_clashes
from brass_pebble.core.desk.look.free_chords import free_chords, free_family, own_chords, taken_shapes
from brass_pebble.core.desk.model import Layer, Surface, find_layer
from brass_pebble.core.desk.read.phrases import SPOKEN, cannot_be_said
from brass_pebble.core.desk.shortcuts import ProgramTable, say_shape, shape_of
from brass_pebble.core.macro.timetable import chord_timetable
from brass_pebble.core.play.gesture import AT, MOTIONS
from brass_pebble.core.play.player import ONCE
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.memo import Memo
from brass_pebble.core.say.problem import ProblemError, nearest
from brass_pebble.core.say.setting import check_setting, settings_of
from brass_pebble.core.signals.keys import parse_chord
from brass_pebble.engine.clients.desk_rows import DeskRows
from brass_pebble.engine.devices.chord_catcher import ChordCatcher
from brass_pebble.engine.devices.focus import Focus
from brass_pebble.engine.disk.edits import Edit, binding_edit, rearranging_edit
from brass_pebble.engine.disk.shortcut_files import load_programs
from brass_pebble.engine.ports import Ports
from brass_pebble.engine.runs.control import Control
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.errands.desktop import pick_place, programs
from brass_pebble.kinds.outputs.base import OutputError
from brass_pebble.protocol import layers as messages
from brass_pebble.protocol.errors import NoWindows, Refusal

from .editing import Editing
from .server import Client, Message

MOST_PROPOSED = 24
WAIT_FOR_WINDOW = 10.0
FIRST_LAYER = "base"


class LayerRequests:
    """Answers on behalf of an engine."""

    chord_catcher: ChordCatcher
    focus: Focus
    rows: DeskRows
    setup: Setup
    control: Control
    # Does something about windows on a thread.
    slowly: Callable[[Callable[[], object], Callable[[object], None]], bool]
    # Phrases that sound alike: surface, the two, how alike.
    alike: Callable[[], list[tuple[str, str, str, int]]]

    def __init__(self, ports: Ports, editing: Editing) -> None:
        self._ports, self._editing = ports, editing
        # What each macro sends; used on the worker alone.
        self._sent: Memo[str, Any] = Memo()

    # Bindings.

    def do_bind(self, client: Client, ask: messages.Bind) -> None:
        """Give a gesture of a control another action; an empty kind clears it."""
        surface = self._editing.surface(ask.surface)
        # The first binding of a surface makes its first layer.
        first = not surface.layers and not ask.layer
        layer = Layer(FIRST_LAYER) if first else self._layer(surface, ask.layer)
        control, gesture = ask.control, ask.gesture or "press"
        self._control(surface, control)
        moves = any(item.id == control and item.moves for item in surface.layout.controls)
        if (gesture in MOTIONS or gesture.startswith(AT)) and not moves:
            raise Refusal(f"“{control}” of “{surface.name}” does not move, so there is no “{gesture}”",
                          "Bind it to press, tap or hold")
        if surface.layout.id == SPOKEN and ask.kind:
            trouble, hint = cannot_be_said(control, gesture, read_action(ask.kind, ask.target))
            if trouble:
                raise Refusal(trouble, hint)
        bound = layer.bindings.get((control, gesture))
        # A client that knows nothing of icons leaves the one that is there.
        kept = bound.icon if bound else ""
        settings = {name: getattr(ask, name) for name in settings_of(Binding)}
        settings["icon"] = kept if isinstance(ask.icon, UnsetType) else ask.icon
        store = self._editing.store

        def edit() -> Edit:
            made = binding_edit(surface.id, layer.id, control, ask.kind, ask.target, gesture=gesture,
                                macros=store.macro_names(), settings=settings)
            return replace(made, needs=("surface", surface.id)) if first else made
        self._editing.edit(client, ask, lambda: store.change(edit()))

    def do_rearrange(self, client: Client, ask: messages.Rearrange) -> None:
        """Copy, move, swap, mirror or clear what is bound, all in one change."""
        how, desk = ask.how, self._ports.desk
        places = [self._place(place) for place in ask.places]
        to = self._place(ask.to) if ask.to else None
        if not places:
            raise Refusal("no control is named", "Select one, or several with v")
        said = _say_places(desk.surfaces[places[0][0]], places)
        if how == "clear":
            changes, words = rearrange.clear(desk, places), f"{said}: cleared"
        elif how == "mirror":
            surface = desk.surfaces[places[0][0]]
            chosen = [place[2] for place in places if place[2]] if len(places) > 1 else []
            changes = rearrange.mirror(desk, surface, places[0][1], chosen)
            words = f"{surface.name}: left and right exchanged"
        elif how in ("copy layer", "mirror layer") and to is not None:
            source, target = desk.surfaces[places[0][0]], desk.surfaces[to[0]]
            changes = rearrange.to_other_surface(desk, source, places[0][1], target, to[1],
                                                 mirrored=how == "mirror layer")
            words = (f"{source.name}, layer {places[0][1]}: {'mirrored' if how == 'mirror layer' else 'copied'} to "
                     f"{target.name}, layer {to[1]}")
        elif how in ("copy", "move", "swap") and to is not None:
            pairs = self._pairs(places, to)
            changes = (rearrange.swap(desk, *pairs[0]) if how == "swap" and len(pairs) == 1
                       else rearrange.copy(desk, [*pairs, *((b, a) for a, b in pairs)]) if how == "swap"
                       else {"copy": rearrange.copy, "move": rearrange.move}[how](desk, pairs))
            done = {"copy": "copied to", "move": "moved to", "swap": "swapped with"}[how]
            words = f"{said}: {done} {desk.surfaces[to[0]].name} {to[2]}"
        else:
            raise Refusal(f"“{how}” is not a way to rearrange", "Available: copy, move, swap, mirror, clear, copy "
                          "layer, mirror layer")
        if not changes:
            raise Refusal("there is nothing to change", "Nothing is bound there, or it lies on its own mirror line")
        self._editing.edit(client, ask, lambda: self._editing.store.change(rearranging_edit(words, changes)))

    def _pairs(self, places: list[rearrange.Place],
               to: rearrange.Place) -> list[tuple[rearrange.Place, rearrange.Place]]:
        """Where each goes, when the first goes to `to`: the others keep their places to it in the drawing."""
        desk = self._ports.desk
        target = desk.surfaces[to[0]]
        first = next((c for c in desk.surfaces[places[0][0]].layout.controls if c.id == places[0][2]), None)
        anchor = next((c for c in target.layout.controls if c.id == to[2]), None)
        pairs = []
        for place in places:
            here = next((c for c in desk.surfaces[place[0]].layout.controls if c.id == place[2]), None)
            if place == places[0] or here is None or first is None or anchor is None:
                pairs.append((place, to))
                continue
            x, y = anchor.x + here.x - first.x, anchor.y + here.y - first.y
            there = next((c for c in target.layout.controls if abs(c.x - x) < 0.3 and abs(c.y - y) < 0.3), None)
            if there is None:
                raise Refusal(f"there is no place for {place[2]} there", "Choose a place with room around it")
            pairs.append((place, (to[0], to[1], there.id)))
        return pairs

    def do_bind_family(self, client: Client, ask: messages.BindFamily) -> None:
        """Give several controls the chords of one family."""
        places = [self._place(place) for place in ask.places]
        chords = [str(parse_chord(chord)) for chord in ask.chords]
        if not places or len(chords) < len(places):
            raise Refusal(f"{say_count(len(places), 'control')} need as many chords; there are "
                          f"{len(chords)}", "Choose fewer")
        changes: list[rearrange.Change] = [
            (surface, layer, "press", control, {**_kept(self._ports.desk.surfaces[surface], layer, control),
                                                "tap": chord})
            for (surface, layer, control), chord in zip(places, chords, strict=False)]
        words = f"{say_count(len(places), 'control')}: {chords[0]} to {chords[len(places) - 1]}"
        self._editing.edit(client, ask, lambda: self._editing.store.change(rearranging_edit(words, changes)))

    def _place(self, place: list[str]) -> rearrange.Place:
        surface_id, layer_id, control = place
        surface = self._editing.surface(surface_id)
        layer = self._layer(surface, layer_id)
        if control:
            self._control(surface, control)
        return surface.id, layer.id, control

    def _layer(self, surface: Surface, name: str) -> Layer:
        if not surface.layers:
            raise Refusal(f"“{surface.name}” has no layer yet", "On the screen press l, then n, to add one; or run "
                          f"brass-pebble layer {surface.id} Base --new")
        if not name:
            stack = self._ports.router.layers.stack(surface)
            return next(layer for layer in surface.layers if layer.id == stack[-1])
        layer = find_layer(surface, name)
        if layer is None:
            raise Refusal(f"“{surface.name}” has no layer “{name}”", nearest(name, [la.id for la in surface.layers])
                          or f"It has {', '.join(la.id for la in surface.layers)}")
        return layer

    def _control(self, surface: Surface, control: str) -> None:
        if surface.code_of(control) is None:
            raise Refusal(f"“{surface.name}” has no control “{control}”",
                          nearest(control, [c.id for c in surface.layout.controls]))

    # Layers.

    def do_layer(self, client: Client, ask: messages.SwitchLayer) -> Message:
        """Switch a layer: `how` is one of a control's ways, or on or off."""
        surface = self._editing.surface(ask.surface)
        how = ask.how or "on or off"
        if how in ("on", "off"):
            words = self._ports.router.switch_layer(surface.id, self._layer(surface, ask.layer).id, on=how == "on")
        elif how in HOWS and how != "while held":
            name = self._layer(surface, ask.layer).id if HOWS[how][0] else ""
            words = self._ports.router.layers.switch(LayerTarget(how, name), surface.id, None)
            self._ports.router.follow_layers()
        else:
            raise Refusal(f"“{how}” is not a way to switch a layer from here",
                          f"Available: on, off, {', '.join(name for name in HOWS if name != 'while held')}")
        return {"words": words, **self.rows.layers()}

    def do_add_layer(self, client: Client, ask: messages.AddLayer) -> None:
        """Add a layer on top of a surface's layers."""
        surface = self._editing.surface(ask.surface)
        name = ask.name.strip()
        if not name:
            raise Refusal("a layer needs a name", "Type one, like Cut")
        wanted = re.sub(r"[^a-z0-9]+", "-", name.casefold()).strip("-") or "layer"
        layer_id, number = wanted, 2
        while any(layer.id == layer_id for layer in surface.layers):
            layer_id, number = f"{wanted}-{number}", number + 1
        edit = Edit(f"{surface.name}: layer {name} added", ((("surface", surface.id, "layer", layer_id),
                                                              {"name": name}),), needs=("surface", surface.id))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit), {"layer": layer_id})

    def do_set_layer(self, client: Client, ask: messages.SetLayer) -> None:
        """Change a layer's name, tint, whether it starts on, or the window it follows (null: none)."""
        surface = self._editing.surface(ask.surface)
        layer = self._layer(surface, ask.layer)
        what, value, known = ask.what, cast(Any, ask.value), settings_of(Layer)
        if what in known and value:
            check_setting(known[what], value)
        if what == "follows" and value is not None:
            if layer is surface.layers[0]:
                raise Refusal(f"{layer.name} is the lowest layer, which is always on",
                              "Add a layer above it, and let that one follow the window")
            given = {name: str(value[name]) for name in ("class", "title") if value.get(name)} if isinstance(
                value, dict) else {}
            if not given:
                raise Refusal("a window needs a class or a title", "Choose one from the list")
            value = given
        elif what not in (*known, "follows"):
            raise Refusal(f"a layer has no “{what}”", f"Available: {', '.join((*known, 'follows'))}")
        edit = Edit(f"{surface.name}, layer {layer.name}: {what}",
                    ((("surface", surface.id, "layer", layer.id, what), value or None),),
                    needs=("surface", surface.id, "layer", layer.id))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))

    def do_remove_layer(self, client: Client, ask: messages.RemoveLayer) -> None:
        """Take a layer away; undo restores it with all its bindings."""
        surface = self._editing.surface(ask.surface)
        layer = self._layer(surface, ask.layer)
        if len(surface.layers) == 1:
            raise Refusal("a surface keeps one layer", "Clear its controls, or take the surface off the desk")
        edit = Edit(f"{surface.name}: layer {layer.name} removed",
                    ((("surface", surface.id, "layer", layer.id), None),))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))

    def do_first(self, client: Client, ask: messages.First) -> Message:
        """Begin the cycles of a control, or of a whole surface, with their first action."""
        surface = self._editing.surface(ask.surface)
        return {"count": self._ports.router.restart_cycles(surface.id, ask.control)}

    def do_set_times(self, client: Client, ask: messages.SetTimes) -> None:
        """Change the time of holds or double taps, of a surface or of the whole desk (null: the default)."""
        if ask.what not in ("hold_after", "second_within"):
            raise Refusal(f"there is no time “{ask.what}”", "Available: hold_after and second_within")
        self._editing.set(client, ask, ask.surface, ask.what, ask.value)

    # The focused window.

    def do_focus(self, client: Client, ask: messages.Focus) -> Message:
        """Say which window has the focus, or pin the layers (`pin` true or false), or give a stage program the
        focus."""
        focus = self.focus
        if ask.pin is not None:
            focus.pin(pinned=ask.pin)
        elif ask.stage:
            focus.focus_stage(ask.stage)
        elif ask.cls or ask.title:
            focus.told(FocusedWindow(ask.cls, ask.title), "a script")
        return self.rows.layers()

    def do_windows(self, client: Client, ask: messages.AskWindows) -> None:
        """The windows that are open now."""
        number = ask.id

        def done(result: object) -> None:
            if isinstance(result, list):
                self._editing.reply(client, number, {"windows": [
                    {"class": window.cls, "title": window.title} for window in result]})
            else:
                hint = "Type the window's class or title" if isinstance(result, OutputError) else ""
                self._editing.refuse(client, number, NoWindows(str(result), hint))
        self._ports.worker.do(self.focus.windows, done)

    def do_programs(self, client: Client, ask: messages.AskPrograms) -> None:
        """Programs that macros can name."""
        number = ask.id

        def done(result: object) -> None:
            self._editing.reply(client, number, {"programs": result if isinstance(result, list) else []})
        self._ports.worker.do(programs, done)

    def do_next_window(self, client: Client, ask: messages.NextWindow) -> None:
        """Answer with the next window that gets the focus, within ten seconds."""
        number = ask.id

        def done(window: FocusedWindow | None) -> None:
            if window is None:
                self._editing.refuse(client, number, Refusal(
                    f"no other window got the focus within {WAIT_FOR_WINDOW:.0f} s",
                    "Ask again, then click the window"))
            else:
                self._editing.reply(client, number, {"class": window.cls, "title": window.title})
        self.focus.next_window(WAIT_FOR_WINDOW, done)

    def do_pick_place(self, client: Client, ask: messages.PickPlace) -> None:
        """Answer with the place of the next click, or where the pointer rests when the time is over."""
        number = ask.id

        def done(result: object) -> None:
            if isinstance(result, dict):
                self._editing.reply(client, number, result)
            else:
                self._editing.refuse(client, number, Refusal(f"a place cannot be picked here: {result}",
                                                             "Write it by hand: move to 50% 25%"))
        if not self.slowly(lambda: pick_place(ask.seconds), done):
            raise Refusal("too much waits for windows already", "Try again in a moment")

    # Chords.

    def do_catch_chord(self, client: Client, ask: messages.CatchChord) -> Message:
        """Listen for one chord on the main keyboard; news of it come under the topic “chord”."""
        return dict(self.chord_catcher.begin(client.number))

    def do_leave_chord(self, client: Client, ask: messages.LeaveChord) -> Message:
        """Stop listening for a chord."""
        self.chord_catcher.end("left")
        return {}

    def do_clashes(self, client: Client, ask: messages.AskClashes) -> None:
        """Conflicts, and the shortcut tables there are."""
        number = ask.id
        desk, alike = self._ports.desk, self.alike()

        def work() -> Message:
            programs, problems = self._programs()
            return {"clashes": [asdict(clash) for clash in find_clashes(desk, programs, self._sent, alike)],
                    "programs": [_program_state(program) for program in programs],
                    "problems": [problem.as_dict() for problem in problems]}
        self._on_worker(client, number, work)

    def do_who_takes(self, client: Client, ask: messages.WhoTakes) -> None:
        """Which known programs take a chord, and which controls of the desk send it."""
        number, desk = ask.id, self._ports.desk
        shape = shape_of(parse_chord(ask.chord).codes)

        def work() -> Message:
            programs, _ = self._programs()
            survey = Survey(desk, programs)
            where = dict.fromkeys(sending.where for sending in survey.sendings if sending.shape == shape)
            return {"programs": [{"name": program.name, "does": shortcut.does, "always": program.always}
                                 for program in programs if (shortcut := program.takes(shape))],
                    "controls": [{**asdict(place), "shown": survey.say(place)} for place in where]}
        self._on_worker(client, number, work)

    def do_free_chords(self, client: Client, ask: messages.FreeChords) -> None:
        """Chords that nothing known takes: for a label, or a family of `count` for as many controls."""
        number = ask.id
        count = max(1, min(ask.count, MOST_PROPOSED))
        label, family, desk = ask.label, ask.family, self._ports.desk

        def work() -> Message:
            programs, _ = self._programs()
            taken = taken_shapes(desk, programs)
            if family:
                return {"chords": [str(chord) for chord in free_family(count, taken)]}
            proposed = free_chords(label, taken)
            return {"chords": [str(chord) for _, chord in zip(range(count), proposed, strict=False)]}
        self._on_worker(client, number, work)

    def do_own_chords(self, client: Client, ask: messages.AskOwnChords) -> None:
        """What controls would send if each sent its own key with modifiers."""
        number, desk = ask.id, self._ports.desk
        places = [self._place(place) for place in ask.places]

        def work() -> Message:
            programs, _ = self._programs()
            return {"rows": [row._asdict() for row in own_chords(desk, programs, places)]}
        self._on_worker(client, number, work)

    def do_send_once(self, client: Client, ask: messages.SendOnce) -> Message:
        """Send a chord once, after a count-in, so that a program's own dialog can learn it."""
        chord = parse_chord(ask.chord)
        seconds = ask.seconds
        origin = client.name or "a client"

        def send(now: int) -> None:
            self.control.play_timetable(chord_timetable(chord, tap=self._ports.desk.tap), f"{chord} once", origin, ONCE)
        self._ports.alarms.at("send once", self._ports.now() + int(seconds * 1e9), send)
        return {"chord": str(chord), "seconds": seconds}

    def do_leave_send(self, client: Client, ask: messages.LeaveSend) -> Message:
        """Call a chord off that is about to be sent."""
        self._ports.alarms.cancel("send once")
        return {}

    def _programs(self) -> tuple[list[ProgramTable], list[Any]]:
        user = self._editing.store.user_layouts.parent / "programs" if self._editing.store.user_layouts else None
        on_stage = [place.program for place in self._ports.desk.stage] if self._ports.desk.output == "stage" else []
        return load_programs(self._editing.store.folder, user, self.setup.stage, on_stage)

    def _on_worker(self, client: Client, number: Any, work: Any) -> None:

        def done(result: object) -> None:
            if isinstance(result, dict):
                self._editing.reply(client, number, result)
            elif isinstance(result, ProblemError):
                self._editing.refuse(client, number, Refusal(result.problem.what, result.problem.hint))
            else:
                self._editing.refuse(client, number, Refusal(f"it could not be worked out: {result}", ""))
        self._ports.worker.do(work, done)


def _program_state(program: ProgramTable) -> Message:
    return {"id": program.id, "name": program.name, "origin": program.origin, "always": program.always,
            "shortcuts": [{"chord": say_shape(shortcut.shape), "does": shortcut.does}
                          for shortcut in program.shortcuts]}


def _kept(surface: Surface, layer_id: str, control: str) -> dict[str, str]:
    """What a control keeps when it gets another chord."""
    layer = find_layer(surface, layer_id)
    binding = layer.bindings.get((control, "press")) if layer else None
    kept = {name: getattr(binding, name) for name in ("label", "tint", "note")} if binding else {}
    return {name: value for name, value in kept.items() if value}


def _say_places(surface: Surface, places: Iterable[rearrange.Place]) -> str:
    names = [place[2] for place in places]
    return f"{surface.name} {', '.join(names[:4])}" + (f" and {len(names) - 4} more" if len(names) > 4 else "")
