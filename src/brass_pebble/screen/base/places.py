"""Everything of a desk that has a name, found by typing a part of it: surfaces, controls, layers, macros, settings.

Macros are found by their texts as well: each line with the words in it is a row of its own.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import partial
from itertools import islice
from types import MappingProxyType
from typing import Any, NamedTuple

from rich.text import Text
from textual.app import App
from textual.command import Hit, Hits, Provider

from brass_pebble.client import EngineError
from brass_pebble.core.desk.model import Desk, Surface
from brass_pebble.core.say.setting import settings_of
from brass_pebble.protocol.macros import AskMacros, Macros
from brass_pebble.screen.known import Known
from brass_pebble.screen.settings.desk import DeskPanel
from brass_pebble.screen.settings.surface import SurfacePanel

# More than these are no help; of macros' lines, after so many letters.
MOST, MOST_LINES, LETTERS = 30, 12, 3
# How well a line fits (0 to 1) that has the very words in it: less than such a name, better than letters far apart.
OF_A_LINE = 0.6


class Place(NamedTuple):
    """What can be gone to: its words, what it is, the view that shows it and what that is told."""

    words: str
    what: str
    view: str
    options: dict[str, Any]


def places(known: Known) -> Iterator[Place]:
    """All there are, those that are looked for most often first."""
    for macro in known.desk.macros:
        yield Place(str(macro.name), "macro", "macro", {"macro": macro.id})
    for surface in known.desk.surfaces:
        yield Place(surface.name, "surface", "surface", {"surface": surface.id})
        for layer in surface.layers:
            yield Place(f"{layer.name} of {surface.name}", "layer", "surface",
                        {"surface": surface.id, "layer": layer.id})
        for control in surface.controls:
            does = f": {control.label}" if control.label else ""
            yield Place(f"{surface.name} {control.legend or control.id}{does}", "control", "surface",
                        {"surface": surface.id, "control": control.id})
        for setting in _labels(Surface):
            yield Place(f"{setting} of {surface.name}", "setting", "", {"surface": surface.id})
    for setting in _labels(Desk):
        yield Place(f"{setting} of the desk", "setting", "", {})


def _labels(model: type) -> list[str]:
    return [row.label for row in settings_of(model).values() if row.label]


def lines_with(words: str, texts: Mapping[str, str]) -> Iterator[tuple[str, int, str]]:
    """Lines of macros that have these words in them: the macro's id, the line's number from 1, the line."""
    wanted = words.casefold().strip()
    if len(wanted) >= LETTERS:
        for macro, text in texts.items():
            for number, line in enumerate(text.splitlines(), 1):
                if wanted in line.casefold():
                    yield macro, number, line.strip()


class Places(Provider):
    """What the command palette finds beside commands."""

    _texts: Mapping[str, str] = MappingProxyType({})

    async def startup(self) -> None:
        """Ask for the macros' texts, once for each opening; without an engine none are looked through."""
        app: App[Any] = self.app
        try:
            reply = await app.link.send(AskMacros())  # type: ignore[attr-defined]
        except EngineError:
            return
        assert isinstance(reply, Macros)
        self._texts = reply.texts

    async def search(self, query: str) -> Hits:
        """Places that the words fit, the best first."""
        app: App[Any] = self.app
        matcher = self.matcher(query)
        known: Known = app.known  # type: ignore[attr-defined]
        found = sorted(((rank, place) for place in places(known) if (rank := matcher.match(place.words)) > 0),
                       key=lambda pair: -pair[0])
        for rank, place in found[:MOST]:
            yield Hit(rank, matcher.highlight(place.words), partial(self._go, place), help=place.what)
        names = {macro.id: str(macro.name) for macro in known.desk.macros}
        for macro, number, line in islice(lines_with(query, self._texts), MOST_LINES):
            place = Place(line, "", "macro", {"macro": macro, "line": number})
            yield Hit(OF_A_LINE, Text(line, no_wrap=True, overflow="ellipsis"), partial(self._go, place), text=line,
                      help=f"line {number} of the macro {names.get(macro, macro)}")

    def _go(self, place: Place) -> None:
        app: Any = self.app
        if place.view:
            app.open_view(place.view, **place.options)
        elif "surface" in place.options:
            app.push_screen(SurfacePanel(place.options["surface"], app.known, app.view.ask))
        else:
            app.push_screen(DeskPanel(app.known, app.view.ask))
