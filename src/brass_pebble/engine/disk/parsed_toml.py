"""The tables of a TOML text, taken apart once for each text."""

from __future__ import annotations

from typing import Any

from brass_pebble.core.say.limits import load_tables

KEPT = 4
_known: dict[str, dict[str, Any]] = {}


def parse_tables(text: str) -> dict[str, Any]:
    """A desk's tables; never changed by those who get them.

    Raises:
        tomllib.TOMLDecodeError: it is no TOML, or beyond every limit.
    """
    found = _known.get(text)
    if found is None:
        found = load_tables(text)
        know_tables(text, found)
    return found


def know_tables(text: str, tables: dict[str, Any]) -> None:
    """The tables of a text are known already."""
    _known[text] = tables
    while len(_known) > KEPT:
        # Two threads may find the same one to be too many.
        _known.pop(next(iter(_known)), None)
