"""Walking the keys: a drawing that grows, or learns its keys, from presses in reading order; and editing it.

Everything returns a new drawing; nothing is changed in place.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace

from brass_pebble.core.signals.keys import key_table
from brass_pebble.core.signals.signal import MOVING, STRUCK, signal_name

from .layout import Control, Layout

STEP = 0.25
SMALLEST, LARGEST = 0.5, 12.0


@dataclass(frozen=True)
class Walked:
    """What a press led to: the drawing, the control it belongs to, and a sentence."""

    layout: Layout
    control: str
    words: str


@dataclass
class Walk:
    """Draws as one presses: left to right, and down with the row key.

    `row_key` is the code that starts a new row.  Pressed again at once, it takes its own place at the end of the row
    that it closed.
    """

    layout: Layout
    row_key: int | None = None
    _row: int = 0
    _fresh_row: bool = field(default=True)

    def press(self, code: int) -> Walked:
        """A key was pressed."""
        known = next((c for c in self.layout.controls if c.code == code), None)
        if code == self.row_key and not self._fresh_row:
            self.new_row()
            return Walked(self.layout, "", "new row")
        if known is not None:
            return Walked(self.layout, known.id, f"“{known.legend}” is drawn already")
        if code == self.row_key and self._row:
            return self._add(code, self._row - 1)
        self._fresh_row = False
        return self._add(code, self._row)

    def new_row(self) -> None:
        """The next key begins a row."""
        if not self._fresh_row:
            self._row += 1
            self._fresh_row = True

    def _add(self, code: int, row: int) -> Walked:
        key = key_table().by_code.get(code)
        name = signal_name(code)
        control_id = _free_id(self.layout, _id_for(self.layout, code, name))
        x = max((c.x + c.w for c in self.layout.controls if c.y == row), default=0.0)
        moves = (code,) if code >= MOVING else ()
        legend = key.shown.lower() if key else control_id if code >= STRUCK else name
        control = Control(control_id, code, x, float(row), legend=legend, moves=moves,
                          shape="knob" if moves else "cap")
        self.layout = replace(self.layout, controls=_in_reading_order([*self.layout.controls, control]))
        return Walked(self.layout, control_id, f"{name} drawn in row {row + 1}")


@dataclass
class Learning:
    """Finds out which key each control of a drawing sends: they are pressed one after the other, as drawn."""

    layout: Layout
    keys: dict[str, int] = field(default_factory=dict)
    skipped: set[str] = field(default_factory=set)

    @property
    def wanted(self) -> str:
        """The control to press now; empty when all are known."""
        return next((c.id for c in self.layout.controls if c.id not in self.keys and c.id not in self.skipped), "")

    def press(self, code: int) -> Walked:
        """A key was pressed: it is the control that was wanted."""
        known = next((name for name, known in self.keys.items() if known == code), "")
        if known:
            return Walked(self.layout, known, f"that is “{known}” already; press “{self.wanted}”" if self.wanted
                          else "all are known")
        wanted = self.wanted
        if wanted:
            self.keys[wanted] = code
        return Walked(self.layout, wanted, f"“{wanted}” sends {signal_name(code)}" if wanted else "all are known")

    def skip(self) -> None:
        """The device has no such control: it is left out at the end."""
        if self.wanted:
            self.skipped.add(self.wanted)

    def back(self) -> None:
        """Take the last answer back."""
        order = [c.id for c in self.layout.controls if c.id in self.keys or c.id in self.skipped]
        if order:
            self.keys.pop(order[-1], None)
            self.skipped.discard(order[-1])

    def result(self) -> Layout:
        """The drawing with the keys learnt, without what was skipped."""
        learnt = self.layout.with_keys(self.keys)
        return replace(learnt, controls=tuple(c for c in learnt.controls if c.id not in self.skipped))


def resize(layout: Layout, control_id: str, *, wider: float = 0.0, taller: float = 0.0) -> Layout:
    """Make a control wider or taller by key units; what stands to its right in its row moves along."""
    c = _find(layout, control_id)
    w = min(LARGEST, max(SMALLEST, c.w + wider))
    h = min(LARGEST, max(SMALLEST, c.h + taller))
    return _replace(layout, replace(c, w=w, h=h), shift=w - c.w)


def move(layout: Layout, control_id: str, dx: float, dy: float) -> Layout:
    """Move a control by key units.  Sideways, what stands to its right in its row moves along."""
    c = _find(layout, control_id)
    left = max((o.x + o.w for o in layout.controls if o.y == c.y and o.x < c.x), default=0.0)
    dx = max(dx, left - c.x)
    return _replace(layout, replace(c, x=c.x + dx, y=max(0.0, c.y + dy)), shift=dx)


def leave_out(layout: Layout, control_id: str) -> Layout:
    """Take a control off the drawing; the device keeps its key, and the gap stays."""
    return replace(layout, controls=tuple(c for c in layout.controls if c.id != control_id))


def rename(layout: Layout, control_id: str, legend: str) -> Layout:
    """Write something else on a control."""
    return _replace(layout, replace(_find(layout, control_id), legend=legend.strip() or control_id))


def _find(layout: Layout, control_id: str) -> Control:
    return next(c for c in layout.controls if c.id == control_id)


def _replace(layout: Layout, changed: Control, shift: float = 0.0) -> Layout:
    old = _find(layout, changed.id)
    controls = [changed if c.id == old.id else
                replace(c, x=c.x + shift) if shift and c.y == old.y and c.x > old.x else c for c in layout.controls]
    return replace(layout, controls=_in_reading_order(controls))


def _in_reading_order(controls: list[Control]) -> tuple[Control, ...]:
    return tuple(sorted(controls, key=lambda c: (c.y, c.x)))


def _id_for(layout: Layout, code: int, name: str) -> str:
    """A short id: keys by their name, pads and knobs by their number on the device."""
    if code < STRUCK:
        return re.sub(r"(?<=[a-z])(?=[A-Z])| ", "-", name).lower()
    kind = "knob" if code >= MOVING else "pad"
    return f"{kind}-{1 + sum(c.id.startswith(kind) for c in layout.controls)}"


def _free_id(layout: Layout, wanted: str) -> str:
    taken = {c.id for c in layout.controls}
    name, number = wanted, 2
    while name in taken:
        name, number = f"{wanted}-{number}", number + 1
    return name
