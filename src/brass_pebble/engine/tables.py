"""The tables of a TOML text, taken apart once for each text."""

from __future__ import annotations

import tomllib
from typing import Any

KEPT = 4
_known: dict[str, dict[str, Any]] = {}


def parse_tables(text: str) -> dict[str, Any]:
    """A desk's tables; never changed by those who get them.

    Raises:
        tomllib.TOMLDecodeError: it is no TOML.
    """
    found = _known.get(text)
    if found is None:
        found = tomllib.loads(text)
        know_tables(text, found)
    return found


def know_tables(text: str, tables: dict[str, Any]) -> None:
    """The tables of a text are known already."""
    _known[text] = tables
    while len(_known) > KEPT:
        # Two threads may find the same one to be too many.
        _known.pop(next(iter(_known)), None)
