"""Fields in a tint: its colour, and over it the pattern that a black-and-white printer keeps."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache

from brass_pebble.core.say.data_table import read_table

from .shapes import Box, Circle, Line, Shape

INK = "#3a3f45"


@dataclass(frozen=True)
class Pattern:
    """A row of `data/tint-patterns.tsv`."""

    colour: str
    kind: str
    angle: float
    step: float
    line: float


@cache
def patterns() -> dict[str, Pattern]:
    """The table, by tint."""
    return {tint: Pattern(colour, kind, float(angle), float(step), float(line))
            for tint, colour, kind, angle, step, line in read_table("tint-patterns.tsv")}


def tint_colour(tint: str) -> str:
    """A tint's colour on paper; that of chalk for none."""
    return patterns().get(tint, patterns()["chalk"]).colour


def tinted(tint: str, x: float, y: float, width: float, height: float) -> list[Shape]:
    """A field in a tint."""
    found = patterns().get(tint)
    if found is None:
        return []
    shapes: list[Shape] = [Box(x, y, width, height, fill=found.colour, role="tint")]
    if found.kind == "dots":
        across, down = max(1, int(width / found.step)), max(1, int(height / found.step))
        shapes += [Circle(x + width * (column + 0.5) / across, y + height * (row + 0.5) / down, found.line, fill=INK)
                   for row in range(down) for column in range(across)]
    elif found.kind in ("lines", "cross"):
        angles = (found.angle,) if found.kind == "lines" else (found.angle, found.angle + 90)
        for angle in angles:
            shapes += [Line(*ends, INK, found.line) for ends in _hatch((x, y, width, height), angle, found.step)]
    return shapes


def _hatch(field: tuple[float, float, float, float], angle: float, step: float,
           ) -> Iterator[tuple[float, float, float, float]]:
    """Parallel lines, cut off at the edges of a field."""
    x, y, width, height = field
    along = (math.cos(math.radians(angle)), -math.sin(math.radians(angle)))
    across = (-along[1], along[0])
    corners = [(x, y), (x + width, y), (x, y + height), (x + width, y + height)]
    places = [cx * across[0] + cy * across[1] for cx, cy in corners]
    place = min(places) + step / 2
    while place < max(places):
        line = _clip((across[0] * place, across[1] * place), along, field)
        if line is not None:
            yield line
        place += step


def _clip(through: tuple[float, float], along: tuple[float, float], field: tuple[float, float, float, float],
          ) -> tuple[float, float, float, float] | None:
    """The part of an endless line that lies in a field."""
    x, y, width, height = field
    low, high = -1e9, 1e9
    for start, direction, least, most in ((through[0], along[0], x, x + width), (through[1], along[1], y, y + height)):
        if abs(direction) < 1e-9:
            if not least <= start <= most:
                return None
            continue
        one, other = (least - start) / direction, (most - start) / direction
        low, high = max(low, min(one, other)), min(high, max(one, other))
    if high - low < 1e-6:
        return None
    return (through[0] + low * along[0], through[1] + low * along[1],
            through[0] + high * along[0], through[1] + high * along[1])
