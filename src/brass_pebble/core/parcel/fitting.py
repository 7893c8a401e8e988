"""Bindings of one drawing put onto another: by position, by name, by hand; what fits nowhere is in a tray.  Pure."""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass, field
from typing import Any

from brass_pebble.core.desk.look.drawn import ControlRow
from brass_pebble.core.play.gesture import AT, MOTIONS, STRIKE, WITH
from brass_pebble.core.signals.signal import STRUCK, from_wire

Row = dict[str, Any]
HOWS = ("position", "name")
# Farther apart than this share of the drawing, two controls are not the same place.
FARTHEST = 0.34


@dataclass(frozen=True)
class Fit:
    """Where each control's bindings go (from → to), and those that fit nowhere."""

    placed: dict[str, str] = field(default_factory=dict)
    tray: tuple[str, ...] = ()

    def with_hand(self, control: str, place: str) -> Fit:
        """The same with one control put somewhere by hand: what was there goes into the tray; empty takes it off."""
        placed = {one: other for one, other in self.placed.items() if one != control and other != place}
        evicted = [one for one, other in self.placed.items() if other == place and one != control]
        tray = [one for one in self.tray if one != control] + [one for one in evicted if place]
        if place:
            placed[control] = place
        else:
            placed |= {one: other for one, other in self.placed.items() if one != control}
            tray.append(control)
        return Fit(placed, tuple(dict.fromkeys(tray)))


def bound_controls(layers: Iterable[Row]) -> dict[str, list[str]]:
    """Each control on which a surface's layers (rows of desk.toml's tables) bind anything, and its gestures."""
    found: dict[str, list[str]] = {}
    for layer in layers:
        for gesture, rows in layer.items():
            if isinstance(rows, dict) and gesture != "follows":
                for control in rows:
                    found.setdefault(str(control), []).append(gesture)
    return found


def suits(gestures: Collection[str], place: ControlRow) -> bool:
    """Whether a control of a drawing can make these gestures."""
    moves, turns = place.moves, place.turns
    for gesture in gestures:
        if gesture.startswith(WITH):
            continue
        if gesture.startswith(STRIKE):
            if from_wire(place.code) < STRUCK or moves:
                return False
        elif gesture in MOTIONS or gesture.startswith(AT):
            if not moves or (gesture.startswith(AT) and turns):
                return False
        elif turns and from_wire(place.code) >= STRUCK:
            # A knob that only turns cannot be pressed.
            return False
    return True


def match(source: list[ControlRow], bound: dict[str, list[str]], target: list[ControlRow], how: str) -> Fit:
    """Match the bound controls of a drawing with those of another one.  Both are rows of controls."""
    by_id = {row.id: row for row in source}
    placed = _by_name(by_id, bound, target) if how == "name" else _by_position(source, bound, target)
    return Fit(placed, tuple(control for control in bound if control not in placed))


def _by_name(source: dict[str, ControlRow], bound: dict[str, list[str]], target: list[ControlRow]) -> dict[str, str]:
    placed: dict[str, str] = {}
    taken: set[str] = set()
    # First those of the very same id, then those that are labelled the same, then those that send the same.
    alike: tuple[Callable[[ControlRow], str | int], ...] = (
        lambda row: row.id.casefold(), lambda row: row.legend.casefold(), lambda row: row.code)
    for key in alike:
        known: dict[str | int, ControlRow] = {}
        for row in target:
            known.setdefault(key(row), row)
        for control, gestures in bound.items():
            here = source.get(control)
            if control in placed or (here is None and key is not alike[0]):
                continue
            found = known.get(key(here) if here is not None else control.casefold())
            if found is not None and found.id not in taken and suits(gestures, found):
                placed[control] = found.id
                taken.add(found.id)
    return placed


def _places(rows: list[ControlRow]) -> dict[str, tuple[float, float]]:
    """The middle of each control, as shares of the drawing's width and height."""
    width = max((row.x + row.w for row in rows), default=1.0)
    height = max((row.y + row.h for row in rows), default=1.0)
    return {row.id: ((row.x + row.w / 2) / width, (row.y + row.h / 2) / height) for row in rows}


def _by_position(source: list[ControlRow], bound: dict[str, list[str]], target: list[ControlRow]) -> dict[str, str]:
    here, there = _places(source), _places(target)
    ways = []
    for control, gestures in bound.items():
        for row in target:
            if control in here and suits(gestures, row):
                far = math.dist(here[control], there[row.id])
                if far <= FARTHEST:
                    ways.append((far, control, row.id))
    placed: dict[str, str] = {}
    taken: set[str] = set()
    for _, control, place in sorted(ways):
        if control not in placed and place not in taken:
            placed[control] = place
            taken.add(place)
    return placed


def fitted_layers(layers: dict[str, Row], fit: Fit) -> dict[str, Row]:
    """The layers' tables with every control where the fit puts it; what is in the tray is left out."""
    found: dict[str, Row] = {}
    for name, layer in layers.items():
        table: Row = {}
        for key, value in layer.items():
            if not isinstance(value, dict) or key == "follows":
                table[key] = value
                continue
            gesture = key
            if key.startswith(WITH) and "/" not in key:
                # Together with a control of the same surface: that one has moved, too.
                holder = key.removeprefix(WITH)
                if holder not in fit.placed:
                    continue
                gesture = WITH + fit.placed[holder]
            rows = {fit.placed[control]: row for control, row in value.items() if control in fit.placed}
            if rows:
                table[gesture] = rows
        found[name] = table
    return found
