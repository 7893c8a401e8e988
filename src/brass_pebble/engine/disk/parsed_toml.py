"""The tables of a TOML text, taken apart once for each text."""

from __future__ import annotations

from typing import Any

from brass_pebble.core.say.limits import load_tables
from brass_pebble.core.say.memo import Memo

_tables: Memo[str, dict[str, Any]] = Memo(most=4)


def parse_tables(text: str) -> dict[str, Any]:
    """A desk's tables; never changed by those who get them.

    Raises:
        tomllib.TOMLDecodeError: it is no TOML, or beyond every limit.
    """
    found = _tables.find(text, None)
    return found if found is not None else _tables.keep(text, None, load_tables(text))


def know_tables(text: str, tables: dict[str, Any]) -> None:
    """The tables of a text are known already."""
    _tables.keep(text, None, tables)
