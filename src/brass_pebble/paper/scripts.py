"""Texts in any script as outlines: each part in a font that has it, shaped as it is written, right to left where it is.

The shipped font has Latin, Greek and Cyrillic; what it lacks comes from the system's fonts.  Shaping is HarfBuzz's,
the order of mixed directions that of Unicode's annex 9 (python-bidi).
"""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator
from functools import cache, lru_cache
from typing import Any, NamedTuple

from .font_files import FILES
from .system_fonts import OutlineFont, font_for, opened

Leg = tuple[str, tuple[float, ...]]
# What stands for a character that no font has: a box, so wide and so high, in shares of the size.
FRAME_WIDTH, FRAME_HEIGHT, FRAME_LINE, FRAME_GAP = 0.6, 0.73, 0.06, 0.07
# Joins the characters before and after it into one.
JOINERS = ("\u200d", "\u200c")


class Written(NamedTuple):
    """A line of text, its baseline beginning at 0, 0 and y upwards, in shares of the size; what no font has."""

    legs: tuple[Leg, ...]
    width: float
    missing: str


class Run(NamedTuple):
    """A part in one font and one direction: its embedding level, odd from right to left."""

    text: str
    level: int
    font: OutlineFont | None


@lru_cache(maxsize=2048)
def write_line(text: str, *, bold: bool) -> Written:
    """The outlines of a line."""
    legs: list[Leg] = []
    x, missing = 0.0, ""
    for run in _in_order(list(_runs(text, bold))):
        if run.font is None:
            missing += run.text
            # What is combined with a letter is no box of its own.
            for _ in (char for char in run.text if not _follows(char)):
                legs += _frame(x)
                x += FRAME_WIDTH
            continue
        drawn, x = _shape(run, run.font, x)
        legs += drawn
    return Written(tuple(legs), x, "".join(dict.fromkeys(missing)))


def _levels(text: str) -> list[tuple[str, int]]:
    """Each character with its embedding level."""
    from bidi import algorithm
    storage = algorithm.get_empty_storage()
    storage["base_level"] = algorithm.get_base_level(text)
    storage["base_dir"] = ("L", "R")[storage["base_level"]]
    algorithm.get_embedding_levels(text, storage)
    algorithm.explicit_embed_and_overrides(storage)
    algorithm.resolve_weak_types(storage)
    algorithm.resolve_neutral_types(storage, False)
    algorithm.resolve_implicit_levels(storage, False)
    return [(char["ch"], char["level"]) for char in storage["chars"]]


def _runs(text: str, bold: bool) -> Iterator[Run]:
    """The parts of a text in its own order."""
    run: Run | None = None
    for char, level in _levels(text):
        follows = _follows(char)
        joined = run is not None and (follows or run.text.endswith(JOINERS)) and run.font is not None and (
            run.font.has(char) or unicodedata.category(char) == "Cf")
        font = run.font if run is not None and joined else _font_of(char, bold, run.font if run is not None else None)
        if run is not None and font is run.font and level == run.level:
            run = run._replace(text=run.text + char)
            continue
        if run is not None:
            yield run
        run = Run(char, level, font)
    if run is not None:
        yield run


def _follows(char: str) -> bool:
    """Whether a character belongs to the one before it: marks, and what joins or directs letters."""
    return unicodedata.category(char) in ("Mn", "Mc", "Me", "Cf")


def _font_of(char: str, bold: bool, before: OutlineFont | None) -> OutlineFont | None:
    """The shipped font if it has it, else that of what stands before, else one of the system."""
    shipped = _shipped(bold)
    if shipped.has(char):
        return before if before is not None and char.isspace() and before.has(char) else shipped
    if before is not None and before.draws(char):
        return before
    return font_for(char, bold=bold)


@cache
def _shipped(bold: bool) -> OutlineFont:
    font = opened(FILES[bold])
    assert font is not None
    return font


def _in_order(runs: list[Run]) -> list[Run]:
    """As they stand on paper from left to right: Unicode's annex 9, rule L2, over whole runs."""
    for level in range(max((run.level for run in runs), default=0), 0, -1):
        start = 0
        while start < len(runs):
            end = start
            while end < len(runs) and runs[end].level >= level:
                end += 1
            runs[start:end] = runs[start:end][::-1]
            start = end + 1
    return runs


def _shape(run: Run, font: OutlineFont, x: float) -> tuple[list[Leg], float]:
    """The outlines of a run that begins at x, and where it ends."""
    import uharfbuzz
    buffer = uharfbuzz.Buffer()
    buffer.add_str(run.text)
    buffer.direction = "rtl" if run.level % 2 else "ltr"
    buffer.guess_segment_properties()
    uharfbuzz.shape(font.font, buffer)
    legs: list[Leg] = []
    for glyph, at in zip(buffer.glyph_infos, buffer.glyph_positions, strict=True):
        pen = _pen(x + at.x_offset / font.unit, at.y_offset / font.unit, 1 / font.unit)
        font.font.draw_glyph_with_pen(glyph.codepoint, pen)
        legs += pen.legs
        x += at.x_advance / font.unit
    return legs, x


def _pen(x: float, y: float, scale: float) -> Any:
    """A pen that collects legs, moved and scaled; curves are cubic."""
    from fontTools.pens.basePen import BasePen

    class LegsPen(BasePen):  # type: ignore[misc]
        """Each leg with its absolute points."""

        def __init__(self) -> None:
            super().__init__(None)
            self.legs: list[Leg] = []

        def _add(self, letter: str, *points: tuple[float, float]) -> None:
            self.legs.append((letter, tuple(part for px, py in points for part in (x + px * scale, y + py * scale))))

        def _moveTo(self, pt: tuple[float, float]) -> None:
            self._add("M", pt)

        def _lineTo(self, pt: tuple[float, float]) -> None:
            self._add("L", pt)

        def _curveToOne(self, pt1: tuple[float, float], pt2: tuple[float, float], pt3: tuple[float, float]) -> None:
            self._add("C", pt1, pt2, pt3)

        def _closePath(self) -> None:
            self.legs.append(("Z", ()))
    return LegsPen()


def _frame(begins: float) -> list[Leg]:
    """An empty box: its outer edge one way round, its inner edge the other."""
    left, right, line = begins + FRAME_GAP, begins + FRAME_WIDTH - FRAME_GAP, FRAME_LINE
    outer = [(left, 0.0), (right, 0.0), (right, FRAME_HEIGHT), (left, FRAME_HEIGHT)]
    inner = [(left + line, line), (left + line, FRAME_HEIGHT - line), (right - line, FRAME_HEIGHT - line),
             (right - line, line)]
    return [leg for edge in (outer, inner)
            for leg in (("M", edge[0]), *(("L", point) for point in edge[1:]), ("Z", ()))]
