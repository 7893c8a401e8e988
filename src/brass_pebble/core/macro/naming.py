"""Names in the text of a macro: its own, and those of the macros that it plays.  Pure."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from contextlib import suppress

from brass_pebble.core.say.problem import ProblemError

from .text_lines import content_lines, is_content
from .value.reckon import unquote

_NAME = re.compile(r'^\s*name\s*=?\s*"((?:[^"\\]|\\.)*)"', re.MULTILINE)
_KEPT = re.compile(r"^\s*kept\s+([a-z][a-z0-9_]*)\s", re.MULTILINE)
_PLAY = re.compile(r'^(\s*play\s+)("(?:[^"\\]|\\.)*"|[\w-]+)', re.MULTILINE)


def _name_in(text: str) -> re.Match[str] | None:
    return next((found for found in _NAME.finditer(text) if not is_content(text, found.start())), None)


def played_names(text: str) -> list[str]:
    """What a text plays, as it calls it, in the order of the text."""
    found = []
    for match in _matches(_PLAY, text):
        # A text that is not understood plays nothing.
        with suppress(ProblemError):
            found.append(unquote(match[2]))
    return found


def kept_names(text: str) -> list[str]:
    """The values that a text keeps."""
    return [match[1] for match in _matches(_KEPT, text)]


def _matches(pattern: re.Pattern[str], text: str) -> Iterator[re.Match[str]]:
    lines = text.splitlines()
    content = content_lines(lines)
    return (match for index, line in enumerate(lines) if index not in content and (match := pattern.match(line)))


def written_name(text: str) -> str:
    """The name that a macro's text gives it, or an empty text."""
    match = _name_in(text)
    return match[1] if match else ""


def with_name(text: str, name: str) -> str:
    """A macro's text under another name: in its line `name`, or in one before everything else."""
    quoted = name.replace("\\", "\\\\").replace('"', '\\"')
    match = _name_in(text)
    return f"{text[:match.start(1)]}{quoted}{text[match.end(1):]}" if match else f'name "{quoted}"\n{text}'


def rename_plays(text: str, renamed: dict[str, str], macros: Mapping[str, str], *, own_name: bool = False) -> str:
    """A macro's text whose plays name others as they are called now; with `own_name`, it is told from its namesake."""
    called = {name: new for old, new in renamed.items() if (name := written_name(macros.get(old, "")))}

    def play(match: re.Match[str]) -> str:
        if is_content(text, match.start()):
            return match[0]
        name = match[2].strip('"')
        new = renamed.get(name) or called.get(name)
        return f"{match[1]}{new}" if new else match[0]
    text = _PLAY.sub(play, text)
    if own_name:
        text = re.sub(r'^(\s*name\s+")((?:[^"\\]|\\.)*)(")', r"\1\2 (2)\3", text, count=1, flags=re.MULTILINE)
    return text
