"""What can be done with values, as a table: `upper(name)`, `round(price, 2)`.  The check, the reference, completion and
the run read it; another function is another row."""

from __future__ import annotations

import json
import shlex
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

from .kinds import (
    DECIMAL,
    EXACT,
    LONGEST_VALUE,
    TEXT,
    WHOLE,
    Kind,
    Scope,
    Value,
    foreign_number,
    read_number,
    tell_value,
)

NUMBER = "number"
LONGEST_JSON = 1_000_000


class CannotBe(Exception):
    """A function cannot do this; the text says why, `hint` what to do."""

    def __init__(self, why: str, hint: str) -> None:
        super().__init__(why)
        self.hint = hint


@dataclass(frozen=True)
class Function:
    """`takes` are the kinds of what stands in brackets (the number of decimals does not matter for "number");
    `gives` is the kind of what comes out, "number" for that of what went in."""

    name: str
    takes: tuple[str, ...]
    gives: str
    does: str
    example: tuple[str, str]
    call: Callable[..., Value]
    # Whether it depends on when it is asked.
    varies: bool = False

    def kind(self, kinds: Sequence[Kind]) -> Kind:
        """The kind of what comes out."""
        if self.gives != NUMBER:
            return self.gives
        return DECIMAL if DECIMAL in kinds else WHOLE


def _most(a: int | Decimal, b: int | Decimal) -> int | Decimal:
    return Decimal(min(a, b)) if isinstance(a, Decimal) or isinstance(b, Decimal) else min(a, b)


def _least(a: int | Decimal, b: int | Decimal) -> int | Decimal:
    return Decimal(max(a, b)) if isinstance(a, Decimal) or isinstance(b, Decimal) else max(a, b)


def _part(text: str, first: int, last: int) -> str:
    first = len(text) + 1 + first if first < 0 else first
    last = len(text) + 1 + last if last < 0 else last
    return text[max(0, first - 1):max(0, last)]


def _before(text: str, mark: str) -> str:
    return text.split(mark, 1)[0] if mark else text


def _after(text: str, mark: str) -> str:
    return text.split(mark, 1)[1] if mark and mark in text else ""


def _replace(text: str, old: str, new: str) -> str:
    if not old:
        return text
    if len(text) + text.count(old) * (len(new) - len(old)) > LONGEST_VALUE:
        raise CannotBe(f"the text would have more than {LONGEST_VALUE:,} characters", "Replace less")
    return text.replace(old, new)


def _nth(parts: list[str], index: int) -> str:
    index = len(parts) + 1 + index if index < 0 else index
    return parts[index - 1] if 1 <= index <= len(parts) else ""


def _number(text: str) -> int:
    try:
        found = read_number(text)
    except ValueError:
        found = Decimal("0.5")
    if isinstance(found, Decimal):
        raise CannotBe(f"“{text[:40]}” is not a whole number", "Look at it first, or use decimal(…) for one with "
                       "decimals")
    return found


def _decimal(text: str) -> Decimal:
    try:
        return Decimal(read_number(text.replace(",", ".")))
    except ValueError:
        raise CannotBe(f"“{text[:40]}” is not a number", "Write it like 2.50") from None


def _round(number: int | Decimal, places: int) -> Decimal:
    if not 0 <= places <= 12:
        raise CannotBe(f"a number cannot have {places} decimals", "Use 0 to 12")
    return Decimal(number).quantize(Decimal(1).scaleb(-places), ROUND_HALF_UP, EXACT)


def _padded(number: int | Decimal, width: int) -> str:
    return tell_value(number).zfill(min(width, 1000))


def _now(form: str, *, scope: Scope) -> str:
    try:
        return scope.given.wall().strftime(form)
    except ValueError:
        raise CannotBe(f"“{form}” is not a form for a time", "Write it like %Y-%m-%d or %H:%M") from None


def _json_number(text: str) -> Decimal:
    try:
        return foreign_number(text)
    except ValueError as error:
        raise CannotBe(str(error), "At most 60 digits, and an exponent from -40 to 40, can be read") from None


def _json(text: str, path: str) -> str:
    """A part of a JSON text (RFC 8259): names and places, from 0, joined by dots."""
    if len(text) > LONGEST_JSON:
        raise CannotBe(f"it has more than {LONGEST_JSON:,} characters", "Ask for less")
    try:
        found: Any = json.loads(text, parse_float=_json_number)
    except (ValueError, RecursionError):
        raise CannotBe("it is not JSON", "Show it first, to see what came") from None
    for name in filter(None, path.split(".")):
        if isinstance(found, dict) and name in found:
            found = found[name]
        elif isinstance(found, list) and name.isdigit() and int(name) < len(found):
            found = found[int(name)]
        else:
            raise CannotBe(f"there is no “{name}” in it", "Names are joined by dots, and lists count from 0: "
                           "cameras.0.name")
    if isinstance(found, dict | list):
        return json.dumps(found, ensure_ascii=False, default=str)
    if isinstance(found, bool) or found is None:
        return {True: "yes", False: "no"}.get(found, "")  # type: ignore[arg-type]
    return tell_value(found)


FUNCTIONS = {row.name: row for row in (
    Function("most", (NUMBER, NUMBER), NUMBER, "at most both: the smaller one", ("most(7, 4)", "4"), _most),
    Function("least", (NUMBER, NUMBER), NUMBER, "at least both: the larger one", ("least(7, 4)", "7"), _least),
    Function("round", (NUMBER, WHOLE), DECIMAL, "so many decimals; a half goes up", ("round(2.345, 2)", "2.35"),
             _round),
    Function("whole", (NUMBER,), WHOLE, "the nearest whole number; a half goes up", ("whole(2.5)", "3"),
             lambda number: int(Decimal(number).quantize(Decimal(1), ROUND_HALF_UP, EXACT))),
    Function("text", (NUMBER,), TEXT, "a number as text", ("text(2.50)", "2.50"), tell_value),
    Function("padded", (NUMBER, WHOLE), TEXT, "with zeros in front, so many characters in all", ("padded(7, 3)", "007"),
             _padded),
    Function("number", (TEXT,), WHOLE, "the whole number that a text spells", ('number("12")', "12"), _number),
    Function("decimal", (TEXT,), DECIMAL, "the number with decimals that a text spells", ('decimal("2,50")', "2.50"),
             _decimal),
    Function("upper", (TEXT,), TEXT, "in capital letters", ('upper("rye")', "RYE"), str.upper),
    Function("lower", (TEXT,), TEXT, "in small letters", ('lower("RYE")', "rye"), str.lower),
    Function("trim", (TEXT,), TEXT, "without spaces and empty lines around", ('trim("  rye ")', "rye"), str.strip),
    Function("length", (TEXT,), WHOLE, "how many characters", ('length("rye")', "3"), len),
    Function("part", (TEXT, WHOLE, WHOLE), TEXT, "from one character to another, counted from 1; -1 is the last",
             ('part("rye bread", 5, -1)', "bread"), _part),
    Function("before", (TEXT, TEXT), TEXT, "what stands before a mark; all of it without one",
             ('before("rye, 24 h", ",")', "rye"), _before),
    Function("after", (TEXT, TEXT), TEXT, "what stands behind a mark; nothing without one",
             ('after("rye, 24 h", ", ")', "24 h"), _after),
    Function("word", (TEXT, WHOLE), TEXT, "a word, counted from 1; -1 is the last",
             ('word("dark rye bread", 2)', "rye"),
             lambda text, index: _nth(text.split(), index)),
    Function("line", (TEXT, WHOLE), TEXT, "a line, counted from 1; -1 is the last", (r'line("rye\nwheat", 2)', "wheat"),
             lambda text, index: _nth(text.splitlines(), index)),
    Function("replace", (TEXT, TEXT, TEXT), TEXT, "every place of one text made another",
             ('replace("rye bread", " ", "-")', "rye-bread"), _replace),
    Function("quoted", (TEXT,), TEXT, "a text as one word of a line of the shell, whatever stands in it",
             ('quoted("rye & oat")', "'rye & oat'"), shlex.quote),
    Function("now", (TEXT,), TEXT, "the date or time, in the form of strftime (C): %Y %m %d %H %M %S",
             ('now("%H:%M")', "18:05"), _now, varies=True),
    Function("json", (TEXT, TEXT), TEXT, "a part of a JSON text: names and places (from 0) joined by dots",
             ('json(reply, "cameras.0.name")', "oven"), _json),
)}
