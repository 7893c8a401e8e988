"""Fonts of the system, asked of fontconfig: one that has a character which the shipped font lacks."""

from __future__ import annotations

import subprocess
from functools import cache
from pathlib import Path
from typing import Any

from brass_pebble.core.say.data_table import read_table

# fontconfig answers in some ms; a broken one is not waited for longer than this, in s.
AT_MOST = 5.0
# So many of the fonts that it proposes are looked at.
LOOKED_AT = 12


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


@cache
def font_for(char: str, *, bold: bool) -> OutlineFont | None:
    """The font of the system that fits best and has this character as an outline; None if there is none."""
    wanted = f"sans-serif:charset={ord(char):x}:outline=true:color=false:weight={200 if bold else 80}"
    try:
        done = subprocess.run(["fc-match", "--sort", "--format", "%{file}\t%{index}\n", wanted], check=False,
                              capture_output=True, text=True, timeout=AT_MOST)
    except (OSError, subprocess.TimeoutExpired):
        return None
    for line in done.stdout.splitlines()[:LOOKED_AT]:
        file, _, index = line.partition("\t")
        # The upper half of the number tells an instance of a font that varies.
        font = opened(Path(file), int(index or 0) & 0xFFFF)
        if font is not None and font.draws(char):
            return font
    return None


@cache
def _packages() -> dict[str, str]:
    return dict(read_table("script-fonts.tsv"))


def package_for(char: str) -> str:
    """Debian's package of a font that has a character, by the first word of its name in Unicode."""
    import unicodedata
    script = unicodedata.name(char, "?").split()[0].split("-")[0]
    return _packages().get(script, _packages()["*"])
