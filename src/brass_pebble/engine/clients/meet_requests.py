"""What clients may ask about devices: listening, taking over, drawing, settings of a surface.

One method for each request, named after it; docs/protocol.md tells the fields.
"""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any, cast

from brass_pebble.core.desk.model import ON_TRIAL, Surface
from brass_pebble.core.desk.read.bindings import row_of
from brass_pebble.core.desk.read.phrases import SPOKEN
from brass_pebble.core.desk.read.surfaces import LAMPS
from brass_pebble.core.devices.free_place import free_place
from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.layout import Layout, read_layout, write_layout
from brass_pebble.core.devices.parts import Part, read_part
from brass_pebble.core.devices.proposal import propose
from brass_pebble.core.say.problem import Problem, ProblemError, nearest
from brass_pebble.core.signals.signal import from_wire, signal_name, wire
from brass_pebble.engine.devices.meeting import Meet
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.devices.set_aside import SetAside
from brass_pebble.engine.devices.ways_in import TRIAL_SECONDS
from brass_pebble.engine.disk.edits import Edit, Row
from brass_pebble.engine.ports import LiveDesk, Ports
from brass_pebble.engine.setup import Setup
from brass_pebble.protocol import devices as messages
from brass_pebble.protocol.devices import HandDrawn
from brass_pebble.protocol.errors import OnlyKeyboard, Refusal

from .editing import Editing
from .server import Client, Message

MS = 1_000_000
PROPOSED = 8


class MeetRequests:
    """Answers on behalf of an engine."""

    devices: Devices
    meet: Meet
    aside: SetAside
    live: LiveDesk
    setup: Setup

    def __init__(self, ports: Ports, editing: Editing) -> None:
        self._ports, self._editing = ports, editing

    def do_devices(self, client: Client, ask: messages.AskDevices) -> None:
        """The devices that are here, looked at again, and which surface has which."""
        number = ask.id

        def found(present: object) -> None:
            if isinstance(present, list) and self.devices.take(present):
                self.live.tell_desk()
            self._editing.reply(client, number, self.meet.state())
        self._ports.worker.do(self.devices.present, found)

    def do_listen(self, client: Client, ask: messages.Listen) -> Message:
        """Listen to every device that is not a surface, or to one, for some seconds, without taking any over."""
        only = self._device(ask.device).id if ask.device else ""
        seconds = self.meet.listen(client.number, ask.seconds, only,
                                           motion=ask.motion, microphones=ask.microphones)
        return {"seconds": seconds}

    def do_hush(self, client: Client, ask: messages.Hush) -> Message:
        """Stop listening."""
        self.meet.hush(client.number)
        return {}

    def do_attend(self, client: Client, ask: messages.Attend) -> Message:
        """Send a surface's presses to this client instead of answering them; without a surface, no longer."""
        self.aside.give_to(client.number,
                                   self._editing.surface(ask.surface).id if ask.surface else "")
        return {}

    def do_main(self, client: Client, ask: messages.Main) -> Message:
        """Mark a device as the main keyboard: it is never taken over."""
        facts = self._device(ask.device)
        owner = self.devices.owner(facts.id)
        if owner:
            raise Refusal(f"“{facts.shown}” is the surface “{owner}” at the moment",
                          "Give it back first: select the surface on the desk and press i")
        if self.devices.kind_of(facts).by_messages:
            raise Refusal(f"“{facts.shown}” is not a keyboard to type on", "Press a key on the keyboard that you "
                                                                           "type on")
        self.devices.memory.main = facts.rule()
        self.devices.take(self.devices.here)
        self.live.tell_desk()
        return {}

    def do_bench(self, client: Client, ask: messages.Bench) -> Message:
        """Pull a device of the bench out, or plug it in, in another port if one is named."""
        bench, name = self.setup.bench, ask.device
        if name not in bench.devices:
            raise Refusal(f"there is no “{name}” on the bench", nearest(name, bench.devices))
        owner = self.devices.owner(name)
        there = ask.there
        bench.plug(name, there=there, port=ask.port)
        if owner and (not there or ask.port):
            self.devices.lost(owner, "pulled out by hand")
        self.devices.look_again()
        return {}

    def do_proposals(self, client: Client, ask: messages.AskProposals) -> None:
        """Drawings that may suit a device, the likeliest first."""
        facts, number = self._device(ask.device), ask.id
        plays_notes = self.devices.kind_of(facts).plays_notes
        if facts.spoken_to:
            self._editing.reply(client, number, {"proposals": []})
            return

        def done(found: object) -> None:
            if isinstance(found, Exception):
                self._editing.refuse(client, number, Refusal(f"the drawings cannot be read: {found}"))
                return
            assert isinstance(found, list)
            self._editing.reply(client, number, {"proposals": [
                {"layout": p.layout.id, "name": p.layout.name, "why": p.why, "learn": p.learn,
                 "controls": controls_of(p.layout.with_keys(p.keys))} for p in found]})
        self._ports.worker.do(lambda: propose(
            facts, self._editing.store.layouts(), plays_notes=plays_notes)[:PROPOSED], done)

    def do_take(self, client: Client, ask: messages.Take) -> None:
        """Make a device a surface of the desk."""
        devices, facts = self.devices, self._device(ask.device)
        owner = devices.owner(facts.id)
        if owner:
            raise Refusal(f"“{facts.shown}” is the surface “{owner}” already", "It stands on the desk")
        if self.devices.memory.is_main(facts):
            raise Refusal(f"“{facts.shown}” is your main keyboard: it stays yours to type on",
                          "Press F3 and then a key on another keyboard if that one is your main keyboard")
        if not facts.readable:
            raise Refusal(f"“{facts.shown}” may not be read by you", "brass-pebble checkup tells what is missing")
        taken = _parts(ask.takes)
        meant = Surface("", "", takes=taken)
        only_keyboard = devices.ways.is_last_keyboard(facts, meant)
        trial = devices.ways.needs_trial(facts, meant)
        if only_keyboard and ask.typed != ON_TRIAL:
            raise OnlyKeyboard(f"“{facts.shown}” is the only full keyboard here; taken over, it types nothing any more",
                               f"If that is what you want, type “{ON_TRIAL}”")
        also = [self._device(name).rule() for name in ask.also]
        name = ask.name.strip() or facts.shown
        surface_id = _free_name(name, self._ports.desk.surfaces)
        layout = SPOKEN if facts.spoken_to else ask.layout
        table: dict[str, Any] = {"name": name}
        if layout:
            table["layout"] = layout
        table |= _given({"takes": [str(part) for part in taken]})
        table["at"] = list(free_place(self._boxes(), _size(ask.size)))
        table["device"] = Row(facts.rule().fields)
        if also:
            table["also"] = [Row(rule.fields) for rule in also]
        table |= _given({"second": _key_names(ask.second)})
        table["layer"] = {"base": {"name": "Base"}}
        table |= _given({"keys": _keys_row(ask.keys)})
        edit = Edit(f"{name}: taken over", ((("surface", surface_id), table),))
        if trial:
            devices.ways.try_out(surface_id, TRIAL_SECONDS, lambda now: self._trial_over(surface_id))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit),
                            {"surface": surface_id, "trial_seconds": TRIAL_SECONDS if trial else 0})

    def _trial_over(self, surface_id: str) -> None:
        self.devices.ways.end_trial(surface_id)
        surface = self._ports.desk.surfaces.get(surface_id)
        if surface is not None:
            # First of all the device works again; then the desk is put right.
            self.devices.give_back(surface_id)
            self._ports.problems.add(Problem(
                f"{surface.name} was taken over on trial and nobody kept it, so it was given back",
                hint="Take it over once more, and keep it within ten seconds: with y, or by typing keep on it"))
            edit = Edit(f"{surface.name}: given back", ((("surface", surface_id), None),))
            self._editing.edit(None, None, lambda: self._editing.store.change(edit))

    def do_keep(self, client: Client, ask: messages.Keep) -> None:
        """Keep the last keyboard or pointer that was taken over on trial."""
        surface = self._editing.surface(ask.surface)
        if surface.id not in self.devices.ways.trials:
            raise Refusal(f"“{surface.name}” is not on trial", "Take it over again, and say keep within ten seconds")
        holding = self.devices.holdings.get(surface.id)
        facts = holding.parts[0] if holding and holding.parts else None
        points = facts is not None and facts.points and surface.takes_pointing
        types = facts is None or (facts.full and surface.takes_typing)
        what = " and ".join(word for word, is_it in (("keyboard", types), ("pointer", points)) if is_it)
        edit = Edit(f"{surface.name}: kept, though it is the only {what}", tuple(
            (("surface", surface.id, name), True) for name, is_it in (
                ("may_be_only_keyboard", types), ("may_be_only_pointer", points)) if is_it))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit),
                            then=lambda: self._kept(surface.id))

    def _kept(self, surface_id: str) -> None:
        self.devices.ways.keep(surface_id)
        self.live.tell_desk()

    def do_draw(self, client: Client, ask: messages.Draw) -> None:
        """Give a surface another drawing: one that is there, or one drawn by hand, which is then kept for all desks.

        What was bound follows the keys: a binding goes to the control that sends the same.
        """
        surface, store = self._editing.surface(ask.surface), self._editing.store
        if surface.layout.id == SPOKEN:
            raise Refusal(f"“{surface.name}” is drawn from its phrases", "Change them in the Phrases view (J)")
        drawing, keys = ask.drawing, {control: from_wire(code) for control, code in ask.keys.items()}
        holding = self.devices.holdings.get(surface.id)
        facts = holding.parts[0] if holding and holding.parts else None
        second = _key_names([*ask.second, *surface.second])

        def work() -> str:
            files: list[tuple[str, str | None]] = []
            layouts = {layout.id: layout for layout in store.layouts()}
            if drawing:
                layout = _read_drawing(drawing, surface, facts, layouts, store.layout_is_own)
                files.append((f"layouts/{layout.id}.toml", write_layout(layout)))
            else:
                name = ask.layout
                if name not in layouts:
                    raise ProblemError(f"there is no layout “{name}”", hint=nearest(name, layouts))
                layout = layouts[name]
            sent = layout.with_keys(keys)
            path = ("surface", surface.id)
            values = [((*path, "layout"), layout.id), ((*path, "keys"), _keys_row(keys) or None),
                      ((*path, "second"), sorted(set(second)) or None), *_carry_over(surface, sent)]
            return store.change(Edit(f"{surface.name}: drawn as {layout.name}", tuple(values), tuple(files)))
        self._editing.edit(client, ask, work)

    def do_set(self, client: Client, ask: messages.Set) -> None:
        """Change a setting of a surface, or of the desk; a value of null goes back to what holds without it."""
        value = cast(Any, ask.value)
        if ask.what in LAMPS and ask.surface:
            surface = self._editing.surface(ask.surface)
            edit = Edit(f"{surface.name}: {ask.what} lamp: {value or 'as without it'}",
                        ((("surface", surface.id, "lamps", ask.what), value),))
            self._editing.edit(client, ask, lambda: self._editing.store.change(edit))
            return
        if ask.what == "takes":
            value = [str(part) for part in _parts(value or [])] or None
        self._editing.set(client, ask, ask.surface, ask.what, value)

    def do_remove(self, client: Client, ask: messages.Remove) -> None:
        """Take a surface off the desk; its device is free again.  Undo restores it with all that was bound."""
        surface = self._editing.surface(ask.surface)
        edit = Edit(f"{surface.name}: taken off the desk", ((("surface", surface.id), None),))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))

    def do_this(self, client: Client, ask: messages.This) -> Message:
        """Answer which device the surface asked about has, without pressing it."""
        self.devices.point_out(self._device(ask.device))
        return {"question": self.devices.question()}

    def _device(self, name: str) -> DeviceFacts:
        facts = self.devices.find(name)
        if facts is None:
            raise Refusal("that device is not here any more", "Plug it in again, or choose another one")
        return facts

    def _boxes(self) -> list[tuple[tuple[float, float], tuple[float, float]]]:
        desk = self._ports.desk
        boxes = [(s.at, (s.layout.width or 4.0, s.layout.height or 1.5)) for s in desk.surfaces.values()]
        return boxes + [(place.at, place.size) for place in desk.stage]


def controls_of(layout: Layout) -> list[Message]:
    """A drawing, for clients."""
    return [{"id": c.id, "code": wire(c.code), "key": signal_name(c.code), "x": c.x, "y": c.y, "w": c.w, "h": c.h,
             "legend": c.legend} for c in layout.controls]


def _read_drawing(drawing: HandDrawn, surface: Surface, facts: DeviceFacts | None, layouts: dict[str, Layout],
                  is_own: Any) -> Layout:
    """A drawing made by hand, with a name that no other drawing has, for this make of device."""
    rows = [{"id": row.id, "sends": signal_name(from_wire(row.code)), "x": row.x, "y": row.y, "w": row.w, "h": row.h,
             "legend": row.legend} for row in drawing.controls]
    name = drawing.name or surface.name
    layout, problems = read_layout({"name": name, "control": rows}, id="drawn", file="the drawing")
    if problems:
        raise ProblemError(problems[0].what, hint=problems[0].hint)
    fits = (f"{facts.vendor}:{facts.product}",) if facts and (facts.vendor or facts.product) else ()
    # Drawn once more: the old drawing is replaced, unless other surfaces' makers need it or it came with the program.
    same = surface.layout.id if is_own(surface.layout.id) else ""
    return replace(layout, id=same or _free_name(name, layouts), fits=fits)


def _carry_over(surface: Surface, layout: Layout) -> list[tuple[tuple[str, ...], Any]]:
    """Bindings whose control has another name in the new drawing move to it."""
    by_code = {c.code: c.id for c in layout.controls}
    values: list[tuple[tuple[str, ...], Any]] = []
    for layer in surface.layers:
        for (control, gesture), binding in layer.bindings.items():
            code = surface.code_of(control)
            if code is None:
                continue
            now = by_code.get(code, signal_name(code))
            if now != control:
                path = ("surface", surface.id, "layer", layer.id, gesture)
                values += [((*path, control), None), ((*path, now), Row(row_of(binding)))]
    # First everything is taken away, then put down, so that names may be exchanged.
    return sorted(values, key=lambda item: item[1] is not None)


def _parts(words: Any) -> tuple[Part, ...]:
    """The parts of a device that are wanted, from a list of texts.

    Raises:
        Refusal: one of them is empty, or it is not a list.
    """
    if not isinstance(words, list) or not all(isinstance(word, str) and word.strip() for word in words):
        raise Refusal("the parts of a device are a list of texts", 'Name them like "back" or "motion while aim"')
    return tuple(map(read_part, words))


def _keys_row(keys: dict[str, Any]) -> dict[str, str]:
    return {control: signal_name(from_wire(code)) for control, code in keys.items()}


def _key_names(codes: list[int | str]) -> list[str]:
    return [signal_name(from_wire(code)) for code in codes]


def _given(values: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in values.items() if value}


def _size(size: Any) -> tuple[float, float]:
    return (float(size[0]), float(size[1])) if size else (4.0, 2.0)


def _free_name(name: str, taken: Any) -> str:
    """An id of letters, digits and dashes that nobody has."""
    wanted = re.sub(r"[^a-z0-9]+", "-", name.casefold()).strip("-")[:30].strip("-") or "surface"
    found, number = wanted, 2
    while found in taken:
        found, number = f"{wanted}-{number}", number + 1
    return found
