"""A macro's events as lanes: one for each key or pointer motion, with a bar from down to up."""

from __future__ import annotations

from dataclasses import dataclass, field

from brass_pebble.core.effects.kinds import KEY, MOTION, kind_of, tell
from brass_pebble.core.effects.pointer import NAMES
from brass_pebble.core.signals.keys import key_table, modifier_codes

from .reader import Draft, walk
from .steps import Type
from .timetable import Timetable

TEXT = "text"
SPACE = "␣"


@dataclass(frozen=True)
class Bar:
    """From down to up, in ns from the start; `number` counts the bars of its lane from 1.  `line` is the macro's line.

    A motion or a mark has no length.  `text` is what stands on it: a typed character, or how far.
    """

    start: int
    end: int
    line: int
    number: int
    text: str = ""


@dataclass
class Lane:
    """A key, the typed text, a motion, or what is done beside."""

    name: str
    bars: list[Bar] = field(default_factory=list)


@dataclass
class Lanes:
    """All lanes, in the order in which they are first used, and what is always shown beside them."""

    lanes: list[Lane]
    length: int
    events: int
    closest: int | None

    def bars(self) -> list[tuple[int, Bar]]:
        """Every bar with the index of its lane, by time."""
        return sorted(((index, bar) for index, lane in enumerate(self.lanes) for bar in lane.bars),
                      key=lambda item: (item[1].start, item[0]))


def lanes_of(draft: Draft) -> Lanes:
    """The lanes of a macro as read."""
    macro = draft.macro
    typed = {step.line: step for step in walk(draft.steps) if isinstance(step, Type)}
    lanes: dict[str, Lane] = {}
    _add_keys(macro.timetable, typed, lanes)
    for at, line, words in macro.marks:
        lane = lanes.setdefault(words.split()[0], Lane(words.split()[0]))
        lane.bars.append(Bar(at, at, line, len(lane.bars) + 1, words))
    timetable = macro.timetable
    return Lanes(list(lanes.values()), timetable.length, len(timetable.times), timetable.closest_pair())


def _add_message(lanes: dict[str, Lane], down: dict[int, tuple[int, int, str]],
                 event: tuple[int, int, int, int]) -> None:
    """A MIDI message: notes are bars, values marks; the clock's many messages share a lane."""
    at, code, value, line = event
    words = tell(code, value)
    if kind_of(code).holds and value:
        down[code] = (at, line, words.split(",")[0])
        lanes.setdefault(down[code][2], Lane(down[code][2]))
    elif kind_of(code).holds:
        if code in down:
            began, line_down, name = down.pop(code)
            lanes[name].bars.append(Bar(began, at, line_down, len(lanes[name].bars) + 1, ""))
    else:
        name, _, shown = words.partition(" = ")
        lane = lanes.setdefault(name.split(" to ")[0], Lane(name.split(" to ")[0]))
        lane.bars.append(Bar(at, at, line, len(lane.bars) + 1, shown.split(" to ")[0]))


def _add_keys(timetable: Timetable, typed: dict[int, Type], lanes: dict[str, Lane]) -> None:
    names, name_of, modifiers, down = key_table(), key_table().name, modifier_codes(), dict[int, tuple[int, int, str]]()
    for at, code, value, line in zip(timetable.times, timetable.codes, timetable.values, timetable.lines, strict=True):
        kind = kind_of(code)
        if kind not in (KEY, MOTION):
            _add_message(lanes, down, (at, code, value, line))
        elif kind is MOTION:
            lane = lanes.setdefault(NAMES[code], Lane(NAMES[code]))
            lane.bars.append(Bar(at, at, line, len(lane.bars) + 1, f"{value:+d}"))
        elif line in typed and code in modifiers:
            # A capital letter is one stroke to the person who reads it.
            continue
        elif value:
            down[code] = (at, line, TEXT if line in typed else names.name(code))
            lanes.setdefault(down[code][2], Lane(down[code][2]))
        elif code in down:
            began, line_down, name = down.pop(code)
            lane = lanes[name]
            shown = SPACE if name_of(code) == "Space" else names.by_code[code].shown if code in names.by_code else ""
            lane.bars.append(Bar(began, at, line_down, len(lane.bars) + 1, shown if name == TEXT else ""))
    for lane in lanes.values():
        lane.bars.sort(key=lambda bar: bar.start)
        lane.bars = [Bar(b.start, b.end, b.line, number, b.text) for number, b in enumerate(lane.bars, 1)]

