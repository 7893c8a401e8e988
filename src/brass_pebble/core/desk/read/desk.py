"""A desk read from its TOML table, with exact complaints; what did not change is taken over."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import TYPE_CHECKING, Any

from brass_pebble.core.desk.model import DEFAULT_SHORTEST_TAP, Desk, Layer, NetworkSettings, StagePlace, Surface
from brass_pebble.core.desk.read.bindings import NO_STRANGERS, Check, Reading, Strangers
from brass_pebble.core.desk.read.surfaces import read_surface
from brass_pebble.core.devices.layout import Layout
from brass_pebble.core.macro.timetable import DEFAULT_GAP, DEFAULT_TAP, Macro
from brass_pebble.core.say.durations import MS, say_duration
from brass_pebble.core.say.memo import Memo
from brass_pebble.core.say.problem import Problem
from brass_pebble.core.say.setting import read_all, settings_of
from brass_pebble.core.say.toml_fields import Fields
from brass_pebble.core.say.toml_fields import Places as TextPlaces
from brass_pebble.core.signals.key_places import US, Places

if TYPE_CHECKING:
    from brass_pebble.core.desk.model import Desk, Surface

FORMAT = 1
MOST_SURFACES = 500


@dataclass
class KnownParts:
    """Surfaces and layers that were read before without anything to complain of, by what they were read from."""

    surfaces: Memo[str, Surface] = field(default_factory=Memo)
    layers: Memo[tuple[str, str], Layer] = field(default_factory=Memo)
    depends: Memo[str, tuple[object, ...]] = field(default_factory=Memo)


def read_typing(data: dict[str, Any]) -> tuple[int, int, str]:
    """The desk's tap length and gap in ns and its keyboard layout, needed before its macros can be laid out."""
    fields = Fields(data, (), TextPlaces(""), "", [])
    return fields.duration("tap", DEFAULT_TAP), fields.duration("gap", DEFAULT_GAP), fields.text("keyboard", "us")


def read_desk(data: dict[str, Any], *, text: str, file: str, layouts: Callable[[str], Layout | None],
              layout_names: Iterable[str], macros: dict[str, Macro],
              broken_macros: dict[str, str],
              strangers: Strangers = NO_STRANGERS,
              known: KnownParts | None = None, sleeping: object = None,
              places: Places = US, outputs: Sequence[str] = (),
              last_drawing: Callable[[str], Layout | None] = lambda surface: None) -> tuple[Desk, list[Problem]]:
    """A desk from its TOML table.  What is broken is left out and reported; the rest stands.

    `outputs` are the kinds that there are; without any, whatever it says is taken.
    `places` are those of the layout that `keyboard` names; `last_drawing(surface)` is the one that it had, for one
    whose layout is not there.

    `known` is what was read before, and is taken over if nothing it is made from has changed; it is brought up to
    date.  `sleeping` is what `strangers` answers by: another one makes them be read again.
    """
    problems: list[Problem] = []
    top = Fields(data, (), TextPlaces(text), file, problems)
    version = top.number("format", FORMAT)
    if version != FORMAT:
        top.problem("format", f"this desk has format {version:g}", f"This program reads format {FORMAT}")
    known_macros = {**macros, **broken_macros}
    surfaces = {}
    settings = read_all(Desk, top)
    output = top.choice("output", outputs, "uinput") if outputs else top.text("output", "uinput")
    times = {name: settings.get(name, settings_of(Desk)[name].default) for name in ("hold_after", "second_within")}
    checks: list[Check] = []
    known = known or KnownParts()
    depends: tuple[object, ...] = (frozenset(known_macros), times, sleeping)
    # The very same object is the quickest to compare.
    depends = known.depends.find("", depends) or known.depends.keep("", depends, depends)
    reading = Reading(known_macros, checks, problems, known.layers, depends, strangers)
    for count, (surface_id, fields) in enumerate(top.entries("surface")):
        if count >= MOST_SURFACES:
            fields.problem("", f"a desk has at most {MOST_SURFACES} surfaces; this one and the rest are left out",
                           "Split the desk into several")
            break
        drawing = str(fields.data.get("layout", ""))
        made_from = (depends, layouts(drawing) if drawing else None, fields.data)
        before = known.surfaces.find(surface_id, made_from)
        if before is not None:
            surfaces[surface_id] = before
            continue
        so_far = len(problems), len(checks)
        try:
            surfaces[surface_id] = read_surface(surface_id, fields, layouts, layout_names, reading, times,
                                                partial(last_drawing, surface_id))
        except Exception as error:
            # Whatever it is, it concerns this surface and no other.
            fields.problem("", f"the surface “{surface_id}” cannot be read: {error!r}", "Write it in a simpler way")
            continue
        if so_far == (len(problems), len(checks)):
            known.surfaces.keep(surface_id, made_from, surfaces[surface_id])
    known.surfaces.only(surfaces)
    known.layers.only({(surface.id, layer.id) for surface in surfaces.values() for layer in surface.layers})
    network = _read_network(top.table("network"))
    shortest_tap = _read_shortest_tap(top, settings.get("tap", DEFAULT_TAP))
    for check in checks:
        try:
            check(surfaces)
        except Exception as error:
            top.problem("", f"something bound together cannot be read: {error!r}")
    drawn = []
    for program, fields in top.entries("stage"):
        drawn.append(StagePlace(program, fields.pair("at", (0.0, 0.0)) or (0.0, 0.0),
                                fields.pair("size", (6.0, 3.0)) or (6.0, 3.0)))
        fields.done()
    top.done()
    return Desk(**settings, output=output, surfaces=surfaces, stage=tuple(drawn), macros=macros,
                broken_macros=broken_macros, network=network, shortest_tap=shortest_tap, places=places), problems


def _read_shortest_tap(fields: Fields, tap: int) -> int:
    shortest = fields.duration("shortest_tap", min(tap, DEFAULT_SHORTEST_TAP))
    if not MS <= shortest <= max(tap, MS):
        fields.problem("shortest_tap", f"“shortest_tap” must be between 1 ms and the desk's tap of {say_duration(tap)}",
                       "Write the shortest time in which your programs notice a key")
        return min(tap, DEFAULT_SHORTEST_TAP)
    return shortest


def _read_network(fields: Fields) -> NetworkSettings:
    settings = NetworkSettings(**read_all(NetworkSettings, fields))
    fields.done()
    return settings
