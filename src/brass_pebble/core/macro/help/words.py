"""What the grammar knows of a line that is being written: what stands where, for colours, and what could come next, for
completion.  Everything is asked of the grammar itself; no word is listed twice."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cache, lru_cache

from lark import Token
from lark.exceptions import LarkError

from brass_pebble.core.macro.reader import LONGEST_LINE, grammar
from brass_pebble.core.macro.renamed import RENAMED
from brass_pebble.core.macro.value.functions import FUNCTIONS
from brass_pebble.core.macro.value.kinds import Known
from brass_pebble.core.macro.writer import split_note
from brass_pebble.core.signals.keys import key_table

# What stands in a line, for colours.
STEP, WORD, KEY, TEXT, NUMBER, VALUE, FUNCTION, NOTE = (
    "step", "word", "key", "text", "number", "value", "function", "note")
_OF_TERMINAL = {
    "CHORD": KEY, "TEXT": TEXT, "AMOUNT": NUMBER, "NUMBER": NUMBER, "FIGURE": NUMBER, "COORDINATE": NUMBER,
    "VALUE": VALUE, "FUNCTION": FUNCTION, "NAMED": TEXT, "WHOM": TEXT, "WORD": TEXT, "LEVEL_OF": KEY,
    "BUTTON_NAME": KEY,
}
# The longest list of what could come next.
MOST_OFFERS = 60


@dataclass(frozen=True)
class Piece:
    """A part of a line, by its columns from 0, and what it is."""

    start: int
    end: int
    what: str


@lru_cache(maxsize=16_384)
def pieces_of(line: str) -> tuple[Piece, ...]:
    """What stands where in a line, as far as it can be read."""
    if len(line) > LONGEST_LINE:
        return ()
    body, note = split_note(line)
    found = []
    first = True
    try:
        for token in grammar().parse_interactive(body).iter_parse():
            start = (token.column or 1) - 1
            what = _what_of(token, first=first)
            first = False
            if what:
                found.append(Piece(start, start + len(token), what))
    except LarkError:
        # What stands behind the mistake has no colour.
        pass
    if note or "#" in line[len(body):]:
        found.append(Piece(line.index("#", len(body)), len(line), NOTE))
    return tuple(found)


def _what_of(token: Token, *, first: bool) -> str:
    if first:
        return STEP
    if token.type in _OF_TERMINAL:
        return _OF_TERMINAL[token.type]
    return WORD if str(token)[0].isalpha() else ""


@cache
def _words_of_terminal(name: str) -> tuple[str, ...]:
    """The words that a terminal of the grammar stands for; none if it stands for what a person makes up."""
    if name in _OF_TERMINAL or name in ("COMMENT", "SPACE"):
        return ()
    terminal = next((each for each in grammar().terminals if each.name == name), None)
    if terminal is None:
        return ()
    return tuple(word for word in _expand(str(terminal.pattern.value)) if re.fullmatch(r"[a-z][a-z -]*", word)
                 and word not in RENAMED)


def keywords() -> set[str]:
    """Every word of the grammar."""
    return {word for terminal in grammar().terminals for word in _words_of_terminal(terminal.name)}


def _expand(pattern: str) -> list[str]:
    """The words of a pattern made of letters, alternatives and blanks."""
    plain = pattern.replace(r"\b", "").replace(" +", " ")
    plain = re.sub(r"\(\?=.*?\)$", "", plain)
    if plain.endswith("s?") and plain[:-2].isalpha():
        return [plain[:-2] + "s"]
    match = re.fullmatch(r"\(([a-z| ]+)\)", plain)
    if match:
        return match[1].split("|")
    return plain.split("|") if "(" not in plain and "[" not in plain else []


@dataclass(frozen=True)
class Names:
    """What a person has made up and could mean: macros, layers, windows, files, programs."""

    macros: tuple[str, ...] = ()
    layers: tuple[str, ...] = ()
    windows: tuple[str, ...] = ()
    classes: tuple[str, ...] = ()
    programs: tuple[str, ...] = ()
    files: tuple[str, ...] = ()
    values: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Offer:
    """What could be written, from a column on (from 0), and what it is."""

    start: int
    word: str
    what: str


_BEGUN = re.compile(r"[A-Za-z0-9_+-]*$")
_QUOTE = re.compile(r'(?<!\\)"')


def offers(line: str, column: int, names: Names) -> list[Offer]:
    """What could stand at a place of a line, beginning with what is written there already."""
    before = line[:column]
    if split_note(before)[1] or len(before) > LONGEST_LINE:
        return []
    if (brace := re.search(r"\{([a-z0-9_]*)$", before)) is not None and len(_QUOTE.findall(before)) % 2:
        return _fitting(((name, VALUE) for name in names.values), brace[1], column - len(brace[1]))
    quotes = [found.start() for found in _QUOTE.finditer(before)]
    begun = _BEGUN.search(before)
    written = before[quotes[-1]:] if len(quotes) % 2 else begun[0] if begun is not None else ""
    head = before[:len(before) - len(written)]
    accepted = _accepted(head)
    if accepted is None:
        return []
    found: list[tuple[str, str]] = []
    for name in sorted(accepted):
        found += [(word, WORD) for word in _words_of_terminal(name)]
    found.sort()
    start = column - len(written)
    if "CHORD" in accepted:
        # The last key of the chord is the one that is being written.
        joined, plus, last = written.rpartition("+")
        found += [(f"{joined}{plus}{key}", KEY) for key in _key_names() if last or plus]
    if "VALUE" in accepted:
        found += [(name, VALUE) for name in names.values]
    if "FUNCTION" in accepted:
        found += [(f"{name}(", FUNCTION) for name in FUNCTIONS]
    if "NAMED" in accepted:
        layer = head.strip().startswith("layer")
        found += [(name, TEXT) for name in (names.layers if layer else names.macros)]
    if "LEVEL_OF" in accepted:
        from brass_pebble.core.effects.drive import PAD_AXES
        found += [(f"controller {axis}", KEY) for axis in PAD_AXES]
    if "BUTTON_NAME" in accepted:
        from brass_pebble.core.effects.pad_buttons import PAD_BUTTONS
        found += [(button, KEY) for button in PAD_BUTTONS]
    if "WHOM" in accepted:
        found += [("others", WORD), ("here", WORD), *((f'"{name}"', TEXT) for name in names.macros)]
    if "TEXT" in accepted:
        found += [(f'"{name}"', TEXT) for name in _texts(head, names)]
    return _fitting(found, written, start)


def _texts(head: str, names: Names) -> tuple[str, ...]:
    words = head.split()
    if "window" in words[-2:]:
        return names.classes if words[-1] == "class" else names.windows
    if words[-1:] == ["class"]:
        return names.classes
    if words and words[-1] in ("program", "open", "start", "run", "command"):
        return names.programs
    return names.files if words[-1:] == ["file"] else ()


def _fitting(found: Iterable[tuple[str, str]], written: str, start: int) -> list[Offer]:
    folded = written.casefold()
    rows = dict.fromkeys((word, what) for word, what in found
                         if word.casefold().startswith(folded) and word.casefold() != folded)
    return [Offer(start, word, what) for word, what in rows][:MOST_OFFERS]


@cache
def _key_names() -> tuple[str, ...]:
    return tuple(sorted({key.name for key in key_table().by_code.values()}))


@lru_cache(maxsize=4_096)
def _accepted(head: str) -> frozenset[str] | None:
    """The terminals that the grammar takes behind the beginning of a line; None if the beginning is wrong."""
    parser = grammar().parse_interactive(head)
    try:
        parser.exhaust_lexer()
        return frozenset(map(str, parser.accepts()))  # type: ignore[no-untyped-call]
    except LarkError:
        return None


def values_named(known: Known) -> dict[str, str]:
    """The values that a text has set, and what kind each is."""
    return {name: named.kind for name, named in known.items()}
