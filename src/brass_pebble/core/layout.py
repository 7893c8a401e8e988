"""Drawings of devices: where each control is, in key units, and which key code it sends."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

from .keys import key_table
from .problem import Problem, ProblemError
from .toml_fields import Fields, Places


@dataclass(frozen=True)
class Control:
    """One key, pedal or button: its id in the desk, its kernel code, its place and size in key units."""

    id: str
    code: int
    x: float
    y: float
    w: float = 1.0
    h: float = 1.0
    legend: str = ""


@dataclass(frozen=True)
class Layout:
    """A drawing: controls in reading order.

    `fits` names the devices it was made for, as "vendor:product".  With `any_keys` only the places are meant: such
    devices (pedals, small pads) send whatever their maker or owner chose, so a desk names the keys.
    """

    id: str
    name: str
    controls: tuple[Control, ...]
    fits: tuple[str, ...] = ()
    any_keys: bool = False

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
            replace(c, code=codes[c.id]) if c.id in codes else c for c in self.controls))


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
        key = row.text("sends", "")
        control_id = row.text("id", key)
        try:
            code = key_table().find(key).code
        except ProblemError as error:
            row.problem("sends", error.problem.what, error.problem.hint)
            continue
        control = Control(control_id, code, row.number("x", 0.0), row.number("y", 0.0),
                          row.number("w", 1.0), row.number("h", 1.0), row.text("legend", control_id))
        row.done()
        overlap = next((c for c in controls if _overlap(c, control)), None)
        if overlap is not None:
            row.problem("id", f"“{control.id}” lies on top of “{overlap.id}”", "Move one of them with x and y")
        controls.append(control)
    fits = fields.texts("fits")
    any_keys = fields.flag("any_keys")
    fields.done()
    return Layout(id, name, tuple(controls), fits, any_keys), problems


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
        parts = [f"id = {quote(c.id)}", f"sends = {quote(key_table().name(c.code))}", f"x = {c.x:g}", f"y = {c.y:g}"]
        parts += [f"{name} = {size:g}" for name, size in (("w", c.w), ("h", c.h)) if size != 1]
        if c.legend != c.id:
            parts.append(f"legend = {quote(c.legend)}")
        lines.append(f"  {{ {', '.join(parts)} }},")
    return "\n".join([*lines, "]", ""])


def _overlap(a: Control, b: Control) -> bool:
    slack = 0.01
    return (a.x + a.w > b.x + slack and b.x + b.w > a.x + slack
            and a.y + a.h > b.y + slack and b.y + b.h > a.y + slack)
