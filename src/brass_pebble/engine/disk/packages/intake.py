"""A parcel looked at and taken in: what it would do outside the keyboard, and the one change that makes it a part."""

from __future__ import annotations

from typing import Any

from brass_pebble.core.desk.look.drawn import ControlRow
from brass_pebble.core.desk.look.rows import control_row
from brass_pebble.core.parcel.contents import Parcel, take_out_own, without_own
from brass_pebble.core.parcel.fitting import Fit, match
from brass_pebble.core.parcel.look import Look, bound_of, look_at, source_controls
from brass_pebble.core.parcel.merge import Choices, Intake, take_in
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.engine.disk.edits import Edit, Row
from brass_pebble.engine.disk.guests import FILE, Guests, write_guests
from brass_pebble.engine.disk.store import DeskStore

from .parcel_file import mine_of


def look(parcel: Parcel, store: DeskStore) -> Look:
    """What is in a parcel, and how it stands to a desk.  Nothing is written.

    Raises:
        ProblemError: the desk itself is broken at the moment.
    """
    return look_at(parcel, mine_of(store), store.guests().approved)


def fit_onto(parcel: Parcel, surface: str, store: DeskStore, here: str, how: str) -> Fit:
    """How a surface of a parcel fits one of the desk.

    Raises:
        ProblemError: there is no such surface.
    """
    source, target = source_controls(parcel, surface, store.layout), target_controls(store, here)
    return match(source, bound_of(parcel, surface), target, how)


def target_controls(store: DeskStore, here: str) -> list[ControlRow]:
    """The drawing of a surface of the desk.

    Raises:
        ProblemError: there is no such surface.
    """
    desk = store.load().desk
    found = desk.surfaces.get(here)
    if found is None:
        raise ProblemError(f"there is no surface “{here}”", hint=f"Available: {', '.join(desk.surfaces) or 'none yet'}")
    return [control_row(desk, found, control) for control in found.layout.controls]


def intake_edit(parcel: Parcel, store: DeskStore, choices: Choices) -> tuple[Edit, Intake]:
    """The one change that takes a parcel in as chosen; what came in is a guest from then on.

    Raises:
        ProblemError: the desk is broken at the moment, or nothing was chosen.
    """
    mine = mine_of(store)
    intake = take_in(parcel, mine, choices)
    if intake.empty:
        raise ProblemError("nothing selected to import", hint="Everything in it is here already, or was left out")
    guests = store.guests()
    if guests.unreadable:
        raise ProblemError(f"{FILE} of this desk cannot be read, so it is not known what came from whom", file=FILE,
                           hint="Put it right, or delete it: what came from others is known by its content all the "
                           "same. Then import the package")
    origin = parcel.manifest.name
    guests = Guests({**guests.macros, **dict.fromkeys(intake.macros, origin)},
                    {**guests.surfaces, **dict.fromkeys(intake.places, origin)})
    values = tuple((path, rows_on_one_line(value, path)) for path, value in intake.values)
    files = [(f"here/{name}" if name.startswith("layouts/") else name, text) for name, text in intake.files]
    parts = [f"{count} {what}{'' if count == 1 else 's'}" for what, count in (
        ("surface", len(intake.surfaces)), ("macro", len(intake.macros))) if count]
    words = f"Imported {' and '.join(parts) or 'drawings'} from {origin}"
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
        raise ProblemError("the package holds only macros", hint="Take it into a desk of yours, without --to")
    import tomlkit
    document: Any = tomlkit.parse(parcel.text)
    for name in parcel.tables:
        if name not in without_own(parcel.tables):
            document.pop(name)
    for name in parcel.surfaces:
        take_out_own(document["surface"][name])
    origin = parcel.manifest.name
    guests = Guests(dict.fromkeys(parcel.macros, origin), dict.fromkeys(parcel.surfaces, origin))
    return {"desk.toml": tomlkit.dumps(document), FILE: write_guests(guests),
            **{f"macros/{name}.macro": text for name, text in parcel.macros.items()},
            **{f"layouts/{name}.toml": text for name, text in parcel.layouts.items()},
            **{f"programs/{name}.toml": text for name, text in parcel.programs.items()},
            **{f"values/{name}.toml": text for name, text in parcel.values.items()}}
