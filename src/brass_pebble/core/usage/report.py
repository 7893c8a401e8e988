"""What the counts say of a desk: heat, what is never used, slips and their neighbours, pairs."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from brass_pebble.core.desk.look.drawn import BareSurface, BindingRow, ControlRow, DrawnDesk
from brass_pebble.core.play.gesture import WITH

# A gap between two controls below which a finger may hit the wrong one, in key units.
NEAR = 0.6


@dataclass(frozen=True)
class Used:
    """A row of the history: presses of one binding, over all the days that were asked for."""

    surface: str
    layer: str
    control: str
    gesture: str
    does: str
    macro: str
    presses: int
    stopped: int
    cancelled: int
    slips: int
    waited: int
    late: int
    latest: int


@dataclass
class History:
    """What was read from the store.  `days` are (day, presses); `sessions` (began, ended: s since 1970, presses,
    stopped, slips); `pairs` (surface, does, surface, does, times); `slips` (surface, control, does, meant, times);
    `late` (bucket, presses)."""

    used: list[Used] = field(default_factory=list)
    days: list[tuple[int, int]] = field(default_factory=list)
    sessions: list[tuple[int, int, int, int, int]] = field(default_factory=list)
    pairs: list[tuple[str, str, str, str, int]] = field(default_factory=list)
    slips: list[tuple[str, str, str, str, int]] = field(default_factory=list)
    late: list[tuple[int, int]] = field(default_factory=list)

    @property
    def presses(self) -> int:
        """All presses, of every surface."""
        return sum(times for _, times in self.days)


@dataclass(frozen=True)
class Slipped:
    """A control that was hit by mistake: how often, what was meant (control, times), and its neighbours."""

    control: str
    times: int
    meant: tuple[tuple[str, int], ...]
    neighbours: tuple[str, ...]


@dataclass(frozen=True)
class Pair:
    """Two things that are often done one after the other, as their controls lie now (empty: nowhere any more)."""

    surface: str
    one: str
    other_surface: str
    other: str
    words: tuple[str, str]
    times: int


@dataclass(frozen=True)
class Report:
    """A surface's use.  `heat` are presses by control; `bindings` (layer, control, gesture, label, presses), most
    used first; `unused` those that were never made; `lost` ms that were waited for second taps."""

    presses: int
    heat: dict[str, int]
    bindings: list[tuple[str, str, str, str, int]]
    unused: list[tuple[str, str, str, str]]
    slipped: list[Slipped]
    pairs: list[Pair]
    macros: list[tuple[str, int, int]]
    gestures: list[tuple[str, int]]
    layers: list[tuple[str, int]]
    stopped: int
    cancelled: int
    slips: int
    lost: int
    mean_late: int
    latest: int


def does_of(binding: BindingRow) -> str:
    """What a binding does, as the history names it."""
    return f"{binding.kind} {binding.target}"


def report(desk: DrawnDesk, surface: BareSurface, history: History) -> Report:
    """The use of one surface.  Both are rows as clients get them."""
    used = [row for row in history.used if row.surface == surface.id]
    heat: dict[str, int] = {}
    by_deed: dict[tuple[str, str], int] = {}
    for row in used:
        heat[row.control] = heat.get(row.control, 0) + row.presses
        by_deed[row.layer, row.does] = by_deed.get((row.layer, row.does), 0) + row.presses
    bindings, unused = [], []
    for layer in surface.layers:
        for binding in layer.bindings:
            made = by_deed.get((layer.id, does_of(binding)), 0)
            place = layer.id, binding.control, binding.gesture, binding.label
            if made:
                bindings.append((*place, made))
            else:
                unused.append(place)
    bindings.sort(key=lambda row: -row[4])
    presses = sum(row.presses for row in used)
    names = {macro.id: macro.name for macro in desk.macros}
    return Report(
        presses, heat, bindings, unused, slipped(surface, history), pairs_of(desk, surface.id, history),
        [(names.get(name, name), times, sum(row.stopped for row in used if row.macro == name))
         for name, times in _sums((row.macro, row.presses) for row in used if row.macro)],
        _sums(("with another" if row.gesture.startswith(WITH) else row.gesture, row.presses) for row in used),
        _sums((row.layer, row.presses) for row in used),
        sum(row.stopped for row in used), sum(row.cancelled for row in used),
        sum(row.slips for row in used), sum(row.waited for row in used),
        sum(row.late for row in used) // presses if presses else 0, max((row.latest for row in used), default=0))


def _sums(rows: Iterable[tuple[str, int]]) -> list[tuple[str, int]]:
    found: dict[str, int] = {}
    for name, count in rows:
        found[name] = found.get(name, 0) + count
    return sorted(found.items(), key=lambda item: -item[1])


def slipped(surface: BareSurface, history: History) -> list[Slipped]:
    """The controls that were hit by mistake, most often first."""
    times: dict[str, int] = {}
    meant: dict[str, dict[str, int]] = {}
    for surface_id, control, _, instead, count in history.slips:
        if surface_id == surface.id and count > 0:
            times[control] = times.get(control, 0) + count
            if instead:
                meant.setdefault(control, {})[instead] = meant.get(control, {}).get(instead, 0) + count
    by_id = {control.id: control for control in surface.controls}
    return [Slipped(control, count, tuple(sorted(meant.get(control, {}).items(), key=lambda item: -item[1])),
                    tuple(neighbours(surface, by_id[control]) if control in by_id else ()))
            for control, count in sorted(times.items(), key=lambda item: -item[1])]


def neighbours(surface: BareSurface, control: ControlRow) -> list[str]:
    """The controls right beside one in the drawing."""
    found = []
    for other in surface.controls:
        across = max(other.x - control.x - control.w, control.x - other.x - other.w)
        down = max(other.y - control.y - control.h, control.y - other.y - other.h)
        if other.id != control.id and max(across, down) < NEAR and min(across, down) < 0:
            found.append(other.id)
    return found


def places_of(desk: DrawnDesk) -> dict[tuple[str, str], tuple[str, str]]:
    """(surface, what it does) → (control, label) as the desk is now."""
    return {(surface.id, does_of(binding)): (binding.control, binding.label) for surface in desk.surfaces
            for layer in reversed(surface.layers) for binding in reversed(layer.bindings)}


def pairs_of(desk: DrawnDesk, surface_id: str, history: History) -> list[Pair]:
    """What is often played one after the other on a surface, or with another one."""
    places = places_of(desk)
    found = []
    for surface, one, other_surface, other, times in history.pairs:
        if surface_id in (surface, other_surface) and times > 1:
            here, there = places.get((surface, one), ("", one)), places.get((other_surface, other), ("", other))
            found.append(Pair(surface, here[0], other_surface, there[0], (here[1], there[1]), times))
    return sorted(found, key=lambda pair: -pair.times)
