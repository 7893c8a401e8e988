"""Reckoning in macros: whole numbers, exact decimals, texts; what is compared with what, and what would not fit.

Division of whole numbers drops the rest (7 / 2 is 3, -7 / 2 is -3) and % is what division leaves; with decimals it has
as many as the side with more of them (10.00 / 3 is 3.33).  Numbers stay within 64 bits.
"""

from __future__ import annotations

import operator
from collections.abc import Callable
from dataclasses import dataclass
from decimal import ROUND_DOWN, Decimal
from functools import lru_cache

from lark import Token, Tree

from brass_pebble.core.macro.asks import Deciding, Look, Program, Window
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.problem import ProblemError, nearest

from .functions import FUNCTIONS, NUMBER, CannotBe, Function
from .kinds import (
    DECIMAL,
    EXACT,
    LARGEST,
    LONGEST_VALUE,
    MOST_DECIMALS,
    PRESS_VALUES,
    TEXT,
    WHOLE,
    Kind,
    Known,
    Scope,
    Value,
    kind_of_value,
    places_of,
    read_number,
    tell_value,
)
from .looks import check_look, look_of

Reckoning = Callable[[Scope, int], Value]


def compute(expression: object, values: Scope, line: int) -> Value:
    """The value of an expression, whose kinds fit (`check_kind`).

    Raises:
        ProblemError: a division by zero, a number that is too large, a text that spells no number.
    """
    # An expression is put together once: a press waits for what comes of it.
    run: Reckoning | None = getattr(expression, "reckoning", None)
    if run is None:
        run = _put_together(expression)
        expression.reckoning = run  # type: ignore[attr-defined]
    return run(values, line)


def _put_together(expression: object) -> Reckoning:
    assert isinstance(expression, Tree)
    kind, parts = str(expression.data), expression.children
    if kind == "number":
        number = read_number(str(parts[0]))
        return lambda values, line: number
    if kind == "text":
        text = template(str(parts[0]))
        fixed = text.parts[0][0] if text.fixed else None
        return (lambda values, line: text.fill(values)) if fixed is None else (lambda values, line: fixed)
    if kind == "value":
        name = str(parts[0])
        return lambda values, line: values[name]
    if kind == "minus":
        inner = _put_together(parts[1])

        def negated(values: Scope, line: int) -> Value:
            found = inner(values, line)
            assert not isinstance(found, str)
            return found.copy_negate() if isinstance(found, Decimal) else -found
        return negated
    if kind == "called":
        return _call(FUNCTIONS[str(parts[0])], [_put_together(part) for part in parts[1:]])
    return _joined(_put_together(parts[0]), str(parts[1]), _put_together(parts[2]))


# Of whole numbers.
_WHOLE: dict[str, Callable[[int, int], int]] = {"+": operator.add, "-": operator.sub, "*": operator.mul}


def _joined(first: Reckoning, sign: str, second: Reckoning) -> Reckoning:
    whole = _WHOLE.get(sign)

    def joined(values: Scope, line: int) -> Value:
        left, right = first(values, line), second(values, line)
        # What nearly every press asks for needs no more than this.
        if whole is not None and type(left) is int and type(right) is int \
                and -LARGEST <= (quick := whole(left, right)) <= LARGEST:
            return quick
        if isinstance(left, str) or isinstance(right, str):
            text = f"{left}{right}"
            return text if len(text) <= LONGEST_VALUE else bounded(text, line)
        found = _reckon(left, sign, right, line)
        if not -LARGEST <= found <= LARGEST:
            raise ProblemError(f"{tell_value(left)} {sign} {tell_value(right)} is too large a number", line=line,
                               hint="Use smaller numbers")
        if isinstance(found, Decimal) and places_of(found) > MOST_DECIMALS:
            raise ProblemError(f"{tell_value(left)} {sign} {tell_value(right)} has more than {MOST_DECIMALS} decimals",
                               line=line, hint="Use round(…, 2) in between")
        return found
    return joined


def bounded(text: str, line: int) -> str:
    """A text that is not too long for a value.

    Raises:
        ProblemError: it is.
    """
    if len(text) > LONGEST_VALUE:
        raise ProblemError(f"the text has more than {LONGEST_VALUE:,} characters", line=line, hint="Use less of it")
    return text


def _call(function: Function, given: list[Reckoning]) -> Reckoning:
    only = given[0] if len(given) == 1 and not function.varies else None

    def called(values: Scope, line: int) -> Value:
        found = [part(values, line) for part in given] if only is None else (only(values, line),)
        try:
            came = function.call(*found, scope=values) if function.varies else function.call(*found)
        except CannotBe as error:
            raise ProblemError(f"{function.name}: {error}", line=line, hint=error.hint) from None
        return bounded(came, line) if isinstance(came, str) and len(came) > LONGEST_VALUE else came
    return called


def _reckon(left: int | Decimal, sign: str, right: int | Decimal, line: int) -> int | Decimal:
    if sign in "/%" and not right:
        raise ProblemError("this divides by zero", line=line, hint="Check with if that it is not 0")
    if isinstance(left, int) and isinstance(right, int):
        if sign in _WHOLE:
            return _WHOLE[sign](left, right)
        whole = abs(left) // abs(right) * (1 if (left < 0) == (right < 0) else -1)
        return whole if sign == "/" else left - whole * right
    a, b = Decimal(left), Decimal(right)
    if sign == "/":
        step = Decimal(1).scaleb(-max(places_of(left), places_of(right)))
        return EXACT.divide(a, b).quantize(step, ROUND_DOWN, EXACT)
    made = {"+": EXACT.add, "-": EXACT.subtract, "*": EXACT.multiply, "%": EXACT.remainder}[sign](a, b)
    return made


_COMPARE: dict[str, Callable[[Value, Value], bool]] = {
    "=": lambda a, b: a == b, "!=": lambda a, b: a != b,
    "<": lambda a, b: a < b, ">": lambda a, b: a > b,  # type: ignore[operator]
    "<=": lambda a, b: a <= b, ">=": lambda a, b: a >= b,  # type: ignore[operator]
    "contains": lambda a, b: str(b) in str(a), "begins with": lambda a, b: str(a).startswith(str(b)),
    "ends with": lambda a, b: str(a).endswith(str(b)),
}
# What texts are compared by; the others are for numbers.
_OF_TEXTS = ("=", "!=", "contains", "begins with", "ends with")
_OF_NUMBERS = ("=", "!=", "<", ">", "<=", ">=")


def decide(condition: object, values: Scope, line: int) -> Deciding:
    """Whether a condition holds: a generator that asks about windows and returns the answer."""
    assert isinstance(condition, Tree)
    kind, parts = str(condition.data), condition.children
    if kind == "compared":
        compare = _COMPARE[" ".join(str(parts[1]).split())]
        return compare(compute(parts[0], values, line), compute(parts[2], values, line))
    if kind == "negated":
        return not (yield from decide(parts[0], values, line))
    if kind in ("both", "either"):
        first = yield from decide(parts[0], values, line)
        if first is (kind == "either"):
            return first
        return (yield from decide(parts[1], values, line))
    return bool((yield asked_of_world(condition, 0, line)))


def asked_of_world(condition: Tree[Token], limit: int, line: int) -> Window | Program | Look:
    """What a condition about a window, a program or a place asks."""
    if condition.data == "look":
        return look_of(condition, limit, line)
    if condition.data == "program":
        name, state = condition.children
        return Program(line, limit, unquote(str(name)), state == "gone")
    by_class, text, state = condition.children
    return Window(line, limit, by_class is not None, unquote(str(text)), state == "focused", state == "gone")


def looks_outside(condition: object) -> bool:
    """Whether a condition asks about a window, a program or a place of the screen."""
    return isinstance(condition, Tree) and (condition.data in ("window", "program", "look")
                                            or any(map(looks_outside, condition.children)))


def check_whole(expression: object, known: Known, line: int) -> None:
    """See that an expression that may be left out comes to a whole number.

    Raises:
        ProblemError: it does not, or a value in it is set nowhere before.
    """
    if not isinstance(expression, Tree):
        return
    kind = check_kind(expression, known, line)
    if kind != WHOLE:
        hint = "Use whole(…) for the nearest one" if kind == DECIMAL else "Use number(…) to read one from a text"
        raise ProblemError(f"a whole number is needed here, and this is a {kind}", line=line,
                           column=_column(expression), hint=hint)


def check_condition(condition: object, known: Known, line: int) -> None:
    """See that everything that a condition compares fits.

    Raises:
        ProblemError: something does not.
    """
    if not isinstance(condition, Tree):
        return
    if condition.data == "look":
        check_look(condition, line)
        return
    if condition.data != "compared":
        for part in condition.children:
            check_condition(part, known, line)
        return
    left, sign, right = condition.children
    kinds = check_kind(left, known, line), check_kind(right, known, line)
    sign = " ".join(str(sign).split())
    if (TEXT in kinds) and kinds != (TEXT, TEXT):
        raise ProblemError(f"a {kinds[0]} is compared with a {kinds[1]}", line=line, column=_column(left),
                           hint="Use number(…) to make a number of a text, or text(…) to make a text of a number")
    if TEXT in kinds and sign not in _OF_TEXTS:
        raise ProblemError(f"texts are not compared by {sign}", line=line, column=_column(left),
                           hint="Use =, !=, contains, begins with or ends with")
    if TEXT not in kinds and sign not in _OF_NUMBERS:
        raise ProblemError(f"only a text {sign} another", line=line, column=_column(left),
                           hint="Make a text of the number with text(…)")


def check_kind(expression: object, known: Known, line: int) -> Kind:
    """The kind that an expression comes to.

    Raises:
        ProblemError: a value in it is set nowhere before, or kinds are mixed up; with the column.
    """
    assert isinstance(expression, Tree)
    kind, parts = str(expression.data), expression.children
    if kind == "number":
        return _kind_of_number(parts[0], line)
    if kind == "text":
        return _kind_of_text(parts[0], known, line)
    if kind == "value":
        return _kind_of_name(parts[0], known, line)
    if kind == "called":
        return _kind_of_call(expression, known, line)
    if kind == "minus":
        inner = check_kind(parts[1], known, line)
        if inner == TEXT:
            raise ProblemError("a text has no minus", line=line, column=_column(parts[1]), hint="Use numbers")
        return inner
    kinds = check_kind(parts[0], known, line), check_kind(parts[2], known, line)
    sign = str(parts[1])
    if kinds == (TEXT, TEXT):
        if sign != "+":
            raise ProblemError(f"texts cannot be joined by {sign}", line=line, column=_column(parts[0]),
                               hint="Join them with +, or write \"{one} {other}\"")
        return TEXT
    if TEXT in kinds:
        raise ProblemError(f"“{sign}” has a {kinds[0]} before it and a {kinds[1]} behind it", line=line,
                           column=_column(parts[0]),
                           hint="Make a text of a number with text(…), or write it into a text: \"{value}\"")
    return DECIMAL if DECIMAL in kinds else WHOLE


def _kind_of_number(word: object, line: int) -> Kind:
    assert isinstance(word, Token)
    try:
        number = read_number(word)
    except ValueError:
        if word.isdigit():
            raise ProblemError(f"“{word}” is too large", line=line, column=word.column or 0) from None
        raise ProblemError(f"“{word}” is not a number", line=line, column=word.column or 0,
                           hint="Values are numbers without a unit, or texts in quotes") from None
    return kind_of_value(number)


def _kind_of_text(word: object, known: Known, line: int) -> Kind:
    assert isinstance(word, Token)
    read_template(word, line, known)
    return TEXT


def _kind_of_name(word: object, known: Known, line: int) -> Kind:
    assert isinstance(word, Token)
    if str(word) not in known:
        raise ProblemError(f"there is no value called “{word}”", line=line, column=word.column or 0,
                           hint=nearest(str(word), known) or f"Write let {word} be 0 before it; a press brings "
                           f"{', '.join(PRESS_VALUES)}")
    found = known[str(word)]
    known.late |= found.kept
    return found.kind


def _kind_of_call(expression: Tree[Token], known: Known, line: int) -> Kind:
    word, *given = expression.children
    assert isinstance(word, Token)
    function = FUNCTIONS.get(str(word))
    if function is None:
        raise ProblemError(f"“{word}” cannot be asked of a value", line=line, column=word.column or 0,
                           hint=nearest(str(word), FUNCTIONS) or f"There are {', '.join(FUNCTIONS)}")
    kinds = [check_kind(part, known, line) for part in given]
    if len(kinds) != len(function.takes):
        raise ProblemError(f"{function.name} takes {say_count(len(function.takes), 'value')}, and here "
                           f"{'is' if len(kinds) == 1 else 'are'} {len(kinds)}", line=line, column=word.column or 0,
                           hint=f"Like {function.example[0]}")
    for part, kind, wanted in zip(given, kinds, function.takes, strict=True):
        fits = kind != TEXT if wanted == NUMBER else kind == wanted
        if not fits:
            raise ProblemError(f"{function.name} takes a {wanted} here, and this is a {kind}", line=line,
                               column=_column(part) or word.column or 0, hint=f"Like {function.example[0]}")
    known.late |= function.varies
    return function.kind(kinds)


def _column(expression: object) -> int:
    """Where an expression begins."""
    if isinstance(expression, Token):
        return expression.column or 0
    assert isinstance(expression, Tree)
    return min((found for part in expression.children if (found := _column(part))), default=0) \
        if expression.children else 0


def is_fixed(expression: object) -> bool:
    """Whether an expression is the same for every press."""
    if not isinstance(expression, Tree):
        return True
    kind, parts = expression.data, expression.children
    if kind == "text":
        return template(str(parts[0])).fixed
    if kind == "called" and _function(parts[0]).varies:
        return False
    return kind not in ("value", "window", "program", "look") and all(is_fixed(part) for part in parts)


def _function(word: object) -> Function:
    return FUNCTIONS[str(word)]


_ORDER = {"sum": 0, "product": 1, "factor": 2}


def say(expression: object) -> str:
    """An expression or condition as it is written."""
    if not isinstance(expression, Tree):
        return str(expression)
    kind, parts = str(expression.data), expression.children
    if kind == "minus":
        return f"-{_inner(parts[1])}"
    if kind == "called":
        return f"{parts[0]}({', '.join(map(say, parts[1:]))})"
    if kind == "reckoned":
        tight = str(parts[1]) in "*/%"
        left = _inner(parts[0]) if tight and _adds(parts[0]) else say(parts[0])
        right = _inner(parts[2]) if _is(parts[2], "reckoned") and (tight or _adds(parts[2])) else say(parts[2])
        return f"{left} {parts[1]} {right}"
    if kind == "compared":
        return f"{say(parts[0])} {' '.join(str(parts[1]).split())} {say(parts[2])}"
    if kind == "negated":
        return f"not {say(parts[0])}"
    if kind in ("both", "either"):
        return f"{say(parts[0])} {'and' if kind == 'both' else 'or'} {say(parts[1])}"
    if kind == "window":
        return f"window {'class ' if parts[0] else ''}{parts[1]} is {parts[2]}"
    if kind == "look":
        size = f" size {parts[2]} {parts[3]}" if parts[2] is not None else ""
        within = f" within {parts[5]}" if parts[5] is not None else ""
        return f"place {parts[0]} {parts[1]}{size} looks {parts[4]}{within}"
    if kind == "program":
        return f"program {parts[0]} is {parts[1]}"
    return str(parts[0])


def _is(expression: object, kind: str) -> bool:
    return isinstance(expression, Tree) and expression.data == kind


def _adds(expression: object) -> bool:
    return isinstance(expression, Tree) and expression.data == "reckoned" and str(expression.children[1]) in "+-"


def _inner(expression: object) -> str:
    return f"({say(expression)})" if _is(expression, "reckoned") else say(expression)


def quoted(text: str) -> str:
    """A plain text as it is written between quotes."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


_ESCAPES = {"n": "\n", "t": "\t", '"': '"', "\\": "\\", "{": "{", "}": "}"}


def unquote(quoted: str, *, line: int = 0, column: int = 0) -> str:
    """The text between quotes, with \\n, \\t, \\", \\\\, \\{ and \\} read.

    Raises:
        ProblemError: another character behind a backslash.
    """
    if not quoted.startswith('"'):
        return quoted
    out: list[str] = []
    chars = iter(enumerate(quoted[1:-1]))
    for _, char in chars:
        if char == "\\":
            index, escaped = next(chars)
            if escaped not in _ESCAPES:
                raise ProblemError(f"“\\{escaped}” is not an escape", line=line, column=column + index,
                                   hint=r'Available: \n, \t, \", \\, \{ and \}')
            out.append(_ESCAPES[escaped])
        else:
            out.append(char)
    return "".join(out)


@dataclass(eq=False, repr=False)
class Text:
    """A text with values in braces: `Level {level}`.  `parts` are pieces, each with the name of what follows it."""

    source: str
    parts: list[tuple[str, str]]

    @property
    def fixed(self) -> bool:
        """Whether it is the same for every press."""
        return not any(name for _, name in self.parts)

    def fill(self, values: Scope) -> str:
        """The text with its values."""
        return "".join(text + (tell_value(values[name]) if name else "") for text, name in self.parts)


def read_template(piece: Token, line: int, known: Known) -> Text:
    """The text between quotes, whose braces name values that are known.

    Raises:
        ProblemError: one is not, or something behind a backslash is not an escape.
    """
    raw, column = str(piece), piece.column or 1
    found = _take_apart(raw, line, column)
    place = 0
    for _, name in found.parts:
        if not name:
            continue
        place = raw.find("{", place + 1)
        if name not in known:
            at = column + max(0, place)
            if not name.replace("-", "").replace("_", "").isalnum():
                raise ProblemError("braces hold the name of a value, and nothing is reckoned there", line=line,
                                   column=at, hint=f"Write let result be {name} before it, and {{result}} here")
            raise ProblemError(f"there is no value called “{name}”", line=line, column=at,
                               hint=nearest(name, known) or r"A brace as itself is written \{")
        known.late |= known[name].kept
    return found


@lru_cache(maxsize=4096)
def template(raw: str) -> Text:
    """A text between quotes that was looked at before."""
    return _take_apart(raw, 0, 1)


def _take_apart(raw: str, line: int, column: int) -> Text:
    if "{" not in raw:
        return Text(raw, [(unquote(raw, line=line, column=column), "")])
    parts: list[tuple[str, str]] = []
    start, index = 1, 1
    while index < len(raw) - 1:
        if raw[index] == "\\":
            index += 2
        elif raw[index] == "{":
            end = raw.find("}", index)
            name = raw[index + 1:end].strip() if end > 0 else ""
            if not name:
                raise ProblemError("this brace names no value", line=line, column=column + index,
                                   hint=r"Write {name}; a brace as itself is written \{")
            parts.append((unquote(f'"{raw[start:index]}"', line=line, column=column + start - 1), name))
            index = start = end + 1
        else:
            index += 1
    parts.append((unquote(f'"{raw[start:-1]}"', line=line, column=column + start - 1), ""))
    return Text(raw, parts)
