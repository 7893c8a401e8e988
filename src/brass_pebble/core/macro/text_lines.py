"""Which lines of a macro's text are text to be typed, and no steps: those below `type lines` and `paste lines`."""

from __future__ import annotations

import re
from collections.abc import Sequence

_OPENS = re.compile(r"( *)(?:type|paste) +lines\b")


def content_lines(lines: Sequence[str]) -> dict[int, int]:
    """The lines that are text, by their index, and the index of the step that they belong to."""
    found: dict[int, int] = {}
    index = 0
    while index < len(lines):
        opens = _OPENS.match(lines[index])
        at, index = index, index + 1
        if opens is None:
            continue
        last = at
        while index < len(lines) and (not lines[index].strip() or indent_of(lines[index]) > len(opens[1])):
            last = index if lines[index].strip() else last
            index += 1
        found.update(dict.fromkeys(range(at + 1, last + 1), at))
        index = last + 1
    return found


def indent_of(line: str) -> int:
    """How far in a line begins."""
    return len(line) - len(line.lstrip(" "))


def dedented(lines: Sequence[str]) -> list[str]:
    """Lines of a block as they are typed: without what all of them are indented by."""
    common = min((indent_of(line) for line in lines if line.strip()), default=0)
    return [line[common:] if line.strip() else "" for line in lines]


def is_content(text: str, position: int) -> bool:
    """Whether a place in a macro's text lies in such a line."""
    return text.count("\n", 0, position) in content_lines(text.split("\n"))
