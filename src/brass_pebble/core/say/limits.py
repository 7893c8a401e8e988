"""How deep, long and large what a person or another program wrote may be: enough for anybody, too little for harm."""

from __future__ import annotations

import math
import re
import tomllib
from collections.abc import Mapping
from typing import Any

from .toml_fields import Places

# A TOML text: characters of a line, tables within tables, values in all, characters of a text, and how large a number.
LONGEST_LINE = 200_000
DEEPEST = 16
MOST_VALUES = 1_000_000
LONGEST_TEXT = 100_000
LARGEST_NUMBER = 2**53


def load_tables(text: str) -> dict[str, Any]:
    """The tables of a TOML text.

    Raises:
        tomllib.TOMLDecodeError: it is no TOML, or goes beyond what is sensible; the message ends with line and column.
    """
    if len(text) > LONGEST_LINE:
        for number, line in enumerate(text.splitlines(), 1):
            if len(line) > LONGEST_LINE:
                raise tomllib.TOMLDecodeError(f"a line has more than {LONGEST_LINE:,} characters "
                                              f"(at line {number}, column 1)")
    try:
        tables = tomllib.loads(text)
    except tomllib.TOMLDecodeError:
        raise
    except RecursionError:
        raise tomllib.TOMLDecodeError(f"it is nested more than {DEEPEST} deep {_deepest(text)}") from None
    except ValueError as error:
        # Python refuses to read numbers of thousands of digits.
        raise tomllib.TOMLDecodeError(f"it has a number that is far too large {_longest_number(text)}") from error
    _check(tables, text)
    return tables


def _check(tables: dict[str, Any], text: str) -> None:
    waiting: list[tuple[Any, tuple[str | int, ...]]] = [(tables, ())]
    count = 0

    def wrong(what: str, path: tuple[str | int, ...]) -> tomllib.TOMLDecodeError:
        line, column = Places(text).find(path)
        return tomllib.TOMLDecodeError(f"{what} (at line {max(1, line)}, column {max(1, column)})")
    while waiting:
        value, path = waiting.pop()
        if isinstance(value, dict):
            rows: Any = value.items()
        elif isinstance(value, list):
            rows = enumerate(value)
        elif isinstance(value, str):
            if len(value) > LONGEST_TEXT:
                raise wrong(f"a text has more than {LONGEST_TEXT:,} characters", path)
            continue
        elif isinstance(value, int | float):
            if isinstance(value, float) and not math.isfinite(value):
                raise wrong("a number is infinite, or none at all", path)
            if abs(value) > LARGEST_NUMBER:
                raise wrong("a number is far too large", path)
            continue
        else:
            continue
        count += len(value)
        if count > MOST_VALUES:
            raise wrong(f"it has more than {MOST_VALUES:,} values", path)
        if len(path) >= DEEPEST:
            raise wrong(f"it is nested more than {DEEPEST} deep", path)
        for key, below in rows:
            # Short texts, truths and small numbers are nearly all there is.
            if isinstance(below, dict | list | float) or (isinstance(below, str) and len(below) > LONGEST_TEXT) or (
                    isinstance(below, int) and abs(below) > LARGEST_NUMBER):
                waiting.append((below, (*path, key)))


def _deepest(text: str) -> str:
    """Where a text is nested deepest."""
    for number, line in enumerate(text.splitlines(), 1):
        for bracket in "[{":
            if line.count(bracket) > DEEPEST:
                return f"(at line {number}, column {line.index(bracket) + 1})"
    return "(at line 1, column 1)"


def _longest_number(text: str) -> str:
    lines = text.splitlines() or [""]
    number = max(range(len(lines)), key=lambda index: sum(map(str.isdigit, lines[index])))
    return f"(at line {number + 1}, column 1)"

# Of a label, in characters; a value that macros keep ({take}) stands in it as itself and does not count.
LONGEST_LABEL = 12
# The short form of one, for large letters.
LONGEST_FAR = 6
_VALUE_IN_LABEL = re.compile(r"\{([a-z][a-z0-9_]*)\}")


def label_length(label: str) -> int:
    """How long a label is."""
    return len(_VALUE_IN_LABEL.sub("", label))


def fill_label(label: str, values: Mapping[str, str]) -> str:
    """A label with the values that macros keep."""
    return _VALUE_IN_LABEL.sub(lambda found: values.get(found[1], "–"), label) if "{" in label else label
