"""Whole numbers in macros: what a press brings with it, arithmetic, comparisons.

Division drops the rest (7 / 2 is 3, -7 / 2 is -3) and % is what division leaves.  Numbers stay within 64 bits.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from lark import Token, Tree

from brass_pebble.core.say.problem import ProblemError, nearest

from .asks import Deciding, Window

# What is known of the press without anybody setting it, and what it means.
PRESS_VALUES = {
    "strength": "how hard it was pressed, 0 to 127; 127 for keys",
    "position": "where the axis or knob is, 0 to 100",
    "held": "for how many ms the control has been down",
    "number": "a number that was said or typed with it",
}
LARGEST = 2**63 - 1


def compute(expression: object, values: Mapping[str, int], line: int) -> int:
    """The value of an expression.

    Raises:
        ProblemError: a value that nobody set, a division by zero, or a number that is too large.
    """
    if isinstance(expression, Token):
        return int(expression)
    assert isinstance(expression, Tree)
    kind, parts = str(expression.data), expression.children
    if kind == "number":
        return int(str(parts[0]))
    if kind == "value":
        return values[str(parts[0])]
    if kind == "minus":
        return -compute(parts[1], values, line)
    if kind == "limited":
        sides = compute(parts[1], values, line), compute(parts[2], values, line)
        return min(sides) if parts[0] == "most" else max(sides)
    left, right = compute(parts[0], values, line), compute(parts[2], values, line)
    found = _reckon(left, str(parts[1]), right, line)
    if abs(found) > LARGEST:
        raise ProblemError(f"{left} {parts[1]} {right} is too large a number", line=line, hint="Use smaller numbers")
    return found


def _reckon(left: int, sign: str, right: int, line: int) -> int:
    if sign == "+":
        return left + right
    if sign == "-":
        return left - right
    if sign == "*":
        return left * right
    if right == 0:
        raise ProblemError("this divides by zero", line=line, hint="Check with if that it is not 0")
    whole = abs(left) // abs(right) * (1 if (left < 0) == (right < 0) else -1)
    return whole if sign == "/" else left - whole * right


_COMPARE: dict[str, Callable[[int, int], bool]] = {
    "=": lambda a, b: a == b, "!=": lambda a, b: a != b, "<": lambda a, b: a < b, ">": lambda a, b: a > b,
    "<=": lambda a, b: a <= b, ">=": lambda a, b: a >= b,
}


def decide(condition: object, values: Mapping[str, int], line: int) -> Deciding:
    """Whether a condition holds: a generator that asks about windows and returns the answer."""
    assert isinstance(condition, Tree)
    kind, parts = str(condition.data), condition.children
    if kind == "compared":
        return _COMPARE[str(parts[1])](compute(parts[0], values, line), compute(parts[2], values, line))
    if kind == "negated":
        return not (yield from decide(parts[0], values, line))
    if kind in ("both", "either"):
        first = yield from decide(parts[0], values, line)
        if first is (kind == "either"):
            return first
        return (yield from decide(parts[1], values, line))
    return bool((yield window_of(condition, 0, line)))


def window_of(condition: Tree[Token], limit: int, line: int) -> Window:
    """What a window condition asks."""
    by_class, text, state = condition.children
    return Window(line, limit, by_class is not None, unquote(str(text)), state == "focused")


def check_values(expression: object, known: set[str], line: int) -> None:
    """See that every value of an expression is set somewhere before, and every number is one.

    Raises:
        ProblemError: one is not; the hint names the nearest.
    """
    if not isinstance(expression, Tree):
        return
    if expression.data == "value":
        token = expression.children[0]
        assert isinstance(token, Token)
        if str(token) not in known:
            raise ProblemError(f"there is no value called “{token}”", line=line, column=token.column or 0,
                               hint=nearest(str(token), known) or f"Write let {token} be 0 before it; a press brings "
                               f"{', '.join(PRESS_VALUES)}")
    if expression.data == "number":
        token = expression.children[0]
        assert isinstance(token, Token)
        if not str(token).isdigit():
            raise ProblemError(f"“{token}” is not a whole number", line=line, column=token.column or 0,
                               hint="Values are whole numbers, without a unit")
        if int(str(token)) > LARGEST:
            raise ProblemError(f"“{token}” is too large", line=line, column=token.column or 0)
    for part in expression.children:
        check_values(part, known, line)


def is_fixed(expression: object) -> bool:
    """Whether an expression is the same for every press."""
    if not isinstance(expression, Tree):
        return True
    return expression.data not in ("value", "window") and all(is_fixed(part) for part in expression.children)


_ORDER = {"sum": 0, "product": 1, "factor": 2}


def say(expression: object) -> str:
    """An expression or condition as it is written."""
    if not isinstance(expression, Tree):
        return str(expression)
    kind, parts = str(expression.data), expression.children
    if kind == "minus":
        return f"-{_inner(parts[1])}"
    if kind == "limited":
        return f"{parts[0]}({say(parts[1])}, {say(parts[2])})"
    if kind == "reckoned":
        tight = str(parts[1]) in "*/%"
        left = _inner(parts[0]) if tight and _adds(parts[0]) else say(parts[0])
        right = _inner(parts[2]) if _is(parts[2], "reckoned") and (tight or _adds(parts[2])) else say(parts[2])
        return f"{left} {parts[1]} {right}"
    if kind == "compared":
        return f"{say(parts[0])} {parts[1]} {say(parts[2])}"
    if kind == "negated":
        return f"not {say(parts[0])}"
    if kind in ("both", "either"):
        return f"{say(parts[0])} {'and' if kind == 'both' else 'or'} {say(parts[1])}"
    if kind == "window":
        return f"window {'class ' if parts[0] else ''}{parts[1]} is {parts[2]}"
    return str(parts[0])


def _is(expression: object, kind: str) -> bool:
    return isinstance(expression, Tree) and expression.data == kind


def _adds(expression: object) -> bool:
    return isinstance(expression, Tree) and expression.data == "reckoned" and str(expression.children[1]) in "+-"


def _inner(expression: object) -> str:
    return f"({say(expression)})" if _is(expression, "reckoned") else say(expression)


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
