"""An edit of a few surfaces in a large desk.toml: only their part of the text is taken apart and put together again."""

from __future__ import annotations

import re
import tomllib
from typing import Any

from .parsed_toml import know_tables, parse_tables

_HEADER = re.compile(r'^\[\[?\s*surface\s*\.\s*(?:"([^"\\]+)"|([A-Za-z0-9_-]+))\s*[.\]]', re.MULTILINE)
_ANY_HEADER = re.compile(r"^\s*\[", re.MULTILINE)
# Smaller texts are quick to take apart as a whole.
LEAST = 8_000


def find_fragment(text: str, surface: str) -> tuple[int, int] | None:
    """Where all tables of a surface lie in the text; None if they do not lie together, or there are none."""
    start = end = -1
    inside = False
    for match in _ANY_HEADER.finditer(text):
        at = match.start() + len(match.group()) - 1
        header = _HEADER.match(text, at)
        mine = header is not None and (header[1] or header[2]) == surface
        if mine and start < 0:
            start = at
        elif mine and not inside:
            return None
        elif not mine and inside:
            end = _above(text, at)
        inside = mine
    if start < 0:
        return None
    return start, len(text) if inside or end < 0 else end


def _above(text: str, at: int) -> int:
    """Where the remarks and blank lines begin that stand right above a header: they belong to it."""
    while at > 0:
        before = text.rfind("\n", 0, at - 1) + 1
        line = text[before:at].strip()
        if line and not line.startswith("#"):
            break
        at = before
    return at


def edited_fragment(text: str, surface: str, change: Any) -> str | None:
    """The text with `change` made on the document of one surface's part alone; None where that cannot be done.

    The part has to say of the surface just what the whole says, before and after: one cut out at the wrong place, in
    a text of several lines that looks like a header, would not.
    """
    if len(text) < LEAST:
        return None
    found = find_fragment(text, surface)
    if found is None:
        return None
    import tomlkit
    from tomlkit.exceptions import TOMLKitError
    start, end = found
    try:
        whole = parse_tables(text)
        if tomllib.loads(text[start:end]) != {"surface": {surface: whole["surface"][surface]}}:
            return None
        document = tomlkit.parse(text[start:end])
        change(document)
        part = tomlkit.dumps(document)
        tables = tomllib.loads(part)["surface"]
        if tables.keys() != {surface}:
            return None
    except (TOMLKitError, tomllib.TOMLDecodeError, KeyError, TypeError, ValueError):
        return None
    if end < len(text) and not part.endswith("\n"):
        # What follows begins on a line of its own.
        part += "\n"
    after = text[:start] + part + text[end:]
    # What the new text says is known without taking all of it apart.
    know_tables(after, {**whole, "surface": {**whole["surface"], surface: tables[surface]}})
    return after
