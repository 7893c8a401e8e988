"""A better arrangement of a layer: often used → easy to reach, often together → close, never used → free.

What a place costs is the time that a finger needs to get there, after Fitts's law: log2(1 + distance / width).
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

from brass_pebble.core.desk.action import ACTION_KINDS, REST, STOP
from brass_pebble.core.desk.look.drawn import BareSurface, BindingRow, ControlRow, LayerRow
from brass_pebble.core.desk.look.shown import gestures_for
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.signals.signal import STRUCK, from_wire

from .report import History, does_of

# What is not moved: a hand has to find it without looking.
FIXED = (f"do {STOP}", f"do {REST}")
# A change must save so much of all travel, or it is not worth learning it.
WORTH = 0.01
MOST_SWAPS = 12
# Below so many presses nothing can be said of a surface, and what was not used may still be wanted.
ENOUGH, ENOUGH_TO_FREE = 50, 300
MOST_MOVED = 18
# A face's strongest links count: those beyond hardly move anything.
MOST_LINKS = 8
# What mistaking one for the other costs while they lie side by side, in the same measure.
MISTAKE = 4.0
# Drawings with more controls are typed on with both hands.
TWO_HANDS = 40


@dataclass(frozen=True)
class Arrangement:
    """A proposal.  `moves` are (from, to) controls; `freed` controls lose what nobody used; `before` and `after` are
    travel for each press, in the law's measure.  `why` is told to the person where there is no proposal."""

    layer: str
    moves: tuple[tuple[str, str], ...] = ()
    freed: tuple[str, ...] = ()
    before: float = 0.0
    after: float = 0.0
    why: str = ""

    @property
    def empty(self) -> bool:
        """Whether nothing would change."""
        return not (self.moves or self.freed)


def homes_of(surface: BareSurface, chosen: Iterable[str] = ()) -> list[tuple[float, float]]:
    """Where the fingers rest: as chosen, on F and J of a keyboard, else in the middle of the drawing."""
    by_id = {control.id: _middle(control) for control in surface.controls}
    if found := [by_id[name] for name in chosen if name in by_id]:
        return found
    if len(by_id) > TWO_HANDS and "f" in by_id and "j" in by_id:
        return [by_id["f"], by_id["j"]]
    width = max((c.x + c.w for c in surface.controls), default=0.0)
    height = max((c.y + c.h for c in surface.controls), default=0.0)
    return [(width / 2, height / 2)]


def _middle(control: ControlRow) -> tuple[float, float]:
    return control.x + control.w / 2, control.y + control.h / 2


class Travel:
    """What an arrangement of a layer costs, for known use.

    `uses` are presses of each of the layer's controls' faces, `pairs` how often one follows another, `mistakes` how
    often one was pressed in place of another.
    """

    def __init__(self, surface: BareSurface, homes: list[tuple[float, float]], uses: dict[str, int],
                 pairs: dict[tuple[str, str], int], mistakes: dict[tuple[str, str], int]) -> None:
        self.uses, self.homes = uses, homes
        self._by_id = {control.id: control for control in surface.controls}
        self._links: dict[str, list[tuple[str, float, float]]] = {}
        both = set(pairs) | set(mistakes)
        for one, other in {tuple(sorted(pair)) for pair in both}:
            times = pairs.get((one, other), 0) + pairs.get((other, one), 0)
            wrong = mistakes.get((one, other), 0) + mistakes.get((other, one), 0)
            self._links.setdefault(one, []).append((other, times, wrong))
            self._links.setdefault(other, []).append((one, times, wrong))
        for face, linked in self._links.items():
            self._links[face] = sorted(linked, key=lambda link: -link[1] - MISTAKE * link[2])
        self._strongest = {face: linked[:MOST_LINKS] for face, linked in self._links.items()}
        self._reach = {name: min(self._fitts(home, control) for home in homes)
                       for name, control in self._by_id.items()}
        self._apart: dict[tuple[str, str], tuple[float, float]] = {}

    @staticmethod
    def _fitts(start: tuple[float, float], control: ControlRow) -> float:
        x, y = _middle(control)
        return math.log2(1 + math.hypot(x - start[0], y - start[1]) / min(control.w, control.h))

    def _between(self, one: str, other: str) -> tuple[float, float]:
        """What the way between two controls costs, and how near they are for mistakes (1: side by side)."""
        a, b = self._by_id[one], self._by_id[other]
        way = (self._fitts(_middle(a), b) + self._fitts(_middle(b), a)) / 2
        (ax, ay), (bx, by) = _middle(a), _middle(b)
        return way, math.exp(1 - max(1.0, math.hypot(ax - bx, ay - by)))

    def of(self, face: str, at: dict[str, str]) -> float:
        """What one face costs where the faces lie as `at` says, with what is most linked to it."""
        place = at[face]
        cost = self.uses.get(face, 0) * self._reach[place]
        apart = self._apart
        for other, times, wrong in self._strongest.get(face, ()):
            there = at.get(other)
            if there is not None:
                found = apart.get((place, there))
                if found is None:
                    found = apart[place, there] = self._between(place, there)
                cost += times * found[0] + wrong * MISTAKE * found[1]
        return cost

    def linked(self, face: str) -> list[str]:
        """The faces that are most linked to one, or to which it is."""
        return [other for other, _, _ in self._links.get(face, ())
                if any(one == face for one, _, _ in self._strongest.get(other, ()))]

    def total(self, at: dict[str, str]) -> float:
        """What everything costs: each link counts once."""
        reach = sum(count * self._reach[at[face]] for face, count in self.uses.items() if face in at)
        links = 0.0
        for face, linked in self._links.items():
            for other, times, wrong in linked:
                if face < other and face in at and other in at:
                    way, near = self._between(at[face], at[other])
                    links += times * way + wrong * MISTAKE * near
        return reach + links


def travel_of(surface: BareSurface, layer: LayerRow, history: History, homes: Iterable[str] = ()) -> Travel:
    """What the history says of a layer's faces; a face is named by the control on which it lies now."""
    faces: dict[str, str] = {}
    for binding in layer.bindings:
        faces.setdefault(does_of(binding), binding.control)
    uses: dict[str, int] = {}
    for row in history.used:
        if row.surface == surface.id and row.layer == layer.id and row.does in faces:
            face = faces[row.does]
            uses[face] = uses.get(face, 0) + row.presses
    pairs: dict[tuple[str, str], int] = {}
    for one_surface, one, other_surface, other, times in history.pairs:
        if one_surface == other_surface == surface.id and one in faces and other in faces:
            key = faces[one], faces[other]
            if key[0] != key[1]:
                pairs[key] = pairs.get(key, 0) + times
    mistakes: dict[tuple[str, str], int] = {}
    for where, control, does, meant, times in history.slips:
        if where == surface.id and meant and does in faces and times > 0:
            key = faces[does], meant
            if key[0] != key[1] and faces[does] == control:
                mistakes[key] = mistakes.get(key, 0) + times
    return Travel(surface, homes_of(surface, homes), uses, pairs, mistakes)


def propose(surface: BareSurface, layer: LayerRow, history: History, homes: Iterable[str] = (), *,
            free: bool = True) -> Arrangement:
    """A better arrangement of one layer, or why there is none."""
    travel = travel_of(surface, layer, history, homes)
    total = sum(travel.uses.values())
    if total < ENOUGH:
        return Arrangement(layer.id, why=f"{say_count(total, 'press')} of this layer so far; {ENOUGH} say enough for "
                                         "a proposal")
    by_control: dict[str, list[BindingRow]] = {}
    for binding in layer.bindings:
        by_control.setdefault(binding.control, []).append(binding)
    controls = {control.id: control for control in surface.controls if not control.absent}
    fixed = {control for control, rows in by_control.items()
             if control not in controls or any(does_of(row) in FIXED for row in rows)}
    freed = tuple(control for control in by_control
                  if free and total >= ENOUGH_TO_FREE and control not in fixed and not travel.uses.get(control)
                  and not any(ACTION_KINDS[row.kind].stays for row in by_control[control]))
    at = {face: face for face in by_control if face in controls and face not in freed}
    before = travel.total(at)
    places = [control for name, control in controls.items() if name not in fixed]
    _improve(at, travel, places, by_control, fixed, before)
    moves = tuple((face, place) for face, place in at.items() if face != place)
    after = travel.total(at)
    if not (moves or freed):
        return Arrangement(layer.id, before=before / total, after=before / total,
                           why="it is well arranged: no change would save as much as it costs to learn")
    return Arrangement(layer.id, moves, freed, before / total, after / total)


def _improve(at: dict[str, str], travel: Travel, places: list[ControlRow], rows: dict[str, list[BindingRow]],
             fixed: set[str], before: float) -> None:
    """The best exchange of two places, again and again, while it is worth it."""
    movable = sorted((face for face in at if face not in fixed), key=lambda face: -travel.uses.get(face, 0))
    by_id = {control.id: control for control in places}
    suits: dict[tuple[str, str], bool] = {}

    def fits(face: str, place: str) -> bool:
        """Whether a face can lie on a place: worked out once, from where it lies at first."""
        key = face, place
        if key not in suits:
            suits[key] = _fits(rows[face], by_id[place], by_id.get(face))
        return suits[key]
    # What an exchange would save, for as long as nothing that it depends on has moved.
    gains: dict[tuple[str, str], float] = {}
    moved: set[str] = set()
    changed: set[str] = set()
    for _ in range(MOST_SWAPS):
        holder = {place: face for face, place in at.items()}
        best, saved = None, WORTH * before
        costs = {face: travel.of(face, at) for face in at}
        for face in movable[:MOST_MOVED]:
            here = at[face]
            for place in by_id:
                other = holder.get(place)
                key = face, place
                if key not in gains or face in moved or other in moved or place in changed:
                    gains[key] = 0.0 if place == here or other in fixed or not fits(face, place) or (
                        other is not None and not fits(other, here)) else _gain(travel, at, costs, (face, place, other))
                if gains[key] > saved:
                    best, saved = (face, place, other, here), gains[key]
        if best is None:
            return
        face, place, other, here = best
        at[face] = place
        if other:
            at[other] = here
        changed = {place, here}
        moved = {name for one in (face, other) if one for name in (one, *travel.linked(one))}


def _gain(travel: Travel, at: dict[str, str], costs: dict[str, float],
          exchange: tuple[str, str, str | None]) -> float:
    """What is saved when a face goes to a place, and what lies there comes to where it was; `costs` are those now."""
    face, place, other = exchange
    here = at[face]
    cost = costs[face] + (costs[other] if other else 0.0)
    at[face] = place
    if other:
        at[other] = here
    after = travel.of(face, at) + (travel.of(other, at) if other else 0.0)
    at[face] = here
    if other:
        at[other] = place
    return cost - after


def _fits(rows: list[BindingRow], place: ControlRow, source: ControlRow | None) -> bool:
    """Whether bindings can be made on another control: it is of the same sort, and has the gestures."""
    if source is None or bool(place.moves) != bool(source.moves) or (
            (from_wire(place.code) >= STRUCK) != (from_wire(source.code) >= STRUCK)):
        return False
    if place.moves:
        return False
    gestures = gestures_for(place, [row.gesture for row in rows])
    return all(row.gesture in gestures or row.gesture.startswith("with ") for row in rows)
