"""Bindings of a desk.toml after something that they name is called something else.  Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from brass_pebble.core.play.gesture import WITH
from brass_pebble.core.say.problem import ProblemError

from .action import BETWEEN
from .layer_switch import parse_target

Table = dict[str, Any]
# For each sort of thing (macro, surface, layout), the new ids by the old ones.
Renamed = Mapping[str, Mapping[str, str]]


def renamed_surface(table: Table, renamed: Renamed) -> Table:
    """A surface's table, with everything in it that has another name now."""
    found = dict(table)
    if found.get("layout") in renamed.get("layout", {}):
        found["layout"] = renamed.get("layout", {})[found["layout"]]
    layers = found.get("layer", {})
    if isinstance(layers, dict):
        found["layer"] = {
            name: {_renamed_gesture(key, renamed.get("surface", {})): renamed_rows(value, renamed, {})
                   if isinstance(value, dict) and key != "follows" else value for key, value in layer.items()}
            for name, layer in layers.items() if isinstance(layer, dict)}
    return found


def _renamed_gesture(gesture: str, surfaces: Mapping[str, str]) -> str:
    if gesture.startswith(WITH) and "/" in gesture:
        surface, _, control = gesture.removeprefix(WITH).partition("/")
        return f"{WITH}{surfaces.get(surface, surface)}/{control}"
    return gesture


def renamed_rows(rows: Table, renamed: Renamed, layers: dict[str, str]) -> Table:
    """The rows of a gesture, by control; `layers` are the surface's own that have another name."""
    return {control: renamed_row(row, renamed, layers) if isinstance(row, dict) else row
            for control, row in rows.items()}


def renamed_row(row: Table, renamed: Renamed, layers: dict[str, str]) -> Table:
    """A binding's row: the macros that it plays, alone or in a cycle, and the layers that it switches."""
    found = dict(row)
    macros = renamed.get("macro", {})
    if found.get("play") in macros:
        found["play"] = macros[found["play"]]
    cycle = found.get("cycle")
    if isinstance(cycle, list):
        found["cycle"] = [_renamed_step(str(step), macros) for step in cycle]
    elif isinstance(cycle, str):
        found["cycle"] = BETWEEN.join(_renamed_step(step, macros) for step in cycle.split(BETWEEN))
    if isinstance(found.get("layer"), str):
        found["layer"] = _renamed_switch(found["layer"], renamed.get("surface", {}), layers)
    return found


def _renamed_step(step: str, macros: Mapping[str, str]) -> str:
    kind, _, target = step.strip().partition(" ")
    return f"play {macros[target]}" if kind == "play" and target in macros else step


def _renamed_switch(text: str, surfaces: Mapping[str, str], layers: dict[str, str]) -> str:
    """A switch of a layer whose surface or layer has another name now."""
    try:
        target = parse_target(text)
    except ProblemError:
        return text
    return str(replace(target, layer=layers.get(target.layer, target.layer),
                       surfaces=tuple(surfaces.get(name, name) for name in target.surfaces)))


def plays_in_bindings(tables: Table, renamed: Mapping[str, str]) -> list[tuple[tuple[str, ...], Table]]:
    """The bindings of a desk's tables that name a macro, with the names that the macros have now: path and row."""
    found: list[tuple[tuple[str, ...], Table]] = []
    for surface, table in _tables(tables.get("surface")):
        for layer, gestures in _tables(table.get("layer")):
            for gesture, rows in _tables(gestures):
                for control, row in _tables(rows):
                    now = renamed_row(row, {"macro": renamed}, {})
                    if now != row:
                        found.append((("surface", surface, "layer", layer, gesture, control), now))
    return found


def _tables(value: Any) -> list[tuple[str, Table]]:
    rows = value.items() if isinstance(value, dict) else ()
    return [(name, inner) for name, inner in rows if isinstance(inner, dict)]
