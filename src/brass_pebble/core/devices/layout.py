"""Drawings of devices: where each control is, in key units, and which key code it sends."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from functools import cached_property, partial
from typing import Any

from brass_pebble.core.say.problem import Problem, ProblemError
from brass_pebble.core.say.toml_fields import Fields, Places
from brass_pebble.core.signals.midi_in import COUNTS
from brass_pebble.core.signals.signal import BEND, MOVING, WHEEL, find_signal, signal_name

from .lights import NO_LIGHTS, Lights, read_lights, write_lights

SHAPES = ("cap", "knob", "slider", "stick", "wheel")


@dataclass(frozen=True)
class Control:
    """One key, pedal, pad, knob or stick: its id in the desk, what its press sends, its place and size in key units.

    `moves` are the signals of its position, one or (for a stick: across, down) two; with `counts` they tell turns
    instead (see `midi_in.COUNTS`).  `centred` says that it rests in the middle.  `beside` are signals that come along
    with it and are dropped.
    """

    id: str
    code: int
    x: float
    y: float
    w: float = 1.0
    h: float = 1.0
    legend: str = ""
    moves: tuple[int, ...] = ()
    counts: str = ""
    centred: bool = False
    shape: str = "cap"
    beside: tuple[int, ...] = ()

    @cached_property
    def turns(self) -> bool:
        """Whether it only tells how far it was turned, never where it is."""
        return bool(self.moves) and (self.counts != "" or WHEEL.first <= self.moves[0] <= WHEEL.last)


@dataclass(frozen=True)
class Layout:
    """A drawing: controls in reading order.

    `fits` names the devices it was made for, as "vendor:product".  With `any_keys` only the places are meant: such
    devices (pedals, small pads) send whatever their maker or owner chose, so a desk names the keys.  `lights` tells
    how its pads are lit.
    """

    id: str
    name: str
    controls: tuple[Control, ...]
    fits: tuple[str, ...] = ()
    any_keys: bool = False
    lights: Lights = NO_LIGHTS

    @cached_property
    def by_id(self) -> dict[str, Control]:
        """Its controls by their ids; of two with one id the first counts."""
        return {control.id: control for control in reversed(self.controls)}

    @cached_property
    def by_signal(self) -> dict[int, Control]:
        """Its controls by what they send and what moves them; of two the first counts."""
        return {signal: control for control in reversed(self.controls) for signal in (*control.moves, control.code)}

    @property
    def width(self) -> float:
        """Key units from the left edge to the right edge."""
        return max((c.x + c.w for c in self.controls), default=0.0)

    @property
    def height(self) -> float:
        """Key units from the upper edge to the lower edge."""
        return max((c.y + c.h for c in self.controls), default=0.0)

    def with_keys(self, codes: dict[str, int]) -> Layout:
        """The same drawing for a device that sends other codes."""
        return replace(self, controls=tuple(
            _sending(c, codes[c.id]) if c.id in codes else c for c in self.controls))


def _sending(control: Control, code: int) -> Control:
    """The control with another signal: of its position if that is all it has, else of its press."""
    if len(control.moves) == 1 and control.code == control.moves[0]:
        return replace(control, code=code, moves=(code,) if code >= MOVING else ())
    return replace(control, code=code, moves=(code,)) if code >= MOVING and not control.moves else replace(
        control, code=code)


EMPTY = Layout("none", "not drawn yet", ())
# Stands for a layout that a desk names and that is not there: its controls cannot be known.
MISSING = Layout("missing", "not found", ())


def read_layout(data: dict[str, Any], *, id: str, file: str, text: str = "") -> tuple[Layout, list[Problem]]:
    """A layout from its TOML table; broken controls are left out and reported."""
    problems: list[Problem] = []
    fields = Fields(data, (), Places(text), file, problems)
    name = fields.text("name", id)
    controls: list[Control] = []
    for row in fields.tables("control"):
        control = _read_control(row)
        if control is None:
            continue
        same = next((c for c in controls if c.id == control.id or c.code == control.code), None)
        if same is not None:
            what = f"there are two controls “{control.id}”" if same.id == control.id else \
                f"“{control.id}” sends the same as “{same.id}”"
            row.problem("id", f"{what}, and only one could answer", "Leave one of them out")
            continue
        overlap = next((c for c in controls if _overlap(c, control)), None)
        if overlap is not None:
            row.problem("id", f"“{control.id}” overlaps “{overlap.id}”", "Move one of them with x and y")
        controls.append(control)
    fits = fields.texts("fits")
    any_keys = fields.flag("any_keys")
    lights = read_lights(fields.table("lights"))
    fields.done()
    return Layout(id, name, tuple(controls), fits, any_keys, lights), problems


def _read_control(row: Fields) -> Control | None:
    """A control from its row; None, and reported, without a signal that is known."""
    signals = {"sends": [row.text("sends", "")], "moves": list(row.texts("moves")), "beside": list(row.texts("beside"))}
    found: dict[str, list[int]] = {"sends": [], "moves": [], "beside": []}
    for key, words in signals.items():
        for word in words:
            if not word and signals["moves"]:
                continue
            try:
                found[key].append(find_signal(word))
            except ProblemError as error:
                row.problem(key, error.problem.what, error.problem.hint, word=word)
                return None
    moves = tuple(found["moves"])
    code = (found["sends"] or found["moves"])[0]
    if not moves and code >= MOVING:
        moves = (code,)
    if len(moves) > 2 or any(signal < MOVING for signal in moves):
        row.problem("moves", "a control has one or two signals of a position", 'Write moves = ["axis x", "axis y"]')
        return None
    usual = "cap" if not moves else "stick" if len(moves) == 2 else "knob"
    shape = row.choice("shape", SHAPES, usual)
    counts = row.choice("counts", ("", *COUNTS), "")
    control_id = row.text("id", signal_name(code))
    rests = moves != () and (len(moves) == 2 or all(BEND.first <= signal <= BEND.last for signal in moves))
    control = Control(control_id, code, row.number("x", 0.0), row.number("y", 0.0), row.number("w", 1.0),
                      row.number("h", 1.0), row.text("legend", control_id), moves, counts,
                      row.flag("centred") if "centred" in row.data else rests, shape, tuple(found["beside"]))
    row.done("centred")
    return control


def write_layout(layout: Layout) -> str:
    """The TOML text of a layout, one control a line, as `read_layout` reads it."""
    quote = partial(json.dumps, ensure_ascii=False)
    lines = [f"# Positions and sizes are in key units.\nname = {quote(layout.name)}"]
    if layout.fits:
        lines.append(f"fits = [{', '.join(quote(make) for make in layout.fits)}]")
    if layout.any_keys:
        lines.append("any_keys = true")
    lines.append("control = [")
    for c in layout.controls:
        parts = [f"id = {quote(c.id)}", f"x = {c.x:g}", f"y = {c.y:g}"]
        if not c.moves or c.code != c.moves[0] or len(c.moves) == 1:
            parts.insert(1, f"sends = {quote(signal_name(c.code))}")
        if c.moves and (c.code != c.moves[0] or len(c.moves) > 1):
            parts.append(f"moves = [{', '.join(quote(signal_name(signal)) for signal in c.moves)}]")
        parts += [f"{name} = {quote(value)}" for name, value, usual in (
            ("counts", c.counts, ""), ("shape", c.shape, "cap" if not c.moves else "stick" if len(c.moves) == 2
                                       else "knob")) if value != usual]
        if c.beside:
            parts.append(f"beside = [{', '.join(quote(signal_name(signal)) for signal in c.beside)}]")
        if c.centred and c.moves and len(c.moves) == 1 and not BEND.first <= c.moves[0] <= BEND.last:
            parts.append("centred = true")
        parts += [f"{name} = {size:g}" for name, size in (("w", c.w), ("h", c.h)) if size != 1]
        if c.legend != c.id:
            parts.append(f"legend = {quote(c.legend)}")
        lines.append(f"  {{ {', '.join(parts)} }},")
    return "\n".join([*lines, "]", *write_lights(layout.lights), ""])


def _overlap(a: Control, b: Control) -> bool:
    slack = 0.01
    return (a.x + a.w > b.x + slack and b.x + b.w > a.x + slack
            and a.y + a.h > b.y + slack and b.y + b.h > a.y + slack)
