"""Macro text as the formatter writes it: one way of writing each line; notes, empty lines and order stay."""

from __future__ import annotations

from brass_pebble.core.say.durations import write_duration
from brass_pebble.core.say.problem import ProblemError

from .reader import parse, read_line
from .steps import SETTING_WORDS, SETTINGS, read_time, token
from .text_lines import content_lines, indent_of
from .value.kinds import Known
from .world_steps import STEPS

INDENT = "  "


def format_macro(text: str) -> str:
    """The text in its usual form.

    Raises:
        ProblemError: the text has a mistake; it is the first one.
    """
    problems = parse(text).problems
    if problems:
        first = problems[0]
        raise ProblemError(first.what, line=first.line, column=first.column, hint=first.hint)
    lines: list[str] = []
    depths: list[int] = [0]
    known = Known()
    opens = False
    blank = False
    raws = text.splitlines()
    text_lines = content_lines(raws)
    base, own = 0, 0
    for number, raw in enumerate(raws, 1):
        if (owner := text_lines.get(number - 1)) is not None:
            if owner == number - 2:
                # The block stands two spaces in from its step, and is otherwise as it was typed.
                base = min(indent_of(raws[at]) for at, one in text_lines.items() if one == owner and raws[at].strip())
                own = indent_of(lines[-1]) + len(INDENT)
            lines.append(" " * own + raw[base:].rstrip() if raw.strip() else "")
            continue
        content = raw.strip()
        if not content:
            # Several empty lines are one; none stands at the beginning.
            blank = bool(lines)
            continue
        width = len(raw) - len(raw.lstrip())
        if opens and width > depths[-1]:
            depths.append(width)
        while not content.startswith("#") and width < depths[-1]:
            depths.pop()
        if blank:
            lines.append("")
        blank = False
        depth = next((i for i in range(len(depths) - 1, -1, -1) if depths[i] <= width), 0)
        if content.startswith("#"):
            lines.append(f"{INDENT * depth}# {content[1:].strip()}".rstrip())
            continue
        body, note = split_note(content)
        line, opens = _line(body, number, known)
        lines.append(f"{INDENT * depth}{line}{f'  # {note}' if note else ''}")
    return "\n".join([*lines, ""]) if lines else ""


def _line(content: str, number: int, known: Known) -> tuple[str, bool]:
    """A line in its usual form, and whether a block stands below it."""
    rule, pieces = read_line(content, number)
    if rule in SETTINGS:
        piece = token(pieces[0])
        value = write_duration(read_time(piece, number) or 0) if piece.type == "AMOUNT" else " ".join(piece.split()) \
            if piece.type in ("POLICY", "OUTCOME") else str(piece)
        return f"{SETTING_WORDS[rule]} {value}", False
    step = STEPS[rule](number)
    step.read(pieces, known)
    return step.words(), step.takes_body


def split_note(content: str) -> tuple[str, str]:
    """A line without its note, and the note."""
    inside = False
    index = 0
    while index < len(content):
        char = content[index]
        if char == "\\" and inside:
            index += 1
        elif char == '"':
            inside = not inside
        elif char == "#" and not inside:
            return content[:index].rstrip(), content[index + 1:].strip()
        index += 1
    return content, ""
