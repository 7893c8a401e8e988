"""A parcel put into a desk: what is new, what is there, what differs, and the change that takes it in.  Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from brass_pebble.core.desk.renaming import renamed_rows, renamed_surface
from brass_pebble.core.macro.naming import rename_plays, written_name

from .contents import Parcel, surface_without_own
from .fitting import Fit, fitted_layers

Table = dict[str, Any]
NEW, SAME, DIFFERS = "new", "the same", "differs"
TAKE, LEAVE, BOTH = "take", "leave", "both"
# What stays mine when their surface takes the place of mine: which device it is, where it lies, how I am listened to.
KEPT = ("device", "also", "at", "may_be_only_keyboard", "may_be_only_pointer", "listening")
# A binding: surface, its id, layer, its id, gesture, control.
BINDING = 5
ON_ONE_LINE = ("device", "follows")


@dataclass(frozen=True)
class Mine:
    """What the desk has: its tables, and texts by id."""

    tables: Table
    macros: Mapping[str, str]
    layouts: Mapping[str, str]
    programs: Mapping[str, str] = field(default_factory=dict)
    values: Mapping[str, str] = field(default_factory=dict)

    @property
    def surfaces(self) -> Table:
        """The tables of its surfaces, by id."""
        found: Table = self.tables.get("surface", {})
        return found


@dataclass(frozen=True)
class Item:
    """One thing of a parcel: its sort (surface, macro, layout, program or value), its id, how it stands to mine."""

    sort: str
    id: str
    name: str
    state: str

    @property
    def key(self) -> str:
        """What a choice is made by."""
        return f"{self.sort} {self.id}"

    @property
    def usual(self) -> str:
        """What is done with it unless the person says otherwise: nothing of theirs is replaced, and what their macros
        type is not said by somebody else."""
        return TAKE if self.state == NEW and self.sort != "value" else LEAVE


@dataclass(frozen=True)
class Choices:
    """What the person chose: by item, take, leave or both; by surface, onto which surface of theirs and how."""

    by_item: dict[str, str] = field(default_factory=dict)
    onto: dict[str, tuple[str, Fit]] = field(default_factory=dict)

    def of(self, item: Item) -> str:
        """What is done with an item."""
        if item.state == SAME:
            return LEAVE
        return self.by_item.get(item.key, item.usual)


@dataclass(frozen=True)
class Intake:
    """The change that takes a parcel in: values for paths of desk.toml, files, and what became of ids."""

    values: tuple[tuple[tuple[str, ...], Any], ...] = ()
    files: tuple[tuple[str, str], ...] = ()
    macros: tuple[str, ...] = ()
    surfaces: tuple[str, ...] = ()
    # Surfaces, or layers of mine as surface/layer, that came from somebody else.
    places: tuple[str, ...] = ()
    renamed: dict[str, str] = field(default_factory=dict)

    @property
    def empty(self) -> bool:
        """Whether nothing would change."""
        return not (self.values or self.files)


def items_of(parcel: Parcel, mine: Mine) -> list[Item]:
    """Everything in a parcel, in the order in which it is shown."""
    found = []
    for name, table in parcel.surfaces.items():
        known = mine.surfaces.get(name)
        state = NEW if known is None else SAME if surface_without_own(known) == surface_without_own(table) else DIFFERS
        found.append(Item("surface", name, str(table.get("name", name)), state))
    for sort, theirs, own in (("macro", parcel.macros, mine.macros), ("layout", parcel.layouts, mine.layouts),
                              ("program", parcel.programs, mine.programs), ("value", parcel.values, mine.values)):
        for name, text in theirs.items():
            state = NEW if name not in own else SAME if own[name].strip() == text.strip() else DIFFERS
            found.append(Item(sort, name, written_name(text) or name, state))
    return found


def free_name(wanted: str, taken: Mapping[str, Any]) -> str:
    """A name like another one that nobody has."""
    number, found = 2, f"{wanted}-2"
    while found in taken:
        number += 1
        found = f"{wanted}-{number}"
    return found


def take_in(parcel: Parcel, mine: Mine, choices: Choices) -> Intake:
    """Work out the change that carries the choices out."""
    items = items_of(parcel, mine)
    chosen = {item.key: choices.of(item) for item in items}
    renamed: dict[str, dict[str, str]] = {"surface": {}, "macro": {}, "layout": {}, "program": {}, "value": {}}
    own: dict[str, Mapping[str, Any]] = {"surface": mine.surfaces, "macro": mine.macros, "layout": mine.layouts,
                                         "program": mine.programs, "value": mine.values}
    given: dict[str, Mapping[str, Any]] = {"surface": parcel.surfaces, "macro": parcel.macros,
                                           "layout": parcel.layouts, "program": parcel.programs, "value": parcel.values}
    for item in items:
        if item.sort == "value" and chosen[item.key] == BOTH:
            # Macros share a value by its name: there is no second one.
            chosen[item.key] = LEAVE
        if chosen[item.key] == BOTH and item.state == DIFFERS:
            renamed[item.sort][item.id] = free_name(item.id, {**own[item.sort], **given[item.sort],
                                                              **dict.fromkeys(renamed[item.sort].values())})
    files = []
    for sort, texts, place in (("macro", parcel.macros, "macros/{}.macro"),
                               ("layout", parcel.layouts, "layouts/{}.toml"),
                               ("program", parcel.programs, "programs/{}.toml"),
                               ("value", parcel.values, "values/{}.toml")):
        for name, text in texts.items():
            if chosen[f"{sort} {name}"] in (TAKE, BOTH):
                new = renamed[sort].get(name, name)
                body = rename_plays(text, renamed["macro"], parcel.macros, own_name=new != name) if sort == "macro" \
                    else text
                files.append((place.format(new), body))
    values: list[tuple[tuple[str, ...], Any]] = []
    surfaces, places = [], []
    for name, table in parcel.surfaces.items():
        onto = choices.onto.get(name)
        if onto is not None:
            here, fit = onto
            found = _onto(table, here, mine.surfaces.get(here, {}), fit, renamed)
            values += found
            surfaces += [here] if found else []
            places += [f"{path[1]}/{path[3]}" for path, _ in found]
        elif chosen[f"surface {name}"] in (TAKE, BOTH):
            new = renamed["surface"].get(name, name)
            theirs = renamed_surface(surface_without_own(table), renamed)
            if new in mine.surfaces:
                values += _changes(("surface", new), mine.surfaces[new], {
                    **theirs, **{key: mine.surfaces[new][key] for key in KEPT if key in mine.surfaces[new]}})
            else:
                values.append((("surface", new), theirs))
            surfaces.append(new)
            places.append(new)
    macros = tuple(renamed["macro"].get(name, name) for name in parcel.macros
                   if chosen[f"macro {name}"] in (TAKE, BOTH))
    flat = {f"{sort} {old}": new for sort, names in renamed.items() for old, new in names.items()}
    return Intake(tuple(values), tuple(files), macros, tuple(surfaces), tuple(places), flat)


def _changes(path: tuple[str, ...], mine: Table, theirs: Table) -> list[tuple[tuple[str, ...], Any]]:
    """The values that make one table say what another one says; what is the same is left alone, with its remarks."""
    found: list[tuple[tuple[str, ...], Any]] = []
    for key in [*theirs, *(key for key in mine if key not in theirs)]:
        one, other = mine.get(key), theirs.get(key)
        if one == other:
            continue
        if isinstance(one, dict) and isinstance(other, dict) and len(path) < BINDING and key not in ON_ONE_LINE:
            found += _changes((*path, key), one, other)
        else:
            found.append(((*path, key), other))
    return found


def _onto(table: Table, here: str, mine: Table, fit: Fit,
          renamed: dict[str, dict[str, str]]) -> list[tuple[tuple[str, ...], Any]]:
    """Their layers on a surface of mine, each under a name that is free there."""
    layers: Table = {name: layer for name, layer in table.get("layer", {}).items() if isinstance(layer, dict)}
    taken = dict(mine.get("layer", {}))
    names: dict[str, str] = {}
    for name in layers:
        names[name] = free_name(name, {**taken, **layers}) if name in taken else name
        taken[names[name]] = {}
    values: list[tuple[tuple[str, ...], Any]] = []
    for name, layer in fitted_layers(layers, fit).items():
        changed = {key: renamed_rows(value, renamed, names) if isinstance(value, dict) and key != "follows" else value
                   for key, value in layer.items()}
        if names[name] != name and "name" in changed:
            changed["name"] = f"{changed['name']} ({table.get('name', 'theirs')})"
        values.append((("surface", here, "layer", names[name]), changed))
    return values
