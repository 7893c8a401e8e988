"""A desk put on the bench: every surface has a device of its own there, and the stage receives what is sent.  Pure."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from brass_pebble.core.devices.identity import DeviceFacts, DeviceRule

from .model import Desk, StagePlace, Surface

# The stage's programs stand to the right of the surfaces, one below the other, in key units.
BESIDE, SIZE, BELOW = 0.6, (6.4, 0.9), 1.3


def device_of(surface: Surface) -> DeviceFacts:
    """The simulated device of a surface, made from its drawing; no other surface can have it."""
    told = dict(surface.rule.fields)
    codes = {signal for control in surface.layout.controls for signal in (control.code, *control.moves)}
    return DeviceFacts(
        id=f"bench/{surface.id}", name=told.get("name", "") or surface.name, bus="bench", port=f"bench, {surface.id}",
        vendor=told.get("vendor", ""), product=told.get("product", ""), codes=tuple(sorted(codes)), kind="bench",
        lamps=tuple(lamp for lamp, _ in surface.lamps))


def on_bench(desk: Desk, programs: Iterable[str]) -> Desk:
    """The same desk with devices of the bench, sending to these programs of the stage."""
    surfaces = {name: replace(surface, rule=DeviceRule((("port", device_of(surface).port),)), also=())
                for name, surface in desk.surfaces.items()}
    known = {place.program: place for place in desk.stage}
    right = max((surface.at[0] + (surface.layout.width or 4.0) for surface in surfaces.values()), default=0.0)
    top = min((surface.at[1] for surface in surfaces.values()), default=0.0)
    free = [name for name in programs if name not in known]
    places = tuple(known[name] for name in programs if name in known) + tuple(
        StagePlace(name, (right + BESIDE, top + BELOW * row), SIZE) for row, name in enumerate(free))
    return replace(desk, surfaces=surfaces, output="stage", stage=places)
