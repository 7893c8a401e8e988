"""What a value can be: a whole number, a number with decimals, a text.  And who knows what: names while a text is read,
values while a run goes on."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Context, Decimal, InvalidOperation
from typing import NamedTuple, Protocol

from brass_pebble.core.effects.drive import Levels
from brass_pebble.core.effects.gate import Rights
from brass_pebble.core.macro.asks import Unforeseen
from brass_pebble.core.say.problem import ProblemError

# Decimals are exact: 0.10 + 0.20 is 0.30.
Value = int | Decimal | str
WHOLE, DECIMAL, TEXT = "whole number", "number with decimals", "text"
Kind = str
LARGEST = 2**63 - 1
MOST_DECIMALS = 12
# Wide enough that nothing within the limits is ever rounded.
EXACT = Context(prec=60)
LONGEST_VALUE = 1_000_000
# Of numbers that other programs write.
LONGEST_NUMBER, WIDEST_EXPONENT = 120, 40
# What is known of the press without anybody setting it, what kind it is, and what it means.
PRESS_VALUES: dict[str, tuple[Kind, str]] = {
    "strength": (WHOLE, "how hard it was pressed, 0 to 127; 127 for keys"),
    "position": (WHOLE, "where the axis or knob is, 0 to 100"),
    "held": (WHOLE, "for how many ms the control has been down"),
    "number": (WHOLE, "a number that was said or typed with it"),
    "said": (TEXT, "the words that were said or typed with it"),
}


def kind_of_value(value: Value) -> Kind:
    """What a value is."""
    return TEXT if isinstance(value, str) else DECIMAL if isinstance(value, Decimal) else WHOLE


def tell_value(value: Value) -> str:
    """A value as it is typed: numbers without an exponent, decimals as many as it has."""
    return format(value, "f") if isinstance(value, Decimal) else str(value)


def read_number(text: str) -> int | Decimal:
    """A number as a person writes it: `12`, `-3`, `2.50`.

    Raises:
        ValueError: it is none, it is too large, or has too many decimals.
    """
    text = text.strip()
    if not text or len(text) > 40 or text.lstrip("+-")[:1] not in set("0123456789.") or not text.isascii():
        raise ValueError(text)
    if text.lstrip("+-").isdigit():
        number: int | Decimal = int(text)
    else:
        try:
            number = Decimal(text)
        except InvalidOperation:
            raise ValueError(text) from None
        if "e" in text.lower() or not number.is_finite() or places_of(number) > MOST_DECIMALS:
            raise ValueError(text)
    if not -LARGEST <= number <= LARGEST:
        raise ValueError(text)
    return number


def foreign_number(text: str) -> Decimal:
    """A number with decimals or an exponent that another program wrote, in JSON or TOML.

    A few letters can stand for more digits than any memory holds (`1e-999999999`): at most 60 digits, and an exponent
    from -40 to 40.

    Raises:
        ValueError: it is none, or beyond these limits.
    """
    try:
        number = Decimal(text) if len(text) <= LONGEST_NUMBER else None
    except InvalidOperation:
        number = None
    if number is None or not number.is_finite() or len(number.as_tuple().digits) > EXACT.prec or not (
            -WIDEST_EXPONENT <= int(number.as_tuple().exponent) <= WIDEST_EXPONENT):
        raise ValueError(f"the number {text[:40]} is out of range")
    return number


def places_of(number: int | Decimal) -> int:
    """How many decimals a number has."""
    return max(0, -int(number.as_tuple().exponent)) if isinstance(number, Decimal) else 0


@dataclass(frozen=True)
class Named:
    """A value while the text is read: its kind, the line that set it first (0 for the press), whether it is kept."""

    kind: Kind
    line: int = 0
    kept: bool = False


class Known(dict[str, Named]):
    """The values that are set so far, by name.  `late` tells whether something was asked for since it was last set to
    false that is known only when its step's moment has come."""

    late = False

    def __init__(self) -> None:
        super().__init__({name: Named(kind) for name, (kind, _) in PRESS_VALUES.items()})

    def learn(self, name: str, kind: Kind, line: int, column: int, *, kept: bool = False) -> None:
        """A line sets a value.

        Raises:
            ProblemError: it has another kind already, or is none to be set.
        """
        before = self.get(name)
        if name == "held":
            raise ProblemError("“held” is how long the control has been down, and cannot be set", line=line,
                               column=column, hint="Choose another name")
        if kept and before is not None:
            raise ProblemError(f"“{name}” is a value of the press or of a line above, and cannot be kept", line=line,
                               column=column, hint="Choose another name")
        if before is None:
            self[name] = Named(kind, line, kept)
        elif before.kind != kind:
            where = f"since line {before.line}" if before.line else "with every press"
            hint = f"Write a decimal in line {before.line}, like 1.0" if (before.kind, kind) == (WHOLE, DECIMAL) \
                and before.line else "Choose another name for this one"
            raise ProblemError(f"“{name}” is a {before.kind} {where}, and this is a {kind}", line=line, column=column,
                               hint=hint)


class Setter(NamedTuple):
    """A stranger who has set a value: in words, by which mark, and whether it came with the stranger's macros."""

    whose: str
    mark: str = ""
    came: bool = False


class KeptValues(Protocol):
    """Where the values are that outlive a run."""

    def get(self, name: str) -> Value | None:
        """One of them; None while nobody has set it."""

    def put(self, name: str, value: Value, rights: Rights | None = None, macro: str = "") -> None:
        """Set one; `rights` are those of a stranger's step that does, `macro` is which one does, by id."""

    def setter(self, name: str) -> Setter | None:
        """Who has set it, if that was a stranger whose approval does not count now."""


class NothingKept:
    """Kept for as long as it lives: for looking at a macro, and for rehearsing it."""

    def __init__(self, values: Mapping[str, Value] | None = None) -> None:
        self.values = dict(values or {})

    def get(self, name: str) -> Value | None:
        """One of them; None while nobody has set it."""
        return self.values.get(name)

    def put(self, name: str, value: Value, rights: Rights | None = None, macro: str = "") -> None:
        """Set one."""
        self.values[name] = value

    def setter(self, name: str) -> Setter | None:
        """Nobody but the person."""
        return None


@dataclass
class Given:
    """What a run begins with: the values of its press, answers that are known beforehand, what its clocks say, and
    where values are kept.

    `held_ms(now)` tells for how long the control has been down at a time from the run's start, in ns.
    """

    values: dict[str, Value] = field(default_factory=dict)
    held_ms: Callable[[int], int] = lambda now: now // 1_000_000
    is_held: Callable[[], bool] = lambda: False
    answers: Mapping[str, str] = field(default_factory=dict)
    kept: KeptValues = field(default_factory=NothingKept)
    wall: Callable[[], datetime] = datetime.now
    # Where the levels are that macros and keys set.
    levels: Levels = field(default_factory=Levels)
    # Whose the step is that is laid now (core/effects/gate.py), and who is told that a value of somebody else is used.
    rights: Rights | None = None
    strange: Callable[[Setter], None] = lambda setter: None
    # Which macro it is, by id.
    macro: str = ""


WITHOUT_PRESS: dict[str, Value] = {"strength": 127, "position": 0, "number": 0, "said": ""}


class Scope(dict[str, Value]):
    """The values of a run.  Kept ones are not in it: they are asked for each time, so that every run sees what another
    one has set."""

    def __init__(self, given: Given, values: Mapping[str, Value] | None = None,
                 moment: Callable[[], int] = lambda: 0) -> None:
        super().__init__(WITHOUT_PRESS)
        self.update(given.values if values is None else values)
        self.given = given
        # When it is now, in ns from the run's start: how long the control has been down is known when somebody asks.
        self.moment = moment
        # The kept values that the macro names, and what they are before anybody has set them.
        self.first: dict[str, Value] = {}

    def inner(self) -> Scope:
        """For a macro that another one plays: it sees the values, and what it sets is its own."""
        return Scope(self.given, self, self.moment)

    def __missing__(self, name: str) -> Value:
        if name == "held":
            return self.given.held_ms(self.moment())
        first = self.first.get(name)
        if first is None:
            raise Unforeseen(f"“{name}” has no value here: what sets it was not played",
                             hint="Set it in the other way, too")
        value = self.given.kept.get(name)
        if value is None:
            return first
        if setter := self.given.kept.setter(name):
            self.given.strange(setter)
        if kind_of_value(value) != kind_of_value(first):
            raise Unforeseen(f"the kept value “{name}” is a {kind_of_value(value)} now, and this macro needs a "
                               f"{kind_of_value(first)}", hint="Put it right in the Values view, or reset it there")
        return value

    def put(self, name: str, value: Value) -> None:
        """Set a value, for this run or for good."""
        if name in self.first:
            rights = self.given.rights
            if rights is not None and not rights.reaches:
                raise Unforeseen(f"the kept value “{name}” is not set before you approve it", hint="Look at the guests")
            self.given.kept.put(name, value, rights, self.given.macro)
        else:
            self[name] = value
