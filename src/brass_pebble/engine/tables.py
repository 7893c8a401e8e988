"""The tables of a TOML text, taken apart once for each text."""

from __future__ import annotations

import tomllib
from functools import lru_cache
from typing import Any


@lru_cache(maxsize=4)
def parse_tables(text: str) -> dict[str, Any]:
    """A desk's tables; never changed by those who get them.

    Raises:
        tomllib.TOMLDecodeError: it is no TOML.
    """
    return tomllib.loads(text)
