"""Everything of a desk that has a name, found by typing a part of it: surfaces, controls, layers, macros, settings."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any, NamedTuple

from textual.app import App
from textual.command import Hit, Hits, Provider

from brass_pebble.core.desk.model import Desk, Surface
from brass_pebble.core.say.setting import settings_of
from brass_pebble.screen.known import Known
from brass_pebble.screen.settings.desk import DeskPanel
from brass_pebble.screen.settings.surface import SurfacePanel

# More than these are no help.
MOST = 30


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


class Places(Provider):
    """What the command palette finds beside commands."""

    async def search(self, query: str) -> Hits:
        """Places that the words fit, the best first."""
        app: App[Any] = self.app
        matcher = self.matcher(query)
        known: Known = app.known  # type: ignore[attr-defined]
        found = sorted(((rank, place) for place in places(known) if (rank := matcher.match(place.words)) > 0),
                       key=lambda pair: -pair[0])
        for rank, place in found[:MOST]:
            yield Hit(rank, matcher.highlight(place.words), partial(self._go, place), help=place.what)

    def _go(self, place: Place) -> None:
        app: Any = self.app
        if place.view:
            app.open_view(place.view, **place.options)
        elif "surface" in place.options:
            app.push_screen(SurfacePanel(place.options["surface"], app.known, app.view.ask))
        else:
            app.push_screen(DeskPanel(app.known, app.view.ask))
