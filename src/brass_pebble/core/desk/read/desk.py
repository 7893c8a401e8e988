"""A desk read from its TOML table, with exact complaints; what did not change is taken over."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

from brass_pebble.core.desk.model import (
    DEFAULT_PATIENCE,
    DEFAULT_SHORTEST_TAP,
    END,
    GO_ON,
    REDIRECTS,
    SAME_HOST,
    Desk,
    NetworkSettings,
    StagePlace,
    Surface,
)
from brass_pebble.core.desk.read.bindings import Check, Reading, read_wait
from brass_pebble.core.desk.read.surfaces import read_surface
from brass_pebble.core.devices.layout import Layout
from brass_pebble.core.effects.reach import Reach
from brass_pebble.core.macro.timetable import DEFAULT_GAP, DEFAULT_TAP, Macro
from brass_pebble.core.play.gesture import HOLD_AFTER, SECOND_WITHIN
from brass_pebble.core.play.player import OVERTAKEN
from brass_pebble.core.say.durations import MS, say_duration
from brass_pebble.core.say.problem import Problem
from brass_pebble.core.say.toml_fields import Fields
from brass_pebble.core.say.toml_fields import Places as TextPlaces
from brass_pebble.core.signals.key_places import US, Places

if TYPE_CHECKING:
    from brass_pebble.core.desk.model import Desk, Surface

FORMAT = 1
MOST_SURFACES = 500
LEAST_OVERTAKEN = 100_000_000


@dataclass(frozen=True)
class KnownSurface:
    """A surface as it was read, without anything to complain of, and what it was read from."""

    table: dict[str, Any]
    made_from: tuple[object, ...]
    layout_id: str
    layout: Layout | None
    surface: Surface

    def fits(self, table: dict[str, Any], made_from: tuple[object, ...],
             layouts: Callable[[str], Layout | None]) -> bool:
        """Whether reading it again would give the same."""
        return (self.made_from == made_from and self.table == table
                and (not self.layout_id or layouts(self.layout_id) is self.layout))



def read_typing(data: dict[str, Any]) -> tuple[int, int, str]:
    """The desk's tap length and gap in ns and its keyboard layout, needed before its macros can be laid out."""
    fields = Fields(data, (), TextPlaces(""), "", [])
    return fields.duration("tap", DEFAULT_TAP), fields.duration("gap", DEFAULT_GAP), fields.text("keyboard", "us")



def read_desk(data: dict[str, Any], *, text: str, file: str, layouts: Callable[[str], Layout | None],
              layout_names: Iterable[str], macros: dict[str, Macro],
              broken_macros: dict[str, str],
              sleeps: Callable[[str, Reach], bool] = lambda place, reach: False,
              plays: Callable[[str, str], tuple[Reach, ...]] = lambda place, macro: (),
              known: dict[str, KnownSurface] | None = None, sleeping: object = None,
              places: Places = US, outputs: Sequence[str] = (),
              last_drawing: Callable[[str], Layout | None] = lambda surface: None) -> tuple[Desk, list[Problem]]:
    """A desk from its TOML table.  What is broken is left out and reported; the rest stands.

    `outputs` are the kinds that there are; without any, whatever it says is taken.
    `places` are those of the layout that `keyboard` names; `last_drawing(surface)` is the one that it had, for one
    whose layout is not there.

    `known` are surfaces that were read before, and are taken over if nothing they are made from has changed; it is
    brought up to date.  `sleeping` is what `sleeps` answers by: another one makes them be read anew.
    """
    problems: list[Problem] = []
    top = Fields(data, (), TextPlaces(text), file, problems)
    version = top.number("format", FORMAT)
    if version != FORMAT:
        top.problem("format", f"this desk has format {version:g}", f"This program reads format {FORMAT}")
    known_macros = {**macros, **broken_macros}
    surfaces = {}
    name = top.text("name", "Unnamed desk")
    output = top.choice("output", outputs, "uinput") if outputs else top.text("output", "uinput")
    tap, gap = top.duration("tap", DEFAULT_TAP), top.duration("gap", DEFAULT_GAP)
    keyboard = top.text("keyboard", "us")
    wide, high = top.pair("screen", (1920.0, 1080.0)) or (1920.0, 1080.0)
    patience = top.duration("patience", DEFAULT_PATIENCE)
    times = read_wait(top, "hold_after", HOLD_AFTER), read_wait(top, "second_within", SECOND_WITHIN)
    checks: list[Check] = []
    kept: dict[str, KnownSurface] = {}
    made_from = (frozenset(known_macros), times, sleeping)
    for count, (surface_id, fields) in enumerate(top.entries("surface")):
        if count >= MOST_SURFACES:
            fields.problem("", f"a desk has at most {MOST_SURFACES} surfaces; this one and the rest are left out",
                           "Split the desk into several")
            break
        before = (known or {}).get(surface_id)
        if before is not None and before.fits(fields.data, made_from, layouts):
            surfaces[surface_id], kept[surface_id] = before.surface, before
            continue
        so_far = len(problems), len(checks)
        try:
            surfaces[surface_id] = read_surface(surface_id, fields, layouts, layout_names,
                                                 Reading(known_macros, checks), times, sleeps, plays,
                                                 partial(last_drawing, surface_id))
        except Exception as error:
            # Whatever it is, it concerns this surface and no other.
            fields.problem("", f"the surface “{surface_id}” cannot be read: {error!r}", "Write it in a simpler way")
            continue
        if so_far == (len(problems), len(checks)):
            name_of_layout = str(fields.data.get("layout", ""))
            kept[surface_id] = KnownSurface(fields.data, made_from, name_of_layout,
                                            layouts(name_of_layout) if name_of_layout else None,
                                            surfaces[surface_id])
    if known is not None:
        known.clear()
        known.update(kept)
    midi_to = top.text("midi_to", "")
    middle_c = int(top.number("middle_c", 4))
    if not 3 <= middle_c <= 5:
        top.problem("middle_c", "note 60 is called C3, C4 or C5", "Write 3, 4 or 5")
        middle_c = 4
    network = _read_network(top.table("network"))
    history = top.flag("history", default=True)
    redirects = top.choice("redirects", REDIRECTS, SAME_HOST)
    overtaken, overtaken_after = _read_overtaken(top)
    shortest_tap = _read_shortest_tap(top, tap)
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
    return Desk(name, output, tap, gap, keyboard, (int(wide), int(high)), patience, *times,
                surfaces, tuple(drawn), macros, broken_macros, midi_to, middle_c, network, history, redirects,
                overtaken, overtaken_after, shortest_tap, places), problems



def _read_overtaken(fields: Fields) -> tuple[str, int]:
    after = fields.duration("overtaken_after", OVERTAKEN)
    if after < LEAST_OVERTAKEN:
        fields.problem("overtaken_after", f"“overtaken_after” must be at least {say_duration(LEAST_OVERTAKEN)}: "
                       "shorter pauses are ordinary", 'Most desks need no more than the default, "1s"')
        after = OVERTAKEN
    return fields.choice("overtaken", (END, GO_ON), END), after



def _read_shortest_tap(fields: Fields, tap: int) -> int:
    shortest = fields.duration("shortest_tap", min(tap, DEFAULT_SHORTEST_TAP))
    if not MS <= shortest <= max(tap, MS):
        fields.problem("shortest_tap", f"“shortest_tap” must be between 1 ms and the desk's tap of {say_duration(tap)}",
                       "Write the shortest time for which your programs notice a key")
        return min(tap, DEFAULT_SHORTEST_TAP)
    return shortest



def _read_network(fields: Fields) -> NetworkSettings:
    ports = {}
    for name in ("midi", "osc"):
        port = fields.number(name, 0)
        if not (port == int(port) and 0 <= port < 65_535):
            fields.problem(name, f"{port:g} is no port", "Write a number from 1 to 65534, as midi = 5004")
            port = 0
        ports[name] = int(port)
    settings = NetworkSettings(ports["midi"], ports["osc"], fields.text("listen", "0.0.0.0"), fields.text("name", ""))
    fields.done()
    return settings
