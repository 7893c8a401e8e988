"""A parcel as it is looked at before anything changes: what is in it, what it would do, how it is drawn.  Pure."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from brass_pebble.core.desk.action import ACTION_KINDS, BETWEEN, Action, read_action
from brass_pebble.core.desk.look.drawn import BareSurface, ControlRow
from brass_pebble.core.desk.look.rows import control_row, surface_row
from brass_pebble.core.desk.model import Desk
from brass_pebble.core.desk.read.bindings import is_gesture
from brass_pebble.core.desk.read.desk import read_desk
from brass_pebble.core.devices.layout import Layout, read_layout
from brass_pebble.core.macro.reach import Reach, put_to_sleep, reaches
from brass_pebble.core.macro.reader import Draft, link, parse
from brass_pebble.core.parcel.contents import Parcel, without_own
from brass_pebble.core.parcel.fitting import bound_controls
from brass_pebble.core.parcel.merge import Item, Mine, items_of
from brass_pebble.core.say.limits import load_tables
from brass_pebble.core.say.problem import Problem, ProblemError

Layouts = Callable[[str], Layout | None]


@dataclass(frozen=True)
class Reaching:
    """Something of a parcel that reaches outside: in which item, and what."""

    item: str
    where: str
    reach: Reach


@dataclass(frozen=True)
class Look:
    """A parcel as it is shown before anything changes.  `approved` are marks that the person approved before."""

    parcel: Parcel
    items: list[Item]
    reaching: list[Reaching]
    problems: list[Problem]
    approved: set[str]


def look_at(parcel: Parcel, mine: Mine, approved: set[str]) -> Look:
    """What is in a parcel, and how it stands to a desk; `approved` are marks that the person approved before."""
    reaching, problems = [], []
    # Theirs beside the person's own: what theirs have mine do, they do.
    own = {name: parse(text, id=name) for name, text in mine.macros.items() if name not in parcel.macros}
    drafts = {name: parse(text, id=name, file=f"macros/{name}.macro") for name, text in parcel.macros.items()}
    for draft in drafts.values():
        draft.guest = _nothing
        put_to_sleep(draft.steps, _nothing)
        problems += draft.problems
    link({**own, **drafts}, only=drafts.keys())
    for name, draft in drafts.items():
        found = [*reaches(draft.steps, through_plays=True), *((draft.keys,) if draft.keys else ())]
        reaching += [Reaching(f"macro {name}", f"by your macro “{reach.via}”" if reach.via else f"line {reach.line}",
                              reach) for reach in found if reach.via not in _called(drafts)]
    for name, table in parcel.surfaces.items():
        for layer, gesture, control, row in binding_rows(table):
            place = f"{control} {gesture}, in {layer}"
            reaching += [Reaching(f"surface {name}", place, reach) for reach in reaches_of_row(row)]
            reaching += [Reaching(f"surface {name}", f"{place}, by your macro “{own[macro].macro.name}”", reach)
                         for macro in plays_of_row(row) if macro in own
                         for reach in reaches(own[macro].steps, through_plays=True)]
    return Look(parcel, items_of(parcel, mine), reaching, problems, approved)


def readable_in(parcel: Parcel) -> list[Reaching]:
    """What whoever gets a parcel can read in it: texts that it types, pastes or says, commands, addresses."""
    drafts = {name: parse(text, id=name) for name, text in parcel.macros.items()}
    link(drafts)
    found = []
    for name, draft in drafts.items():
        found += [Reaching(f"macro {name}", f"line {reach.line}", reach) for reach in reaches(draft.steps)]
        if draft.keys:
            found.append(Reaching(f"macro {name}", "its keys", draft.keys))
    for name, table in parcel.surfaces.items():
        found += [Reaching(f"surface {name}", f"{control} {gesture}, in {layer}", reach)
                  for layer, gesture, control, row in binding_rows(table) for reach in reaches_of_row(row)]
    found += [Reaching(f"value {name}", "kept", Reach("keeps a value", text.strip(), 0))
              for name, text in parcel.values.items()]
    return found


def _nothing(mark: str) -> bool:
    """Nothing of a parcel that is only looked at is approved."""
    return False


def _called(drafts: dict[str, Draft]) -> set[str]:
    return {called for name, draft in drafts.items() for called in (name, draft.macro.name)}


def at_most(seen: Look, item: Item) -> str:
    """What something of a parcel could do at the most, in a few words."""
    if item.sort not in ("macro", "surface"):
        return {"layout": "is drawn", "value": "is a value that macros keep"}.get(item.sort, "is a list to read")
    found = dict.fromkeys(row.reach.does for row in seen.reaching if row.item == item.key)
    return "sends single keys" + "".join(f", {does}" for does in found)


def plays_of_row(row: dict[str, Any]) -> tuple[str, ...]:
    """The macros that a binding of desk.toml plays, by id."""
    action = _action_of(row)
    return action.macros() if action is not None else ()


def binding_rows(table: dict[str, Any]) -> list[tuple[str, str, str, dict[str, Any]]]:
    """Every binding of a surface's table: layer, gesture, control, row."""
    found = []
    layers = table.get("layer", {})
    for layer, gestures in layers.items() if isinstance(layers, dict) else ():
        for gesture, rows in gestures.items() if isinstance(gestures, dict) else ():
            if isinstance(rows, dict) and is_gesture(gesture):
                found += [(layer, gesture, control, row) for control, row in rows.items() if isinstance(row, dict)]
    return found


def reaches_of_row(row: dict[str, Any]) -> tuple[Reach, ...]:
    """What a binding of desk.toml does outside the keyboard by itself."""
    action = _action_of(row)
    return action.reaches() if action is not None else ()


def _action_of(row: dict[str, Any]) -> Action | None:
    kind = next((key for key in row if key in ACTION_KINDS), "")
    target = row.get(kind, "")
    try:
        return read_action(kind, BETWEEN.join(map(str, target)) if isinstance(target, list) else str(target))
    except ProblemError:
        return None


def bound_of(parcel: Parcel, surface: str) -> dict[str, list[str]]:
    """The controls of a parcel's surface that do anything, and their gestures."""
    layers = parcel.surfaces[surface].get("layer", {})
    return bound_controls(layer for layer in layers.values() if isinstance(layer, dict)) if isinstance(layers, dict) \
        else {}


def source_controls(parcel: Parcel, surface: str, layouts: Layouts) -> list[ControlRow]:
    """The drawing of a parcel's surface, as rows of controls; made up of what it binds where there is none."""
    tables = {"surface": {surface: {**parcel.surfaces[surface], "layer": {}}}}
    found, _ = read_desk(tables, text="", file="", layouts=lambda name: parcel_layout(parcel, name, layouts),
                         layout_names=(), macros={}, broken_macros={})
    shown = found.surfaces[surface]
    return [control_row(Desk(), shown, control) for control in shown.layout.controls]


def parcel_layout(parcel: Parcel, name: str, layouts: Layouts) -> Layout | None:
    """A drawing by its id: the parcel's own, or one that is here."""
    if name in parcel.layouts:
        return read_layout(load_tables(parcel.layouts[name]), id=name, file=f"layouts/{name}.toml")[0]
    return layouts(name)


def drawn_surfaces(parcel: Parcel, layouts: Layouts) -> dict[str, BareSurface]:
    """A parcel's surfaces as rows that a screen draws, by id: what could not be read of them is left out."""
    macros = {name: parse(text, id=name).macro for name, text in parcel.macros.items()}
    found, _ = read_desk(without_own(parcel.tables), text="", file="",
                         layouts=lambda name: parcel_layout(parcel, name, layouts), layout_names=(), macros=macros,
                         broken_macros={})
    return {name: surface_row(found, surface) for name, surface in found.surfaces.items()}


