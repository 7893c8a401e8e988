"""A parcel looked at and taken in: what it would do outside the keyboard, and the one change that makes it a part."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from brass_pebble.core.desk.action import ACTION_KINDS, BETWEEN, Action, read_action
from brass_pebble.core.desk.read.bindings import is_gesture
from brass_pebble.core.macro.reach import Reach, put_to_sleep, reaches
from brass_pebble.core.macro.reader import Draft, link, parse
from brass_pebble.core.parcel.contents import OWN_OF_A_SURFACE, Parcel, without_own
from brass_pebble.core.parcel.fitting import Fit, bound_controls, match
from brass_pebble.core.parcel.merge import Choices, Intake, Item, items_of, take_in
from brass_pebble.core.say.problem import Problem, ProblemError

from .edits import Edit, Row
from .guests import FILE, Guests, write_guests
from .parcel_file import mine_of
from .store import DeskStore


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


def look(parcel: Parcel, store: DeskStore) -> Look:
    """What is in a parcel, and how it stands to a desk.  Nothing is written.

    Raises:
        ProblemError: the desk itself is broken at the moment.
    """
    mine = mine_of(store)
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
    return Look(parcel, items_of(parcel, mine), reaching, problems, store.guests().approved)


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
    return found


def _nothing(mark: str) -> bool:
    """Nothing of a parcel that is only looked at is approved."""
    return False


def _called(drafts: dict[str, Draft]) -> set[str]:
    return {called for name, draft in drafts.items() for called in (name, draft.macro.name)}


def at_most(seen: Look, item: Item) -> str:
    """What something of a parcel could do at the most, in a few words."""
    if item.sort not in ("macro", "surface"):
        return "is drawn" if item.sort == "layout" else "is a list to read"
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


def fit_onto(parcel: Parcel, surface: str, store: DeskStore, here: str, how: str) -> Fit:
    """How a surface of a parcel fits one of the desk.

    Raises:
        ProblemError: there is no such surface.
    """
    source, target = source_controls(parcel, surface, store), target_controls(store, here)
    return match(source, bound_of(parcel, surface), target, how)


def bound_of(parcel: Parcel, surface: str) -> dict[str, list[str]]:
    """The controls of a parcel's surface that do anything, and their gestures."""
    layers = parcel.surfaces[surface].get("layer", {})
    return bound_controls(layer for layer in layers.values() if isinstance(layer, dict)) if isinstance(layers, dict) \
        else {}


def source_controls(parcel: Parcel, surface: str, store: DeskStore) -> list[dict[str, Any]]:
    """The drawing of a parcel's surface, as rows of controls; made up of what it binds where there is none."""
    from brass_pebble.core.desk.look.rows import control_row
    from brass_pebble.core.desk.model import Desk
    from brass_pebble.core.desk.read.desk import read_desk
    tables = {"surface": {surface: {**parcel.surfaces[surface], "layer": {}}}}
    found, _ = read_desk(tables, text="", file="", layouts=lambda name: parcel_layout(parcel, name, store),
                         layout_names=(), macros={}, broken_macros={})
    shown = found.surfaces[surface]
    return [control_row(Desk(), shown, control) for control in shown.layout.controls]


def parcel_layout(parcel: Parcel, name: str, store: DeskStore) -> Any:
    """A drawing by its id: the parcel's own, or one that is here."""
    from brass_pebble.core.devices.layout import read_layout
    from brass_pebble.core.say.limits import load_tables
    if name in parcel.layouts:
        return read_layout(load_tables(parcel.layouts[name]), id=name, file=f"layouts/{name}.toml")[0]
    return store.layout(name)


def drawn_surfaces(parcel: Parcel, store: DeskStore) -> dict[str, dict[str, Any]]:
    """A parcel's surfaces as rows that a screen draws, by id: what could not be read of them is left out."""
    from brass_pebble.core.desk.look.rows import surface_row
    from brass_pebble.core.desk.read.desk import read_desk
    macros = {name: parse(text, id=name).macro for name, text in parcel.macros.items()}
    found, _ = read_desk(without_own(parcel.tables), text="", file="",
                         layouts=lambda name: parcel_layout(parcel, name, store), layout_names=(), macros=macros,
                         broken_macros={})
    return {name: surface_row(found, surface) for name, surface in found.surfaces.items()}


def target_controls(store: DeskStore, here: str) -> list[dict[str, Any]]:
    """The drawing of a surface of the desk.

    Raises:
        ProblemError: there is no such surface.
    """
    from brass_pebble.core.desk.look.rows import control_row
    desk = store.load().desk
    found = desk.surfaces.get(here)
    if found is None:
        raise ProblemError(f"there is no surface “{here}”", hint=f"Known are {', '.join(desk.surfaces) or 'none yet'}")
    return [control_row(desk, found, control) for control in found.layout.controls]


def intake_edit(parcel: Parcel, store: DeskStore, choices: Choices) -> tuple[Edit, Intake]:
    """The one change that takes a parcel in as chosen; what came in is a guest from then on.

    Raises:
        ProblemError: the desk is broken at the moment, or nothing was chosen.
    """
    mine = mine_of(store)
    intake = take_in(parcel, mine, choices)
    if intake.empty:
        raise ProblemError("nothing of the parcel was chosen", hint="Everything in it is here already, or was left out")
    guests = store.guests()
    if guests.unreadable:
        raise ProblemError(f"{FILE} of this desk cannot be read, so it is not known what came from whom", file=FILE,
                           hint="Put it right, or delete it: what came from others is known by its content all the "
                           "same. Then take the parcel in")
    origin = parcel.manifest.name
    guests = Guests({**guests.macros, **dict.fromkeys(intake.macros, origin)},
                    {**guests.surfaces, **dict.fromkeys(intake.places, origin)})
    values = tuple((path, rows_on_one_line(value, path)) for path, value in intake.values)
    files = [(f"here/{name}" if name.startswith("layouts/") else name, text) for name, text in intake.files]
    parts = [f"{count} {what}{'' if count == 1 else 's'}" for what, count in (
        ("surface", len(intake.surfaces)), ("macro", len(intake.macros))) if count]
    words = f"from {origin}: {' and '.join(parts) or 'drawings'} taken in"
    return Edit(words, values, (*files, (FILE, write_guests(guests)))), intake


def rows_on_one_line(value: Any, path: tuple[str, ...]) -> Any:
    """A table with the rows marked that desks write on one line: devices and bindings."""
    if not isinstance(value, dict):
        return [Row(one) if isinstance(one, dict) else one for one in value] if isinstance(value, list) else value
    if path and (path[-1] in ("device", "follows") or (len(path) >= 6 and path[0] == "surface")):
        return Row(value)
    return {key: rows_on_one_line(inner, (*path, key)) for key, inner in value.items()}


def new_desk_files(parcel: Parcel) -> dict[str, str]:
    """The files of a new desk made of a whole parcel: everything in it a guest.

    Raises:
        ProblemError: the parcel holds no desk.
    """
    if parcel.manifest.kind == "macros":
        raise ProblemError("the parcel holds only macros", hint="Take it into a desk of yours, without --to")
    import tomlkit
    document: Any = tomlkit.parse(parcel.text)
    for name in parcel.tables:
        if name not in without_own(parcel.tables):
            document.pop(name)
    for name in parcel.surfaces:
        for field in OWN_OF_A_SURFACE:
            document["surface"][name].pop(field, None)
    origin = parcel.manifest.name
    guests = Guests(dict.fromkeys(parcel.macros, origin), dict.fromkeys(parcel.surfaces, origin))
    return {"desk.toml": tomlkit.dumps(document), FILE: write_guests(guests),
            **{f"macros/{name}.macro": text for name, text in parcel.macros.items()},
            **{f"layouts/{name}.toml": text for name, text in parcel.layouts.items()},
            **{f"programs/{name}.toml": text for name, text in parcel.programs.items()}}
