"""What gets in each other's way on a desk: chords that more than one program takes, bindings that never fire, and so
on.  Pure; each kind of clash is a function that reads the survey, listed in `KINDS`."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field

from brass_pebble.core.desk.action import ACTION_KINDS
from brass_pebble.core.desk.binding import RAPID_EVERY, Binding
from brass_pebble.core.desk.layer_switch import EVERY, NEXT, PREVIOUS, WHILE_HELD, LayerTarget
from brass_pebble.core.desk.model import Desk, Layer, Surface, find_layer
from brass_pebble.core.desk.shortcuts import ProgramTable, Shape, say_shape, shape_of
from brass_pebble.core.effects.kinds import KEY, kind_of
from brass_pebble.core.macro.timetable import Macro, Timetable
from brass_pebble.core.play.gesture import DOUBLE, RELEASE, WITH
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.durations import say_duration
from brass_pebble.core.say.memo import Memo
from brass_pebble.core.signals.keys import modifier_codes
from brass_pebble.core.voice.phrase import Phrase
from brass_pebble.core.voice.wording import SlotPlace

BAD, NOTICE = "bad", "notice"
_LAYER_STEP = re.compile(r"\s*layer\s+\"?(.+?)\"?\s+on\s*(?:#.*)?$")
_PLAY_STEP = re.compile(r"\s*play\s+\"?(.+?)\"?\s*(?:#.*)?$")
_TYPES = re.compile(r"\s*(type|paste)\b")


@dataclass(frozen=True)
class Where:
    """Where a binding stands."""

    surface: str
    layer: str
    control: str
    gesture: str


@dataclass(frozen=True)
class Clash:
    """One finding: its kind (see `KINDS`), its weight ("bad" or "notice"), in words, and the bindings it is about."""

    kind: str
    weight: str
    text: str
    where: tuple[Where, ...] = ()
    chord: str = ""
    macro: str = ""


@dataclass(frozen=True)
class Sending:
    """A chord that a binding sends: for how long it is down (ns; 0: for as long as it is held)."""

    where: Where
    shape: Shape
    length: int
    macro: str = ""


Spot = tuple[str, str]
LayerKey = tuple[str, str]


@dataclass
class Survey:
    """The desk as the checks look at it: every binding, every chord that is sent, and how layers come on."""

    desk: Desk
    programs: list[ProgramTable]
    # What each macro sends, by its id.
    known: Memo[str, tuple[tuple[Shape, int], ...]] = field(default_factory=Memo)
    # Phrases that a recogniser found to sound alike: surface, the two, how alike.
    alike: Iterable[tuple[str, str, str, int]] = ()
    bindings: list[tuple[Where, Surface, Layer, Binding]] = field(default_factory=list)
    sendings: list[Sending] = field(default_factory=list)
    # How each layer can come on: the ways, each with the control that does it (None: of itself).
    ways: dict[LayerKey, list[tuple[str, Spot | None]]] = field(default_factory=dict)
    always: set[LayerKey] = field(default_factory=set)

    def __post_init__(self) -> None:
        for surface in self.desk.surfaces.values():
            for layer in surface.layers:
                for (control, gesture), binding in layer.bindings.items():
                    self.bindings.append((Where(surface.id, layer.id, control, gesture), surface, layer, binding))
        for where, _, _, binding in self.bindings:
            self.sendings += _sendings(self, where, binding)
        self.ways = _ways(self)
        self.always = {(surface.id, layer.id) for surface in self.desk.surfaces.values() for layer in surface.layers
                       if _always_on(self, surface, layer)}

    def say(self, where: Where) -> str:
        """A binding's place in words."""
        surface = self.desk.surfaces[where.surface]
        gesture = "" if where.gesture == "press" else f", {where.gesture}"
        layer = next(layer.name for layer in surface.layers if layer.id == where.layer)
        return f"{surface.name} {where.control}{gesture} ({layer})"


def _sendings(survey: Survey, where: Where, binding: Binding) -> Iterator[Sending]:
    desk = survey.desk
    for action in (binding.action, *binding.action.steps):
        if action.chord is not None:
            length = desk.tap if action.kind == "tap" else 0
            if action.kind == "rapid":
                length = min(desk.tap, (binding.every or RAPID_EVERY) // 2)
            yield Sending(where, shape_of(desk.places.settle(action.chord.codes)), length)
        elif action.kind == "play" and action.target in desk.macros:
            macro = desk.macros[action.target]
            sent = survey.known.find(macro.id, macro)
            if sent is None:
                sent = survey.known.keep(macro.id, macro, tuple(dict.fromkeys(chords_of(macro))))
            for shape, length in sent:
                yield Sending(where, shape, length, macro.id)


def chords_of(macro: Macro) -> Iterator[tuple[Shape, int]]:
    """The chords that a macro's steps send, without the text that it types, and how long each is down, in ns."""
    timetable: Timetable = macro.timetable
    typing = {number for number, line in enumerate(macro.source.splitlines(), 1) if _TYPES.match(line)}
    modifiers = modifier_codes()
    down: dict[int, tuple[int, Shape]] = {}
    for time, code, value, line in zip(timetable.times, timetable.codes, timetable.values, timetable.lines,
                                       strict=True):
        if kind_of(code) is not KEY:
            continue
        if value:
            down[code] = (time, shape_of([*down, code]))
            continue
        since, shape = down.pop(code, (time, shape_of([code])))
        if code not in modifiers and line not in typing:
            yield shape, time - since


def _steps(macro: Macro, pattern: re.Pattern[str]) -> list[str]:
    return [match[1] for line in macro.source.splitlines() if (match := pattern.match(line))]


def _ways(survey: Survey) -> dict[LayerKey, list[tuple[str, Spot | None]]]:
    """How layers come on: only by bindings that can fire themselves."""
    desk = survey.desk
    ways: dict[LayerKey, list[tuple[str, Spot | None]]] = {}
    for surface in desk.surfaces.values():
        for index, layer in enumerate(surface.layers):
            if index == 0 or layer.starts == "on":
                ways[surface.id, layer.id] = [("at the start", None)]
            if layer.follows:
                ways.setdefault((surface.id, layer.id), []).append(("follows the focus", None))
    done: set[Where] = set()
    grown = True
    switching = [(where, surface, binding) for where, surface, _, binding in survey.bindings
                 if any(action.layer or action.kind == "play" for action in (binding.action, *binding.action.steps))]
    while grown:
        grown = False
        for where, surface, binding in switching:
            if where in done or (where.surface, where.layer) not in ways:
                continue
            done.add(where)
            grown = True
            for action in (binding.action, *binding.action.steps):
                targets = [action.layer] if action.layer else []
                if action.kind == "play" and action.target in desk.macros:
                    targets += [LayerTarget("on", name) for name in _steps(desk.macros[action.target], _LAYER_STEP)]
                for target in targets:
                    for key in _meant(desk, target, surface):
                        ways.setdefault(key, []).append((target.how, (where.surface, where.control)))
    return ways


def _meant(desk: Desk, target: LayerTarget, own: Surface) -> Iterator[LayerKey]:
    surfaces: Iterable[Surface] = [own]
    if target.surfaces == (EVERY,):
        surfaces = desk.surfaces.values()
    elif target.surfaces:
        surfaces = [desk.surfaces[name] for name in target.surfaces if name in desk.surfaces]
    for surface in surfaces:
        if target.how in (NEXT, PREVIOUS):
            yield from ((surface.id, layer.id) for layer in surface.layers)
        elif layer := find_layer(surface, target.layer):
            yield surface.id, layer.id


# The checks.

def _taken_twice(survey: Survey) -> Iterator[Clash]:
    """A chord that more than one program could take while it is played."""
    layers = {(surface.id, layer.id): layer for surface in survey.desk.surfaces.values() for layer in surface.layers}
    seen: dict[tuple[Shape, tuple[str, ...]], list[Sending]] = {}
    for sending in survey.sendings:
        follows = layers[sending.where.surface, sending.where.layer].follows
        takers = []
        for program in survey.programs:
            if program.takes(sending.shape) is None:
                continue
            # While a layer follows one window, another program that only hears when focused cannot have the focus.
            elsewhere = follows is not None and program.window != follows and follows.cls.casefold() != \
                program.name.casefold()
            if program.always or not elsewhere:
                takers.append(program.id)
        desktop = any(p.id in takers and p.origin in ("desktop", "shipped") for p in survey.programs)
        if len(takers) > 1 or desktop:
            seen.setdefault((sending.shape, tuple(takers)), []).append(sending)
    programs = {program.id: program for program in survey.programs}
    for (shape, taken_by), sendings in seen.items():
        said = []
        for name in sorted(taken_by, key=lambda name: not programs[name].always):
            program = programs[name]
            shortcut = program.takes(shape)
            assert shortcut is not None
            said.append(f"“{shortcut.does}” in {program.name}"
                        + ("" if program.always else ", when that has the focus"))
        text = f"{say_shape(shape)} is {'; and '.join(said)}"
        where = tuple(dict.fromkeys(sending.where for sending in sendings))
        yield Clash("conflict", BAD, f"{text}. Sent by {_list(survey, where)}.", where, say_shape(shape),
                    sendings[0].macro)


def _never(survey: Survey) -> Iterator[Clash]:
    """Bindings that can never fire, and layers that never come on."""
    dead: dict[LayerKey, None] = {}
    order = {(surface.id, layer.id): index for surface in survey.desk.surfaces.values()
             for index, layer in enumerate(surface.layers)}
    covers = {surface.id: [layer for layer in surface.layers if (surface.id, layer.id) in survey.always]
              for surface in survey.desk.surfaces.values()}
    for where, surface, layer, _ in survey.bindings:
        key = (surface.id, layer.id)
        ways = survey.ways.get(key)
        if ways is None:
            dead[key] = None
            continue
        holders = {spot for how, spot in ways}
        if all(how == WHILE_HELD for how, _ in ways) and holders == {(surface.id, where.control)} \
                and where.gesture != RELEASE:
            yield Clash("unreachable", BAD, f"{survey.say(where)} never fires: its layer is only on while that very "
                        "control is held. Hold the layer with another control", (where,))
        cover = next((above for above in covers[surface.id] if order[surface.id, above.id] > order[key]
                      and above.gestures_of(where.control)), None)
        if cover is not None and not where.gesture.startswith(WITH):
            yield Clash("unreachable", BAD, f"{survey.say(where)} never fires: the layer {cover.name} lies above it, "
                        "is always on, and binds that control. Move one of them", (where,))
    by_layer: dict[tuple[str, str], list[Where]] = {}
    for where, *_ in survey.bindings:
        by_layer.setdefault((where.surface, where.layer), []).append(where)
    for surface_id, layer_id in dead:
        surface = survey.desk.surfaces[surface_id]
        layer = next(layer for layer in surface.layers if layer.id == layer_id)
        spots = tuple(by_layer.get((surface_id, layer_id), ()))
        yield Clash("unreachable", BAD, f"{surface.name}: the layer {layer.name} never comes on by itself; its "
                    f"{say_count(len(spots), 'binding')} can only be reached from the screen. Bind a control to it, "
                    "let it follow "
                    "a window, or let it start on", spots)


def _always_on(survey: Survey, surface: Surface, layer: Layer) -> bool:
    if layer is surface.layers[0] or layer.starts != "on":
        return False
    switched = any((surface.id, layer.id) in _meant(survey.desk, action.layer, own)
                   or (action.layer.how == "go to" and surface.id in {key[0] for key in _meant(
                       survey.desk, action.layer, own)})
                   for _, own, _, binding in survey.bindings
                   for action in (binding.action, *binding.action.steps) if action.layer)
    return not switched and not any(re.search(r"^\s*layer\s", macro.source, re.M)
                                    for macro in survey.desk.macros.values())


def _too_short(survey: Survey) -> Iterator[Clash]:
    """A tap that is over before the program looks."""
    for sending in survey.sendings:
        for program in survey.programs:
            if sending.length and program.takes(sending.shape) and sending.length < program.notices:
                macro = f", in “{survey.desk.macros[sending.macro].name}”" if sending.macro else ""
                yield Clash("too short", BAD, f"{say_shape(sending.shape)} is down for "
                            f"{say_duration(sending.length)}{macro}, but {program.name} only notices keys that are "
                            f"down for {say_duration(program.notices)}. Sent by {survey.say(sending.where)}. Make the "
                            "tap longer", (sending.where,), say_shape(sending.shape), sending.macro)


def _slow_double(survey: Survey) -> Iterator[Clash]:
    """A double tap that waits for longer than the rapid rate of its own control."""
    for where, surface, layer, binding in survey.bindings:
        if where.gesture != DOUBLE:
            continue
        within = binding.second_within or surface.second_within
        for (control, gesture), other in layer.bindings.items():
            every = other.every or RAPID_EVERY
            if control == where.control and other.action.kind == "rapid" and every < within:
                yield Clash("slow double tap", BAD, f"{survey.say(where)}: a second press within "
                            f"{say_duration(within)} is a double tap, but its {gesture} taps every "
                            f"{say_duration(every)}: pressing as fast as that by hand does something else. Shorten "
                            "second_within, or slow the rapid one down",
                            (where, Where(where.surface, where.layer, control, gesture)))


def _same(survey: Survey) -> Iterator[Clash]:
    """Two controls that do the same."""
    found: dict[tuple[str, str], list[Where]] = {}
    for where, _, _, binding in survey.bindings:
        if ACTION_KINDS[binding.action.kind].takes in ("macro", "chord"):
            chord = binding.action.chord
            target = say_shape(shape_of(survey.desk.places.settle(chord.codes))) if chord else binding.action.target
            found.setdefault((binding.action.kind, target), []).append(where)
    for (kind, target), spots in found.items():
        if len(spots) > 1:
            macro = survey.desk.macros.get(target)
            name = f"play “{macro.name}”" if macro and kind == "play" else f"{kind} {target}"
            what = f"{say_count(len(spots), 'control')} {name}: {_list(survey, spots)}. No change needed if intended"
            yield Clash("duplicate", NOTICE, what, tuple(spots),
                        target if kind != "play" else "", target if kind == "play" else "")


def _unplayed(survey: Survey) -> Iterator[Clash]:
    """A macro that nothing plays."""
    macros = survey.desk.macros
    played = {action.target for _, _, _, binding in survey.bindings
              for action in (binding.action, *binding.action.steps) if action.kind == "play"}
    for macro in macros.values():
        for name in _steps(macro, _PLAY_STEP):
            played |= {other.id for other in macros.values() if name in (other.id, other.name)}
    for macro in macros.values():
        if macro.id not in played:
            yield Clash("unused", NOTICE, f"No control plays the macro “{macro.name}”, and no other macro does. Bind "
                        "it, or keep it for the command line", macro=macro.id)


def _list(survey: Survey, spots: Iterable[Where]) -> str:
    said = [survey.say(where) for where in spots]
    return ", ".join(said[:4]) + (f" and {len(said) - 4} more" if len(said) > 4 else "")


def _equal_phrases(survey: Survey) -> Iterator[Clash]:
    """Two phrases of a microphone that are said with the same words: each time it has to be asked which was meant."""
    for surface in survey.desk.surfaces.values():
        said: dict[tuple[object, ...], Phrase] = {}
        for phrase in surface.phrases:
            for way in (way for wording in phrase.say for way in wording.ways()):
                key = tuple(phrase.slots[item.name] if isinstance(item, SlotPlace) else item.text for item in way)
                other = said.setdefault(key, phrase)
                if other is not phrase:
                    words = " ".join(f"{{{item.name}}}" if isinstance(item, SlotPlace) else item.text for item in way)
                    yield Clash("equal phrases", BAD, f"“{words}” on {surface.name} is said for “{other.id}” and for "
                                f"“{phrase.id}”, so it is asked each time which was meant. Change one of them",
                                _where_said(survey, surface.id, other.id, phrase.id))
                    break


def _sound_alike(survey: Survey) -> Iterator[Clash]:
    """Phrases that a recogniser may take for one another."""
    for surface_id, one, other, alike in survey.alike:
        surface = survey.desk.surfaces.get(surface_id)
        known = {phrase.id: phrase for phrase in surface.phrases} if surface else {}
        if surface is not None and one in known and other in known:
            yield Clash("sound alike", NOTICE, f"“{known[one].legend}” and “{known[other].legend}” on {surface.name} "
                        f"sound {alike} % alike, so it may have to be asked which was meant. Other words for one of "
                        "them would help", _where_said(survey, surface_id, one, other))


def _where_said(survey: Survey, surface: str, *phrases: str) -> tuple[Where, ...]:
    return tuple(where for where, *_ in survey.bindings if where.surface == surface and where.control in phrases)


KINDS: dict[str, Callable[[Survey], Iterator[Clash]]] = {
    "conflict": _taken_twice, "unreachable": _never, "too short": _too_short, "slow double tap": _slow_double,
    "duplicate": _same, "unused": _unplayed, "equal phrases": _equal_phrases, "sound alike": _sound_alike,
}


def find_clashes(desk: Desk, programs: Iterable[ProgramTable],
                 known: Memo[str, tuple[tuple[Shape, int], ...]] | None = None,
                 alike: Iterable[tuple[str, str, str, int]] = ()) -> list[Clash]:
    """Everything that gets in each other's way, the bad ones first.  `known` is what macros were found to send before,
    and is brought up to date; `alike` are phrases that sound so: surface, the two, how alike."""
    known = Memo() if known is None else known
    survey = Survey(desk, list(programs), known, alike)
    known.only(desk.macros)
    found = [clash for check in KINDS.values() for clash in check(survey)]
    return sorted(found, key=lambda clash: clash.weight != BAD)
