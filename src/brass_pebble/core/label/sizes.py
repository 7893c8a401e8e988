"""How large labels are: read from `data/cap-sizes.tsv`, or as a person says.  Sizes in mm."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache

from brass_pebble.core.desk.look.drawn import ControlRow
from brass_pebble.core.say.data_table import read_table
from brass_pebble.core.say.problem import ProblemError

Size = tuple[float, float]
SMALLEST, LARGEST = 4.0, 150.0
_SIZE = re.compile(r"\s*(\d+(?:[.,]\d+)?)\s*[x×]\s*(\d+(?:[.,]\d+)?)\s*(?:mm)?\s*", re.IGNORECASE)


@dataclass(frozen=True)
class CapKind:
    """A row of the table: labels of controls of this kind, and how they grow with the control."""

    name: str
    layout: re.Pattern[str]
    shape: re.Pattern[str]
    below: float
    width: float
    height: float
    step_x: float
    step_y: float

    def fits(self, layout: str, control: ControlRow) -> bool:
        """Whether a control of a drawing is of this kind."""
        return bool(self.layout.fullmatch(layout) and self.shape.fullmatch(control.shape or "cap")
                    and (not self.below or control.h < self.below))


@cache
def cap_kinds() -> tuple[CapKind, ...]:
    """The table."""
    return tuple(CapKind(name, re.compile(layout), re.compile(shape), float(below), float(width), float(height),
                         float(step_x), float(step_y))
                 for name, layout, shape, below, width, height, step_x, step_y in read_table("cap-sizes.tsv"))


def kind_of(layout: str, control: ControlRow) -> CapKind:
    """What kind of cap a control has."""
    return next(kind for kind in cap_kinds() if kind.fits(layout, control))


def label_size(layout: str, control: ControlRow, cap: Size | None = None) -> Size:
    """The label of a control, in mm; `cap` is what a key of 1 by 1 units has on this device."""
    kind = kind_of(layout, control)
    width, height = kind.width, kind.height
    if cap is not None and kind.name in ("key", "pad", "pedal"):
        width, height = cap
    elif cap is not None and kind.name == "low key":
        width = cap[0]
    # A control is never smaller than its kind's own label, except where the drawing says so.
    wide = width + kind.step_x * (control.w - 1)
    high = height + kind.step_y * (control.h - 1) if kind.name != "low key" else height
    if kind.name == "pedal":
        # A pedal is drawn two units wide and one and a half high; its label is as the table says per unit.
        wide, high = (width * control.w, height * control.h) if cap is None else cap
    return max(SMALLEST, round(wide, 2)), max(SMALLEST, round(high, 2))


def read_size(text: str) -> Size:
    """A size like `14x14` or `33 × 14 mm`.

    Raises:
        ProblemError: it is none, or no label could have it.
    """
    match = _SIZE.fullmatch(text)
    if match is None:
        raise ProblemError(f"“{text}” is not a valid size", hint="Write width x height in millimetres, like 14x14")
    width, height = (float(part.replace(",", ".")) for part in match.groups())
    for side in (width, height):
        if not SMALLEST <= side <= LARGEST:
            raise ProblemError(f"a label cannot be {side:g} mm wide or high",
                               hint=f"Sides must be between {SMALLEST:g} and {LARGEST:g} mm")
    return width, height


def write_size(size: Size) -> str:
    """As `read_size` reads it."""
    return f"{size[0]:g}x{size[1]:g}"
