"""An edit in a large desk.toml: only the tables that change are taken apart and put together again."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterable
from typing import Any

from .parsed_toml import know_tables, parse_tables

Path = tuple[str, ...]
Change = Callable[[Any], None]

_KEY = r'(?:"[^"\\\n]+"|[A-Za-z0-9_-]+)'
_HEADER = re.compile(rf"^[ \t]*\[[ \t]*({_KEY}(?:[ \t]*\.[ \t]*{_KEY})*)[ \t]*\]", re.MULTILINE)
_ANY_HEADER = re.compile(r"^[ \t]*\[", re.MULTILINE)
_PART = re.compile(_KEY)


def find_table(text: str, path: Path) -> tuple[int, int] | None:
    """Where a table and all below it lie in the text, from its header on; None if there is no one such place."""
    start = end = -1
    inside = False
    for match in _ANY_HEADER.finditer(text):
        header = _HEADER.match(text, match.start())
        names = tuple(part.strip('"') for part in _PART.findall(header[1])) if header is not None else ()
        mine = names[:len(path)] == path
        if mine and start < 0:
            start = match.start()
        elif mine and not inside:
            return None
        elif not mine and inside:
            end = _above(text, match.start())
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


def edited_parts(text: str, changes: Iterable[tuple[Path, Change]]) -> str | None:
    """The text with changes made, each in the table at its path, or in the smallest one around it that stands in one
    place; None where that cannot be done."""
    for path, change in changes:
        # From the table itself up to its surface; the desk's own settings have no header.
        parts = (edited_part(text, path[:depth], change) for depth in range(len(path), 1, -1))
        after = next((part for part in parts if part is not None), None)
        if after is None:
            return None
        text = after
    return text


def edited_part(text: str, path: Path, change: Change) -> str | None:
    """The text with `change` made on the document of one table alone; None where that cannot be done.

    The part has to say of the table just what the whole says, before and after: one cut out at the wrong place, in a
    text of several lines that looks like a header, would not.
    """
    found = find_table(text, path)
    if found is None:
        return None
    import tomlkit
    from tomlkit.exceptions import TOMLKitError
    start, end = found
    try:
        whole = parse_tables(text)
        if tomllib.loads(text[start:end]) != _nested(path, _at(whole, path)):
            return None
        document = tomlkit.parse(text[start:end])
        change(document)
        part = tomlkit.dumps(document)
        tables = tomllib.loads(part)
        now = _at(tables, path)
        if tables != _nested(path, now):
            return None
    except (TOMLKitError, tomllib.TOMLDecodeError, KeyError, TypeError, ValueError):
        return None
    if end < len(text) and not part.endswith("\n"):
        # What follows begins on a line of its own.
        part += "\n"
    after = text[:start] + part + text[end:]
    # What the new text says is known without taking all of it apart.
    know_tables(after, _with(whole, path, now))
    return after


def _at(tables: Any, path: Path) -> Any:
    for name in path:
        tables = tables[name]
    return tables


def _nested(path: Path, value: Any) -> Any:
    for name in reversed(path):
        value = {name: value}
    return value


def _with(tables: dict[str, Any], path: Path, value: Any) -> dict[str, Any]:
    """Tables with another one at a path; everything beside the way there stays the very same."""
    first, *rest = path
    return {**tables, first: _with(tables[first], tuple(rest), value) if rest else value}
