"""What a list of macros tells of each at a glance: what repeats, waits, asks, keeps, reaches outside.  Pure."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

from brass_pebble.core.macro.text_lines import content_lines


@dataclass(frozen=True)
class Mark:
    """A glyph and its word, and the lines that it is for."""

    glyph: str
    word: str
    lines: re.Pattern[str]


MARKS = (
    Mark("↻", "repeats", re.compile(r"(repeat|clock)\b")),
    Mark("◔", "waits", re.compile(r"wait +until\b|close +program\b")),
    Mark("?", "asks", re.compile(r"ask\b")),
    Mark("◆", "keeps", re.compile(r"kept\b")),
    Mark("↗", "reaches outside", re.compile(
        r"(run|start|open|close|place|focus|raise|minimise|request|connect|send|paste|speak|read|level|controller)\b"
        r"|type +(secret|file)\b")),
)


@lru_cache(maxsize=8_192)
def marks_of(source: str) -> tuple[str, ...]:
    """The glyphs of a macro's text."""
    lines = source.splitlines()
    content = content_lines(lines)
    steps = [line.strip() for index, line in enumerate(lines) if index not in content]
    return tuple(mark.glyph for mark in MARKS if any(mark.lines.match(step) for step in steps))
