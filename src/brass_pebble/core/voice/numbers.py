"""Numbers as they are spoken: read from words, and put into words.  The words are rows of data/number-words.tsv."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from functools import cache

from brass_pebble.core.say.data_table import read_table

# What can be said at most, in both directions, and with how many decimals.
LARGEST = 999_999_999
MOST_DECIMALS = 3
UNIT, TEEN, TENS, SCALE, ONE, JOINS, SIGN, POINT, PART = (
    "unit", "teen", "tens", "scale", "one", "joins", "sign", "point", "part")


@cache
def number_words() -> dict[str, tuple[str, Decimal]]:
    """Each word of a number: what it is, and its value."""
    return {word: (kind, Decimal(value)) for word, kind, value in read_table("number-words.tsv")}


def words_of(kind: str) -> tuple[str, ...]:
    """The words of one kind, in the order of the table."""
    return tuple(word for word, (its, _) in number_words().items() if its == kind)


@cache
def _names() -> dict[int, str]:
    return {int(value): word for word, (kind, value) in number_words().items() if kind in (UNIT, TEEN, TENS, SCALE)}


def read_number(words: Sequence[str]) -> Decimal | None:
    """The number that all of these words say; None if they say none.

    Understood are “thirty five”, “a hundred and five”, “minus ten”, “two point five”, “two and a half”, “half”.
    """
    known = number_words()
    left = [known.get(word, ("", Decimal(0))) for word in words]
    if not left or any(not kind for kind, _ in left):
        return None
    sign = Decimal(1)
    if left[0][0] == SIGN:
        sign = Decimal(-1)
        left = left[1:]
    kinds = [kind for kind, _ in left]
    if POINT in kinds:
        at = kinds.index(POINT)
        whole, digits = _whole(left[:at]), left[at + 1:]
        if whole is None or not 1 <= len(digits) <= MOST_DECIMALS or any(kind != UNIT for kind, _ in digits):
            return None
        return sign * (whole + Decimal("0." + "".join(str(value) for _, value in digits)))
    if kinds[-1:] == [PART]:
        part, kinds, left = left[-1][1], kinds[:-1], left[:-1]
        if kinds[-1:] == [ONE]:
            kinds, left = kinds[:-1], left[:-1]
            if kinds[-1:] == [JOINS]:
                left = left[:-1]
                whole = _whole(left)
                return None if whole is None else sign * (whole + part)
        return sign * part if not left else None
    whole = _whole(left)
    return None if whole is None else sign * whole


@cache
def _tails() -> tuple[tuple[str, ...], ...]:
    """What may follow a number that is not over: one word of each kind stands for all of it."""
    unit, one, joins, point = words_of(UNIT)[1], words_of(ONE)[0], words_of(JOINS)[0], words_of(POINT)[0]
    part, scales = words_of(PART)[0], words_of(SCALE)
    return ((unit,), *((scale,) for scale in scales), (joins, unit), (point, unit), (joins, one, part), (part,))


def longer(words: Sequence[str]) -> list[Decimal]:
    """Numbers that these words may become when more is said: one of each kind."""
    found = (read_number((*words, *tail)) for tail in _tails())
    return [number for number in found if number is not None]


def _whole(left: list[tuple[str, Decimal]]) -> Decimal | None:
    """A whole number without a sign: groups before each of the large scales, the largest first."""
    if not left:
        return None
    total, below = Decimal(0), None
    group: list[tuple[str, Decimal]] = []
    for index, (kind, value) in enumerate(left):
        if kind == SCALE and value >= 1000:
            if below is not None and value >= below:
                return None
            count = Decimal(1) if [kind for kind, _ in group] == [ONE] else _below_thousand(group)
            if not count:
                return None
            total += count * value
            below, group = value, []
        elif kind == JOINS and not group and below is not None and index + 1 < len(left):
            # "two thousand and five"
            continue
        else:
            group.append((kind, value))
    if not group:
        return total if below is not None and left[-1][0] == SCALE else None
    rest = _below_thousand(group)
    if rest is None or (below is not None and rest == 0):
        return None
    return total + rest


def _below_thousand(group: list[tuple[str, Decimal]]) -> Decimal | None:
    kinds = [kind for kind, _ in group]
    if SCALE in kinds:
        at = kinds.index(SCALE)
        before, after = group[:at], group[at + 1:]
        if not before:
            count: Decimal | None = Decimal(1)
        elif len(before) == 1 and before[0][0] in (UNIT, ONE) and before[0][1]:
            count = before[0][1]
        else:
            return None
        assert count is not None
        if after and after[0][0] == JOINS:
            after = after[1:]
            if not after:
                return None
        rest = _below_hundred(after) if after else Decimal(0)
        return None if rest is None or (after and not rest) else count * 100 + rest
    return _below_hundred(group) if group else None


def _below_hundred(group: list[tuple[str, Decimal]]) -> Decimal | None:
    kinds = [kind for kind, _ in group]
    if kinds in ([UNIT], [TEEN], [TENS]) or (kinds == [TENS, UNIT] and group[1][1]):
        return sum((value for _, value in group), Decimal(0))
    return None


def say_number(number: int | Decimal) -> str:
    """A number in words, as it is usually said: “minus thirty five point two”.

    Raises:
        ValueError: it is too large, or has too many decimals.
    """
    number = Decimal(number)
    if abs(number) > LARGEST:
        raise ValueError(number)
    sign = "minus " if number < 0 else ""
    whole, _, decimals = format(abs(number), "f").partition(".")
    decimals = decimals.rstrip("0")
    if len(decimals) > MOST_DECIMALS:
        raise ValueError(number)
    names = _names()
    text = _say_whole(int(whole), names)
    if decimals:
        text += " point " + " ".join(names[int(digit)] for digit in decimals)
    return sign + text


def _say_whole(number: int, names: dict[int, str]) -> str:
    for scale in (1_000_000, 1_000):
        if number >= scale:
            count, rest = divmod(number, scale)
            text = f"{_say_whole(count, names)} {names[scale]}"
            return f"{text} {'and ' if rest < 100 else ''}{_say_whole(rest, names)}" if rest else text
    if number >= 100:
        count, rest = divmod(number, 100)
        text = f"{names[count]} {names[100]}"
        return f"{text} and {_say_whole(rest, names)}" if rest else text
    if number in names:
        return names[number]
    tens, unit = divmod(number, 10)
    return f"{names[tens * 10]} {names[unit]}"


def digits_to_words(word: str) -> str | None:
    """A number in digits, as a person or a recogniser may write it (“40”, “-3”, “2.5”, “1,200”), in words."""
    text = word.replace(",", "").replace("−", "-")
    if not text.lstrip("-").replace(".", "", 1).isdigit() or not text.isascii():
        return None
    try:
        return say_number(Decimal(text))
    except ValueError:
        return None
