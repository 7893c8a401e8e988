"""Answers to a device: what its pads show by their light, from a table in the layout file.  Pure.

A pad is lit by a note-on or a control change of its own number and channel; the value is a brightness or an index of
the maker's own colours, so that the table belongs to the drawing.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass

from brass_pebble.core.say.tints import TINTS
from brass_pebble.core.say.toml_fields import Fields
from brass_pebble.core.signals.midi import CHANGE, NOTE_ON
from brass_pebble.core.signals.signal import CC, NOTE, family_of, number_and_channel

# What a pad can show, the strongest first.
STATES = ("pressed", "latched", "playing", "bound", "free", "resting")
WITH = ("note", "cc")


@dataclass(frozen=True)
class Lights:
    """The values (0 to 127) for each of `STATES`, and for bound controls those of their tint.

    `with_` is "note" or "cc", what the pads listen to; empty: they have no lights.  `channel` (1 to 16) overrides the
    controls' own; 0 does not.
    """

    with_: str = ""
    values: tuple[tuple[str, int], ...] = ()
    tints: tuple[tuple[str, int], ...] = ()
    channel: int = 0

    def value(self, state: str, tint: str = "") -> int:
        """The value for a state; what the table does not say is as the next weaker state, in the end dark."""
        values = dict(self.values)
        if state == "bound" and tint in dict(self.tints):
            return dict(self.tints)[tint]
        for name in STATES[STATES.index(state):]:
            if name in values:
                return values[name]
        return 0

    def message(self, signal: int, value: int) -> bytes | None:
        """The MIDI message that lights the pad which sends `signal`; None for controls that have no light."""
        if family_of(signal) not in (NOTE, CC):
            return None
        number, channel = number_and_channel(signal)
        if self.channel:
            channel = self.channel - 1
        return (NOTE_ON if self.with_ == "note" else CHANGE).on(channel, number, value)


NO_LIGHTS = Lights()


def read_lights(fields: Fields) -> Lights:
    """The table `[lights]` of a layout: with, channel, a value for each state, and `tints`."""
    if not fields.data:
        return NO_LIGHTS
    kind = fields.choice("with", WITH, "note")
    values = tuple((name, _value(fields, name)) for name in STATES if name in fields.data)
    below = fields.table("tints")
    tints = tuple((name, _value(below, name)) for name in TINTS if name in below.data)
    below.done()
    channel = int(fields.number("channel", 0))
    if not 0 <= channel <= 16:
        fields.problem("channel", "MIDI has channels from 1 to 16", "Leave it out for the pads’ own channel")
        channel = 0
    fields.done()
    return Lights(kind, values, tints, channel)


def _value(fields: Fields, name: str) -> int:
    value = int(fields.number(name, 0))
    if not 0 <= value <= 127:
        fields.problem(name, f"“{name}” must be between 0 and 127", "It is a MIDI value")
        return 0
    return value


def write_lights(lights: Lights) -> list[str]:
    """The lines of a layout file."""
    if not lights.with_:
        return []
    lines = ["", "[lights]", f"with = {json.dumps(lights.with_)}"]
    lines += [f"channel = {lights.channel}"] if lights.channel else []
    lines += [f"{name} = {value}" for name, value in lights.values]
    if lights.tints:
        lines.append(f"tints = {{ {', '.join(f'{name} = {value}' for name, value in lights.tints)} }}")
    return lines


def state_of(*, down: bool, latched: bool, playing: bool, bound: bool, resting: bool) -> str:
    """What a pad shows."""
    now: Mapping[str, bool] = {"resting": resting, "pressed": down, "latched": latched, "playing": playing,
                               "bound": bound}
    return "resting" if resting else next((name for name in STATES if now.get(name)), "free")
