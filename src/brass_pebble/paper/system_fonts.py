"""Fonts of the system, asked of fontconfig: one that has a character which the shipped font lacks."""

from __future__ import annotations

import subprocess
import unicodedata
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple

from brass_pebble.core.say.data_table import read_table

# fontconfig tells all of its fonts in some ms; a broken one is not waited for longer than this, once, in s.
AT_MOST = 2.0
# Regular and bold, as fontconfig counts.
WEIGHTS = {False: 80, True: 200}


class OutlineFont:
    """A font of outlines, opened for shaping; `unit`: how many of its units are as long as it is large."""

    def __init__(self, file: Path, index: int = 0) -> None:
        # Imported here, since only printing needs it.
        import uharfbuzz
        face = uharfbuzz.Face(uharfbuzz.Blob.from_file_path(str(file)), index)
        self.file, self.unit = file, float(face.upem)
        self.font: Any = uharfbuzz.Font(face)

    def has(self, char: str) -> bool:
        """Whether it has a character."""
        return bool(self.font.get_nominal_glyph(ord(char)))

    def draws(self, char: str) -> bool:
        """Whether it has a character as an outline; fonts of coloured pictures have none."""
        glyph = self.font.get_nominal_glyph(ord(char))
        if not glyph:
            return False
        size = self.font.get_glyph_extents(glyph)
        return char.isspace() or bool(size is not None and size.width and size.height)


@cache
def opened(file: Path, index: int = 0) -> OutlineFont | None:
    """A font file; None if it is none that can be drawn from."""
    try:
        return OutlineFont(file, index)
    except Exception:
        # Whatever is wrong with a file of the system: another font is taken.
        return None


class Offer(NamedTuple):
    """A font that fontconfig proposes: its file, which one in it, and the characters that it says it has."""

    file: Path
    number: int
    has: tuple[range, ...]


@cache
def _offers(bold: bool) -> tuple[Offer, ...]:
    """All fonts of the system, the one that fits best first; asked for once, since a drawing is not to wait."""
    try:
        done = subprocess.run(["fc-match", "--all", "--format", "%{file}\t%{index}\t%{charset}\n",
                               f"sans-serif:outline=true:color=false:weight={WEIGHTS[bold]}"], check=False,
                              capture_output=True, text=True, timeout=AT_MOST, errors="replace")
    except (OSError, subprocess.TimeoutExpired):
        return ()
    return tuple(offer for line in done.stdout.splitlines() for offer in _read_offer(line))


def _read_offer(line: str) -> Iterator[Offer]:
    """One line of fontconfig's; nothing if it is none."""
    file, _, rest = line.partition("\t")
    index, _, said = rest.partition("\t")
    try:
        # Spans of numbers in hex, both ends belong to them.
        ends = [part.partition("-") for part in said.split()]
        has = tuple(range(int(low, 16), int(high or low, 16) + 1) for low, _, high in ends)
        # The upper half of the number tells an instance of a font that varies.
        yield Offer(Path(file), int(index) & 0xFFFF, has)
    except ValueError:
        return


@cache
def font_for(char: str, *, bold: bool) -> OutlineFont | None:
    """The font of the system that fits best and has this character as an outline; None if there is none."""
    for offer in _offers(bold):
        if any(ord(char) in part for part in offer.has):
            font = opened(offer.file, offer.number)
            if font is not None and font.draws(char):
                return font
    return None


@cache
def _packages() -> dict[str, str]:
    return dict(read_table("script-fonts.tsv"))


def package_for(char: str) -> str:
    """Debian's package of a font that has a character, by the first word of its name in Unicode."""
    script = unicodedata.name(char, "?").split()[0].split("-")[0]
    return _packages().get(script, _packages()["*"])
