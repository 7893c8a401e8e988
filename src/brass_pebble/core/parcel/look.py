"""A parcel as it is looked at before anything changes: what is in it, what it would do, how it is drawn.  Pure."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from brass_pebble.core.desk.action import ACTION_KINDS, BETWEEN, Action, read_action
from brass_pebble.core.desk.look.drawn import BareSurface, ControlRow
from brass_pebble.core.desk.look.rows import control_row, surface_row
from brass_pebble.core.desk.model import Desk
from brass_pebble.core.desk.read.bindings import is_gesture
from brass_pebble.core.desk.read.desk import read_desk
from brass_pebble.core.desk.read.surfaces import device_reach
from brass_pebble.core.devices.identity import RULE_FIELDS, DeviceRule
from brass_pebble.core.devices.layout import Layout, read_layout
from brass_pebble.core.effects.reach import Reach
from brass_pebble.core.macro.guests.closure import Wholes
from brass_pebble.core.macro.guests.reach import Guest, reach_of_playing, reaches
from brass_pebble.core.macro.reader import link, parse
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
    origin = parcel.manifest.name
    wholes = Wholes({**mine.macros, **parcel.macros}, lambda name: origin if name in parcel.macros else "",
                    parcel.values)
    called = {word for name, draft in own.items() for word in (name, draft.macro.name)}
    for name, draft in drafts.items():
        draft.let_in(Guest(origin, _nothing, wholes.of(name).mark))
        problems += draft.problems
        if draft.macro.name in called:
            problems.append(Problem(f"one of your macros is called “{draft.macro.name}”, too", draft.file,
                                    hint="Your macros go on playing yours; rename this one to tell them apart"))
    link({**own, **drafts}, only=drafts.keys())
    for name, draft in drafts.items():
        found = [*reaches(draft.steps, through_plays=True, whole=wholes.of(name).mark),
                 *((draft.keys,) if draft.keys else ())]
        reaching += [Reaching(f"macro {name}", _where(reach, called), reach) for reach in found]
    for name, table in parcel.surfaces.items():
        reaching += [Reaching(f"surface {name}", "its device", reach) for reach in _devices_of(name, table)]
        for layer, gesture, control, row in binding_rows(table):
            place, whole = f"{control} {gesture}, in {layer}", f"{name}/{layer}"
            reaching += [Reaching(f"surface {name}", place, replace(reach, whole=whole))
                         for reach in reaches_of_row(row)]
            for macro in plays_of_row(row):
                if macro in own and (reach := reach_of_playing(
                        own[macro].steps, own[macro].macro.name, f"play {macro}",
                        whole=f"{whole} {wholes.of(macro).mark}")) is not None:
                    reaching.append(Reaching(f"surface {name}", f"{place}, by your macro “{own[macro].macro.name}”",
                                             reach))
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


def _where(reach: Reach, mine: set[str]) -> str:
    if not reach.via:
        return f"line {reach.line}" if reach.line else "its keys"
    return f"by {'your' if reach.via in mine else 'the'} macro “{reach.via}”"


def _devices_of(surface: str, table: dict[str, Any]) -> list[Reach]:
    """What a surface of a package would take."""
    also = table.get("also", [])
    rows = [table.get("device"), *(also if isinstance(also, list) else [])]
    rules = [DeviceRule(tuple((name, str(row[name])) for name in RULE_FIELDS if row.get(name)))
             for row in rows if isinstance(row, dict)]
    return [device_reach(surface, rule) for rule in rules if rule.fields]


def at_most(seen: Look, item: Item) -> str:
    """What something of a parcel could do at the most, in a few words."""
    if item.sort not in ("macro", "surface"):
        return {"layout": "is drawn", "value": "is a value that macros keep"}.get(item.sort, "is a shortcut table")
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


