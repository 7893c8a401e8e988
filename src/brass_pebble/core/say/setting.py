"""Settings: each is one field of the model, with its type, default, limits and words.

The reader of files, the writer, requests, panels and docs all go by these rows, so a new setting is one row: a field of
a dataclass made with `setting`.  Pure.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import MISSING, dataclass, field, fields, replace
from fractions import Fraction
from functools import cache
from typing import Any, Protocol

from brass_pebble.core.say.counts import say_count

from .durations import LONGEST, parse_duration, say_duration, write_duration
from .problem import ProblemError
from .toml_fields import Fields, Places


class Kind(Protocol):
    """What a setting may be."""

    def read(self, fields: Fields, name: str, default: Any) -> Any:
        """The value in a table; what is wrong with it is reported, and the nearest thing taken that can be."""

    def write(self, value: Any) -> Any:
        """The value as a desk's file and the socket have it."""

    def describe(self) -> str:
        """What may be written, for the docs."""


@dataclass(frozen=True)
class Setting:
    """One setting.  `label` is what panels call it (without one it is set in the file only), `means` what it does.

    `proposals` are values that a panel goes through, as they are written; None is as without it.  `shown` has words for
    some values.  One that belongs to some gestures only names them in `only`.
    """

    name: str
    kind: Kind
    default: Any
    means: str
    label: str = ""
    proposals: tuple[Any, ...] = ()
    shown: Mapping[Any, str] = field(default_factory=dict)
    only: tuple[str, ...] = ()
    # Whether something beside the value itself has to be looked at, such as which layers there are.
    leans: bool = False

    @property
    def unset(self) -> Any:
        """What stands in a message for it where it is as usual: nothing, or what can only be said in full."""
        return self.default if isinstance(self.kind, Flag | Text | Choice) else ""

    def say(self, written: Any) -> str:
        """A value, as it is written, in words."""
        if isinstance(written, list):
            parts = (f"{part:g}" if isinstance(part, float) else str(part) for part in written)
            return ", ".join(parts) or self.shown.get("", "none")
        if written in self.shown:
            return self.shown[written]
        if isinstance(self.kind, Time) and written:
            return say_duration(parse_duration(written))
        if isinstance(written, bool):
            return "yes" if written else "no"
        return f"{written:g}" if isinstance(written, float) else str(written) or "none"


def setting(default: Any, kind: Kind, means: str, label: str = "", *, proposals: Iterable[Any] = (),
            shown: Mapping[Any, str] | None = None, only: tuple[str, ...] = (), leans: bool = False) -> Any:
    """A field of a dataclass that is a setting (see `Setting`)."""
    row = Setting("", kind, default, means, label, tuple(proposals), shown or {}, only, leans)
    return field(default=default, metadata={"setting": row})


@cache
def _rows(model: Any) -> Mapping[str, Setting]:
    return {row.name: replace(row.metadata["setting"], name=row.name,
                              default=row.default if row.default is not MISSING else row.metadata["setting"].default)
            for row in fields(model) if "setting" in row.metadata}


def settings_of(model: type) -> Mapping[str, Setting]:
    """The settings of a dataclass, by name."""
    return _rows(model)


def read_all(model: type, table: Fields, defaults: Mapping[str, Any] | None = None) -> dict[str, Any]:
    """The settings of a dataclass that a table has, over the defaults that are given; without those that lean on
    something else.  All of them are known there then."""
    rows = _rows(model)
    table.known(*rows)
    found = dict(defaults or {})
    for name in table.data:
        row = rows.get(name)
        if row is not None and not row.leans:
            found[name] = row.kind.read(table, name, found.get(name, row.default))
    return found


def write_all(value: Any, default: Any = None, *, every: bool = False) -> dict[str, Any]:
    """The settings of a model's value as its file has them: those that differ from the default, or `every` one."""
    written = {}
    for name, row in settings_of(type(value)).items():
        if row.leans:
            continue
        now, usual = getattr(value, name), row.default if default is None else getattr(default, name)
        if every or now != usual:
            written[name] = row.kind.write(now)
    return written


def check_setting(row: Setting, written: Any) -> None:
    """Look at one value from outside.

    Raises:
        ProblemError: it is none that this setting can have.
    """
    problems: list[Any] = []
    row.kind.read(Fields({row.name: written}, (), Places(""), "", problems), row.name, row.default)
    if problems:
        raise ProblemError(problems[0].what, hint=problems[0].hint)


@dataclass(frozen=True)
class Text:
    """A text; `check` raises a ProblemError for one that cannot be, and gives the text to keep.  `longest` is in
    characters (0: any)."""

    longest: int = 0
    check: Callable[[str], str] | None = None
    what: str = "text"
    measure: Callable[[str], int] = len

    def read(self, fields: Fields, name: str, default: str) -> str:
        text = fields.text(name, default)
        if self.longest and self.measure(text) > self.longest:
            fields.problem(name, f"a {name} has at most {say_count(self.longest, 'character')}, this one has "
                                 f"{self.measure(text)}",
                           "Shorten it", word=text)
            return text[:self.longest]
        try:
            return self.check(text) if self.check is not None else text
        except ProblemError as error:
            fields.problem(name, error.problem.what, error.problem.hint, word=text)
            return default

    def write(self, value: str) -> str:
        return value

    def describe(self) -> str:
        return f"{self.what}, up to {say_count(self.longest, 'character')}" if self.longest else self.what


def pattern(shape: str, what: str, hint: str) -> Callable[[str], str]:
    """A check of a text that has a shape."""
    known = re.compile(shape)

    def check(text: str) -> str:
        if text and not known.fullmatch(text):
            raise ProblemError(f"“{text}” is not {what}", hint=hint)
        return text
    return check


@dataclass(frozen=True)
class Flag:
    """true or false."""

    def read(self, fields: Fields, name: str, default: bool) -> bool:
        return fields.flag(name, default)

    def write(self, value: bool) -> bool:
        return value

    def describe(self) -> str:
        return "true or false"


@dataclass(frozen=True)
class Choice:
    """One of some words; or none, if the default is none."""

    words: tuple[str, ...]

    def read(self, fields: Fields, name: str, default: str) -> str:
        return fields.choice(name, self.words, default) if default or fields.text(name, default) else ""

    def write(self, value: str) -> str:
        return value

    def describe(self) -> str:
        return ", ".join(f"`\"{word}\"`" for word in self.words)


@dataclass(frozen=True)
class Time:
    """A time in ns, at least `least` and at most `most` unless it is the default; `why` says why no other one is.

    One that `bends` is the nearest that can be, instead of the default.
    """

    least: int = 0
    most: int = LONGEST
    why: str = ""
    hint: str = ""
    bends: bool = False

    def read(self, fields: Fields, name: str, default: int) -> int:
        time = fields.duration(name, default)
        if self.least <= time <= self.most or time == default:
            return time
        fields.problem(name, f"“{name}” must be {self._limits()}{self.why}", self.hint)
        return min(max(time, self.least), self.most) if self.bends else default

    def _limits(self) -> str:
        if self.least and self.most < LONGEST:
            return f"between {say_duration(self.least)} and {say_duration(self.most)}"
        return f"at least {say_duration(self.least)}" if self.least else f"at most {say_duration(self.most)}"

    def write(self, value: int) -> str:
        return write_duration(value)

    def describe(self) -> str:
        return f"time {self._limits()}" if self.least or self.most < LONGEST else "time"


_HUGE = 2**31


@dataclass(frozen=True)
class Number:
    """A number from `least` to `most`."""

    least: float
    most: float
    what: str = ""
    hint: str = ""
    whole: bool = False

    def read(self, fields: Fields, name: str, default: float | None) -> float | None:
        number = fields.number(name, 0 if default is None else default)
        if not (self.least <= number <= self.most and (not self.whole or number == int(number))):
            fields.problem(name, self.what or f"“{name}” must be between {self.least:g} and {self.most:g}", self.hint)
            return default
        return int(number) if self.whole else number

    def write(self, value: float) -> float:
        return value

    def describe(self) -> str:
        limits = f", {self.least:g} to {self.most:g}" if self.most < _HUGE else ""
        return f"{'whole ' * self.whole}number{limits}"


@dataclass(frozen=True)
class Pair:
    """Two numbers."""

    whole: bool = False

    def read(self, fields: Fields, name: str, default: tuple[float, float]) -> tuple[float, float]:
        first, second = fields.pair(name, None) or default
        return (int(first), int(second)) if self.whole else (first, second)

    def write(self, value: tuple[float, float]) -> list[float]:
        return list(value)

    def describe(self) -> str:
        return "two numbers in brackets"


@dataclass(frozen=True)
class Texts:
    """A list of texts; `of` says which."""

    of: str

    def read(self, fields: Fields, name: str, default: tuple[str, ...]) -> tuple[str, ...]:
        return fields.texts(name) or default

    def write(self, value: Iterable[str]) -> list[str]:
        return [str(text) for text in value]

    def describe(self) -> str:
        return f"list of {self.of}"


@dataclass(frozen=True)
class Share:
    """A share of a way, 0 to 1 in the model, written as `12 %`."""

    least: float
    most: float

    def read(self, fields: Fields, name: str, default: float) -> float:
        if not (word := fields.text(name, "")):
            return default
        share = read_share(word)
        if share is None or not self.least <= share <= self.most:
            fields.problem(name, f"“{name}” must be between {write_share(self.least)} and {write_share(self.most)}",
                           f'Write {name} = "{write_share(default)}"', word=word)
            return default
        return share

    def write(self, value: float) -> str:
        return write_share(value)

    def describe(self) -> str:
        return f"share, {write_share(self.least)} to {write_share(self.most)}"


@dataclass(frozen=True)
class Stride:
    """How far one step of a turn goes: a share of the way below 1, or a whole number of counts; 0 for the usual."""

    most: int = 1000

    def read(self, fields: Fields, name: str, default: Fraction) -> Fraction:
        value = fields.data.get(name)
        if isinstance(value, int) and not isinstance(value, bool) and 1 <= value <= self.most:
            return Fraction(value)
        text = fields.text(name, "")
        if text.isdigit() and 1 <= int(text) <= self.most:
            return Fraction(int(text))
        try:
            share = Fraction(text.removesuffix("%").strip()) / 100 if text else Fraction(0)
        except (ValueError, ZeroDivisionError):
            share = Fraction(-1)
        if text and not (text.endswith("%") and 0 < share < 1):
            fields.problem(name, f"“{text}” is not how far a step can be", f'Write {name} = "5 %", or {name} = 2 for a '
                           "knob without ends", word=text)
            return default
        return share

    def write(self, value: Fraction) -> str | int:
        if value >= 1 or not value:
            return int(value) or ""
        share = value * 100
        return f"{share.numerator} %" if share.denominator == 1 else f"{float(share):g} %" \
            if Fraction(f"{float(share):g}") == share else f"{share} %"

    def describe(self) -> str:
        return f"share such as `\"5 %\"`, or counts, 1 to {self.most}"


def read_share(text: str) -> float | None:
    """A share from `12 %`, `12%` or `0.12`; None if it is none."""
    plain = text.strip()
    per_cent = plain.endswith("%")
    try:
        number = float(plain.removesuffix("%").strip())
    except ValueError:
        return None
    return (number / 100 if per_cent else number) if math.isfinite(number) else None


def write_share(share: float) -> str:
    """A share as desk.toml has it: `12 %`."""
    return f"{share * 100:.4g} %"
