"""Words of macros that have been renamed: the old ones are still read, and the formatter writes the new ones."""

from __future__ import annotations

from brass_pebble.core.say.problem import Problem

from .text_lines import content_lines

# The first word of a line, and how the line is written now.
RENAMED = {"set": "let … be …", "say": "speak", "beep": "ring"}


def old_words(text: str, file: str = "") -> list[Problem]:
    """A hint for each line of a macro that reads well and begins with an old word."""
    lines = text.splitlines()
    content = content_lines(lines)
    return [Problem(f"“{word}” is now “{RENAMED[word]}”", file, number, len(raw) - len(raw.lstrip()) + 1,
                    "The old word still works")
            for number, raw in enumerate(lines, 1)
            if number - 1 not in content and (word := (raw.split(maxsplit=1) or [""])[0]) in RENAMED]
