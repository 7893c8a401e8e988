"""Kept values as they lie in the desk's folder: a small TOML file for each, `values/take.toml`, to be read and edited
by hand.  Pure."""

from __future__ import annotations

import re
import tomllib
from decimal import Decimal

from brass_pebble.core.say.problem import ProblemError

from .kinds import LARGEST, LONGEST_VALUE, MOST_DECIMALS, Value, places_of, tell_value

FOLDER = "values"
NAME = re.compile(r"[a-z][a-z0-9_]{0,60}")
_KEY = "value"
_ESCAPED = {"\\": "\\\\", '"': '\\"', "\n": "\\n", "\t": "\\t", "\r": "\\r"}


def file_of(name: str) -> str:
    """The file of a value, below the desk's folder."""
    return f"{FOLDER}/{name}.toml"


def write_kept(value: Value) -> str:
    """A value as the text of its file."""
    return f"{_KEY} = {_quoted(value) if isinstance(value, str) else tell_value(_with_point(value))}\n"


def _with_point(value: int | Decimal) -> int | Decimal:
    # In TOML a decimal has a point, also one without decimals.
    return value.quantize(Decimal("0.1")) if isinstance(value, Decimal) and not places_of(value) else value


def _quoted(text: str) -> str:
    return '"' + "".join(_ESCAPED.get(char) or (f"\\u{ord(char):04x}" if ord(char) < 32 or ord(char) == 127 else char)
                         for char in text) + '"'


def read_kept(text: str) -> Value:
    """The value that a file's text says.

    Raises:
        ProblemError: it says none; with the line and what to write.
    """
    hint = f'Write {_KEY} = 12, {_KEY} = 2.50 or {_KEY} = "a text"'
    try:
        tables = tomllib.loads(text, parse_float=Decimal)
    except (ValueError, ArithmeticError, RecursionError) as error:
        found = re.search(r"at line (\d+), column (\d+)", str(error))
        line, column = (int(found[1]), int(found[2])) if found else (1, 0)
        raise ProblemError("this is not TOML", line=line, column=column, hint=hint) from None
    value = tables.get(_KEY)
    if isinstance(value, bool) or not isinstance(value, Value) or len(tables) != 1:
        raise ProblemError("this is not one number or text", line=1, hint=hint)
    if isinstance(value, str):
        if len(value) > LONGEST_VALUE:
            raise ProblemError(f"the text has more than {LONGEST_VALUE:,} characters", line=1, hint=hint)
        return value
    if isinstance(value, Decimal):
        if not value.is_finite() or not -LARGEST <= value <= LARGEST or places_of(value) > MOST_DECIMALS:
            raise ProblemError("this number is too large, or has too many decimals", line=1, hint=hint)
        # 1e3 is written out.
        return Decimal(tell_value(value)) if places_of(value) else value.quantize(Decimal("0.1"))
    if not -LARGEST <= value <= LARGEST:
        raise ProblemError("this number is too large", line=1, hint=hint)
    return value
