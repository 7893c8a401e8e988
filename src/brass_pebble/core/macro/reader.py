"""Macro text to a `Macro`: the grammar reads each line, indentation makes the blocks.

Every line is read on its own, so one look finds every broken line.
"""

from __future__ import annotations

import re
from contextlib import suppress
from functools import cache
from importlib.resources import files

from lark import Lark, Token, Tree, UnexpectedCharacters, UnexpectedEOF, UnexpectedInput, UnexpectedToken

from ..problem import Problem, ProblemError, nearest
from .program import DEFAULT_GAP, DEFAULT_TAP, Macro, Timeline
from .steps import SETTINGS, STEPS, Piece, Step, lay_all

_EXPECTED = {
    "CHORD": "a key or chord, like Ctrl+Alt+F4",
    "AMOUNT": "a number with its unit, like 300ms",
    "TEXT": 'a text in double quotes, like "Rye"',
    "POLICY": "start over, ignore, queue or both",
    "WORD": "the name of a tint",
    "$END": "the end of the line",
}
_ONE_WORD = re.compile(r'"(?:\\.|[^"\\])*"?|[^\s]+')


@cache
def _grammar() -> Lark:
    text = (files("brass_pebble.core.macro") / "grammar.lark").read_text(encoding="utf-8")
    return Lark(text, parser="lalr", lexer="contextual", maybe_placeholders=True)


def read_macro(text: str, *, id: str = "", file: str = "", tap: int = DEFAULT_TAP,
               gap: int = DEFAULT_GAP) -> tuple[Macro, list[Problem]]:
    """Read a macro, and lay out its times.

    `tap` and `gap` are the desk's default tap length and the pause between two taps, in ns.  With problems,
    the macro's program is empty; what could be read of its name and label is there.
    """
    macro = Macro(id=id, name=id, source=text)
    problems: list[Problem] = []
    times = {"taps": tap, "gaps": gap}
    steps: list[Step] = []
    blocks: list[tuple[int, list[Step], Step | None]] = [(0, steps, None)]
    seen_step = False
    for number, raw in enumerate(text.splitlines(), 1):
        content = raw.strip()
        if not content or content.startswith("#"):
            continue
        try:
            indent = _indent(raw, number)
            tree = _read_line(raw, number)
            pieces = [_piece(token) for token in tree.children]
            if tree.data in SETTINGS:
                if seen_step or indent:
                    raise ProblemError(f"“{tree.data}” is a setting and stands too late", line=number,
                                       column=indent + 1, hint="Put it at the top, before the first step")
                assert pieces[0] is not None
                SETTINGS[tree.data](macro, times, pieces[0], number)
                continue
            seen_step = True
            step = STEPS[tree.data](number)
            _place(step, indent, blocks)
            step.read(pieces)
        except ProblemError as error:
            found = error.problem
            problems.append(Problem(found.what, file, found.line or number, found.column, found.hint))
            opener = STEPS.get(content.split()[0])
            if opener is not None and opener.takes_body and found.column > _width(raw) + 1:
                _stand_in(opener(number), _width(raw), blocks)
    try:
        _close(blocks, 0)
    except ProblemError as error:
        problems.append(Problem(error.problem.what, file, error.problem.line, 0, error.problem.hint))
    if not problems:
        timeline = Timeline(tap=times["taps"], gap=times["gaps"])
        try:
            lay_all(steps, timeline)
            macro.program = timeline.finish()
        except ProblemError as error:
            found = error.problem
            problems.append(Problem(found.what, file, found.line, found.column, found.hint))
    return macro, problems


def _width(raw: str) -> int:
    return len(raw) - len(raw.lstrip())


def _stand_in(step: Step, indent: int, blocks: list[tuple[int, list[Step], Step | None]]) -> None:
    """Let a broken line open its block all the same, so that the lines in it are not called wrong too."""
    if blocks[-1][2] is not None and blocks[-1][2].line == step.line:
        return
    with suppress(ProblemError):
        _place(step, indent, blocks)


def _indent(raw: str, number: int) -> int:
    space = raw[: len(raw) - len(raw.lstrip())]
    if "\t" in space:
        raise ProblemError("this line is indented with a tab", line=number, column=1,
                           hint="Indent with two spaces for each block")
    return len(space)


def _place(step: Step, indent: int, blocks: list[tuple[int, list[Step], Step | None]]) -> None:
    """Put a step into the block that its indentation tells."""
    column, siblings, owner = blocks[-1]
    if owner is not None and not siblings:
        opened_at = blocks[-2][0]
        if indent > opened_at:
            blocks[-1] = (indent, siblings, owner)
        else:
            _close(blocks, indent)
    elif indent > column:
        raise ProblemError("this line is indented deeper than the block it stands in", line=step.line,
                           column=indent + 1, hint="Only the lines under repeat and keep are indented")
    else:
        _close(blocks, indent)
    column, siblings, _ = blocks[-1]
    if indent != column:
        raise ProblemError("the indentation of this line fits no block above it", line=step.line,
                           column=indent + 1, hint=f"Use {column} spaces, as the block above")
    siblings.append(step)
    if step.takes_body:
        blocks.append((indent + 1, step.body, step))


def _close(blocks: list[tuple[int, list[Step], Step | None]], indent: int) -> None:
    """End the blocks that stand deeper than `indent`."""
    while len(blocks) > 1 and blocks[-1][0] > indent:
        _, body, owner = blocks.pop()
        if owner is not None and not body:
            word = type(owner).__name__.lower()
            raise ProblemError(f"this {word} has no steps", line=owner.line,
                               hint="Write them below it, indented by two spaces")


def _piece(token: object) -> Piece | None:
    if token is None:
        return None
    assert isinstance(token, Token)
    return Piece(token.type, str(token), token.column or 1)


def _read_line(raw: str, number: int) -> Tree[Token]:
    try:
        tree = _grammar().parse(raw)
        inner = tree.children[0]
        assert isinstance(inner, Tree)
        return inner
    except UnexpectedInput as error:
        raise _explain(error, raw, number) from None


def _explain(error: UnexpectedInput, raw: str, number: int) -> ProblemError:
    """What was expected, in words, and the nearest word that would fit."""
    expected: set[str] = set()
    column = len(raw.rstrip()) + 1
    if isinstance(error, UnexpectedCharacters):
        expected, column = set(error.allowed or ()), error.column
    elif isinstance(error, UnexpectedEOF):
        expected = set(error.expected or ())
    elif isinstance(error, UnexpectedToken):
        expected = set(error.accepts or error.expected)
        if error.token.type != "$END":
            column = error.column
    expected -= {"COMMENT", "SPACE"}
    match = _ONE_WORD.match(raw, column - 1)
    word = match.group() if match else ""
    keywords = sorted(name[1:].lower() for name in expected if name.startswith("_"))
    others = [_EXPECTED[name] for name in sorted(expected) if name in _EXPECTED]
    if word.startswith('"') and "TEXT" in expected:
        return ProblemError("the text is not closed", line=number, column=column,
                            hint='End it with a double quote; a quote inside is written \\"')
    wanted = " or ".join([*others, *(f"“{name}”" for name in keywords)])
    if len(keywords) > 4:
        wanted = "a step like tap, down, up, wait, type, repeat or keep"
    if not word:
        return ProblemError("the line ends too early", line=number, column=column, hint=f"Here belongs {wanted}")
    if "AMOUNT" not in expected and len(keywords) > 4:
        return ProblemError(f"“{word}” is not a step", line=number, column=column,
                            hint=nearest(word, keywords) or f"Here belongs {wanted}")
    hint = nearest(word, keywords) if keywords else ""
    return ProblemError(f"“{word}” does not fit here", line=number, column=column,
                        hint=hint or f"Here belongs {wanted}")
