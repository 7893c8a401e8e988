"""Macro text to a `Macro`: the grammar reads each line, indentation makes the blocks.

Every line is read on its own, so one look finds every broken line.  `parse` reads one text; `link` joins macros that
play one another, and lays out their times.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from functools import cache, lru_cache, partial
from importlib.resources import files
from typing import Any

from lark import Lark, Token, Tree, UnexpectedCharacters, UnexpectedEOF, UnexpectedInput, UnexpectedToken

from brass_pebble.core.effects.gate import Rights
from brass_pebble.core.effects.reach import Reach
from brass_pebble.core.macro.asks import Finish, GaveUp, Unforeseen
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.problem import Problem, ProblemError, nearest
from brass_pebble.core.signals.keymap import Typist, keymap

from .asks import CatchUp
from .guests.closure import Called, Callers
from .guests.reach import Asleep, Guest, keys_reach, lulled_play, put_to_sleep
from .renamed import RENAMED
from .steps import SETTINGS, Kept, Otherwise, Repeat, Step, Type
from .text_lines import content_lines
from .timetable import DEFAULT_GAP, DEFAULT_TAP, MOST_EVENTS, Macro, Score, Timeline, Timetable
from .value.kinds import Given, Known, Scope
from .value.reckon import compute, is_fixed
from .world_steps import STEPS, Play, unknown_macro

_EXPECTED = {
    "LEVEL_OF": "what has a level, like controller x, cc 7 on 1 or osc /level to 127.0.0.1:9000",
    "BUTTON_NAME": "a button, like south",
    "CHORD": "a key or chord, like Ctrl+Alt+F4",
    "AMOUNT": "a number with its unit, like 300ms",
    "TEXT": 'a text in double quotes, like "Rye"',
    "POLICY": "start over, ignore, queue or both",
    "OUTCOME": "end or go on",
    "WORD": "the name of a tint",
    "NUMBER": "a whole number",
    "VALUE": "the name of a value",
    "NAMED": "a macro's or layer's name",
    "WHOM": "others, here, or a macro's name in quotes",
    "SIDE": "left, right or middle",
    "BY_OR_TO": "by or to",
    "COORDINATE": "a place in pixels or per cent",
    "DIRECTION": "up, down, left or right",
    "WINDOW_STATE": "there, focused or gone",
    "PROGRAM_STATE": "there or gone",
    "WINDOW_DEED": "focus, raise or minimise",
    "LAYER_STATE": "on or off",
    "METHOD": "get, post or put",
    "EACH_OF_THEM": "every",
    "COMPARES": "= != < > <= >=, contains, begins with or ends with",
    "FUNCTION": "a function like upper(",
    "$END": "the end of the line",
}
_WORDS = {"PRESS_OR_RELEASE": ("press", "release"), "TWICE": ("twice",), "CLASS": ("class",), "SHELL": ("shell",),
          "AT_OR_BY": ("at", "by"), "MESSAGE_KIND": ("line", "message"), "UDP": ("by udp",),
          "REMEMBER": ("remember",), "BACK": ("back",),
          "PAD_DEED": ("tap", "press", "release"),
          "CLEARING": ("clearing indents",),
          "SIDE": ("left", "right", "middle"), "BY_OR_TO": ("by", "to"), "DIRECTION": ("up", "down", "left", "right"),
          "WINDOW_STATE": ("there", "focused", "gone"), "PROGRAM_STATE": ("there", "gone"),
          "WINDOW_DEED": ("focus", "raise", "minimise"), "LAYER_STATE": ("on", "off"), "METHOD": ("get", "post", "put"),
          "OUTCOME": ("end", "go on"), "POLICY": ("start over", "ignore", "queue", "both")}
_ONE_WORD = re.compile(r'"(?:\\.|[^"\\])*"?|[^\s]+')
PREVIEW_TURNS = 3
# So many mistakes of one text are told.
MOST_PROBLEMS = 100
# Where so many words may follow, a line begins.
STEP_WORDS = 10
# What a text may be: enough for whatever a person writes, too little to hold anybody up.
LONGEST_TEXT, LONGEST_LINE, MOST_LINES = 4_000_000, 10_000, 50_000
DEEPEST_BLOCK, DEEPEST_EXPRESSION, DEEPEST_PLAY = 32, 60, 50
# A run that asks more often than this within one instant has no end.
MOST_ASKS = 1_000_000


@cache
def grammar() -> Lark:
    """The grammar of a line."""
    text = (files("brass_pebble.core.macro") / "grammar.lark").read_text(encoding="utf-8")
    return Lark(text, parser="lalr", lexer="contextual", maybe_placeholders=True)


@dataclass
class Draft:
    """One text as read, before it is known what the macros it plays are."""

    macro: Macro
    steps: list[Step] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)
    times: tuple[int, int] = (DEFAULT_TAP, DEFAULT_GAP)
    file: str = ""
    # From whom it came, and what of it is approved; None for a macro of the person's own.
    guest: Guest | None = None
    # What its keys come to, if that reaches outside and it is a guest; and whether it sleeps for that.
    keys: Reach | None = None
    lulled: bool = False
    # The values that it has set by its end.
    known: Known = field(default_factory=Known)

    @property
    def rights(self) -> Rights | None:
        """What it may do, by the gate; None for a macro of the person's own."""
        if self.guest is None:
            return None
        return Rights(f"“{self.macro.name}” from {self.guest.origin}", types=self.keys is not None and not self.lulled,
                      opening=self.guest.opening)

    @property
    def plays_as(self) -> list[Step]:
        """Its steps as they are played."""
        if self.lulled and self.keys is not None:
            return [Asleep(0, says=f"tap keys that come to “{self.keys.text}”")]
        return self.steps

    def let_in(self, guest: Guest | None) -> None:
        """It came from somebody else: what is not approved of it sleeps."""
        self.guest = guest
        if guest is not None:
            put_to_sleep(self.steps, guest)


class Remembered(Draft):
    """A macro that was read at an earlier start: it is taken apart only when somebody asks for its steps.

    `row` is what it was made from.
    """

    def __init__(self, macro: Macro, *, file: str, times: tuple[int, int], row: dict[str, object] | None) -> None:
        self.row = row
        self._known: list[Step] | None = None
        super().__init__(macro, file=file, times=times)
        self._known = None
        if macro.types_text:
            macro.lay_locked = self._lay_locked

    # The keyboard that it was laid for; needed under Caps Lock only.
    typist: Typist | None = None

    def _lay_locked(self) -> Timetable:
        return preview(Score(self.steps, *self.times, self.typist or keymap()), locked=True)

    @property
    def steps(self) -> list[Step]:
        """Its steps, taken apart now if they were not before."""
        if self._known is None:
            self._known = parse(self.macro.source, id=self.macro.id, file=self.file, tap=self.times[0],
                                gap=self.times[1]).steps
        return self._known

    @steps.setter
    def steps(self, steps: list[Step]) -> None:
        self._known = steps


def read_macro(text: str, *, id: str = "", file: str = "", tap: int = DEFAULT_TAP, gap: int = DEFAULT_GAP,
               typist: Typist | None = None, others: Mapping[str, Draft] | None = None) -> tuple[Macro, list[Problem]]:
    """Read a macro, and lay out its times.

    `tap` and `gap` are the desk's default tap length and the pause between two taps, in ns; `typist` knows the
    keyboard layout; `others` are the macros that it may play.  With problems, the macro's program is empty; what could
    be read of its name and label is there.
    """
    draft = parse(text, id=id, file=file, tap=tap, gap=gap)
    link({**(others or {}), id: draft}, typist, only=(id,))
    return draft.macro, draft.problems


def parse(text: str, *, id: str = "", file: str = "", tap: int = DEFAULT_TAP, gap: int = DEFAULT_GAP) -> Draft:
    """Read a text.  Its problems are in the draft."""
    macro = Macro(id=id, name=id, source=text)
    draft = Draft(macro, file=file)
    problems, steps = draft.problems, draft.steps
    times = {"taps": tap, "gaps": gap}
    known = draft.known = Known()
    blocks: list[tuple[int, list[Step], Step | None]] = [(0, steps, None)]
    seen_step = False
    if len(text) > LONGEST_TEXT:
        problems.append(Problem(f"the macro has more than {LONGEST_TEXT:,} characters", file,
                                hint="Split it into several macros"))
        return draft
    lines = text.splitlines()
    content = content_lines(lines)
    if len(lines) > MOST_LINES:
        problems.append(Problem(f"the macro has more than {MOST_LINES:,} lines", file, MOST_LINES + 1,
                                hint="Split it into several macros, or repeat what comes again"))
        return draft
    for number, raw in enumerate(lines, 1):
        words = raw.strip()
        if not words or words.startswith("#") or number - 1 in content:
            continue
        try:
            indent = _indent(raw, number)
            rule, pieces = read_line(raw, number)
            if rule in SETTINGS:
                if seen_step or indent:
                    raise ProblemError(f"“{rule}” is a setting and comes too late", line=number,
                                       column=indent + 1, hint="Put it at the top, before the first step")
                SETTINGS[rule](macro, times, pieces[0], number)  # type: ignore[arg-type]
                continue
            seen_step = True
            step = STEPS[rule](number)
            _place(step, indent, blocks)
            known.late = False
            step.read(pieces, known)
            if step.takes_lines:
                step.take_lines([lines[at] for at, owner in content.items() if owner == number - 1], known)
            step.late = known.late
            macro.drives_controller |= step.drives_controller
            if isinstance(step, Kept):
                macro.keeps[step.name] = step.first
        except ProblemError as error:
            found = error.problem
            problems.append(Problem(found.what, file, found.line or number, found.column, found.hint))
            opener = STEPS.get(words.split()[0])
            if opener is not None and opener.takes_body and found.column > _width(raw) + 1:
                _stand_in(opener(number), _width(raw), blocks)
        except Exception as error:
            # Whatever it is, it concerns this line and no other file.
            problems.append(Problem(f"this line cannot be read: {error or type(error).__name__}", file, number,
                                    hint="Write it in a simpler way"))
        if len(problems) >= MOST_PROBLEMS:
            break
    try:
        _close(blocks, 0)
    except ProblemError as error:
        problems.append(Problem(error.problem.what, file, error.problem.line, 0, error.problem.hint))
    draft.times = times["taps"], times["gaps"]
    return draft


def link(drafts: Mapping[str, Draft], typist: Typist | None = None, *,
         only: Collection[str] | None = None, told: Callable[[str], None] | None = None) -> None:
    """Join macros that play one another, and lay out each (or `only` some): its program, or its score if it is live.

    `told(file)` hears of each before.
    """
    joining = _Joining(drafts, typist)
    for name, draft in drafts.items():
        if (only is not None and name not in only) or draft.problems:
            continue
        if told is not None:
            told(draft.file)
        try:
            _lay(draft, joining.facts(draft), typist)
        except ProblemError as error:
            found = error.problem
            draft.problems.append(Problem(found.what, draft.file, found.line, found.column, found.hint))
        except Exception as error:
            draft.problems.append(Problem(f"it has no timetable: {error or type(error).__name__}", draft.file,
                                          hint="Write it in a simpler way"))
        if draft.problems:
            draft.macro.score = None


def walk(steps: Iterable[Step]) -> Iterable[Step]:
    """All steps, with those in blocks and under otherwise, in the order of the text; those that sleep, too."""
    for one in steps:
        step = one.inner if isinstance(one, Asleep) and one.inner else one
        yield step
        yield from walk(step.body)
        if step.otherwise is not None:
            yield step.otherwise
            yield from walk(step.otherwise.body)


@dataclass(frozen=True)
class Facts:
    """What is known of steps with all that they play: whether they are the same for every press, whether they type a
    text, about how many they come to, and how deep they play one another."""

    fixed: bool
    types: bool
    weight: int
    depth: int


class _Joining:
    """Joins macros with those that they play.  Each is read one time, however often it is played."""

    def __init__(self, drafts: Mapping[str, Draft], typist: Typist | None) -> None:
        self._drafts, self._typist = drafts, typist
        self._callers = Callers([Called(name, draft.macro.name, draft.guest.origin if draft.guest is not None else "")
                                 for name, draft in drafts.items()])
        self._found: dict[int, Facts | ProblemError] = {}
        self._path: list[Draft] = []

    def facts(self, draft: Draft) -> Facts:
        """What is known of a macro, whose steps are joined by then.

        Raises:
            ProblemError: it plays something that is not there, is broken, or plays it in turn.
        """
        known = self._found.get(id(draft))
        if known is None:
            if len(self._path) >= DEEPEST_PLAY:
                raise ProblemError(f"macros play one another more than {DEEPEST_PLAY} deep",
                                   hint="Let this one do it itself")
            self._path.append(draft)
            try:
                known = self._join(draft.steps)
                if draft.guest is not None and self._lulls(draft):
                    known = Facts(False, False, 1, 0)
            except ProblemError as error:
                known = error
            finally:
                self._path.pop()
            self._found[id(draft)] = known
        if isinstance(known, ProblemError):
            raise known
        return known

    def _join(self, steps: list[Step]) -> Facts:
        fixed, types, weight, depth = True, False, 0, 0
        guest = self._path[-1].guest
        for index, step in enumerate(steps):
            found = self._facts_of(step)
            if isinstance(step, Play) and guest is not None and isinstance(lulled_play(step, guest), Asleep):
                steps[index] = lulled_play(step, guest)
                found = Facts(False, found.types, found.weight, found.depth)
            fixed, types = fixed and found.fixed, types or found.types
            weight, depth = weight + found.weight, max(depth, found.depth)
        return Facts(fixed, types, weight, depth)

    def _facts_of(self, step: Step) -> Facts:
        if isinstance(step, Play):
            inner = self._played(step)
            return Facts(inner.fixed, inner.types, inner.weight + 1, inner.depth + 1)
        inner = self._join(step.body)
        weight, types = inner.weight, inner.types or isinstance(step, Type)
        if step.otherwise is not None:
            other = self._facts_of(step.otherwise)
            weight, types = max(weight, other.weight), types or other.types
        turns = 1
        if isinstance(step, Repeat) and is_fixed(step.count):
            turns = max(0, int(compute(step.count, Scope(Given()), step.line)))
        weight = 1 + weight * turns + (turns - 1 if turns > 1 else 0)
        if weight > MOST_EVENTS:
            raise ProblemError(f"the macro has more than {MOST_EVENTS:,} events", line=step.line,
                               hint="Repeat fewer times, or split it into several macros")
        return Facts(step.fixed and inner.fixed, types, weight, inner.depth)

    def _lulls(self, draft: Draft) -> bool:
        """Whether a guest sleeps for what its keys come to: that is as good as a text that it types."""
        assert draft.guest is not None
        score = Score(draft.steps, *draft.times, self._typist or keymap())
        draft.keys = keys_reach(draft.steps, preview(score), self._typist or keymap(),
                                draft.guest.whole, draft.guest.opening)
        draft.lulled = draft.keys is not None and not draft.guest.approves(draft.keys.mark)
        return draft.lulled

    def _played(self, step: Play) -> Facts:
        """Join one macro with another that it plays."""
        guest = self._path[-1].guest
        found_id = self._callers.find(step.name, guest.origin if guest is not None else "")
        if found_id is None:
            raise unknown_macro(step, {name: d.macro for name, d in self._drafts.items()})
        other = self._drafts[found_id]
        if other in self._path:
            names = " plays ".join(f"“{d.macro.name}”" for d in [*self._path[self._path.index(other):], other])
            raise ProblemError(f"this never ends: {names}", line=step.line, column=step.column,
                               hint="Have one of them play something else")
        if other.problems:
            raise ProblemError(f"the macro “{other.macro.name}” has a mistake in line {other.problems[0].line}",
                               line=step.line, column=step.column, hint=other.problems[0].what)
        try:
            found = self.facts(other)
        except ProblemError as error:
            # Told where this macro plays it; the other one tells its own line.
            raise ProblemError(error.problem.what, line=step.line, column=step.column,
                               hint=error.problem.hint) from None
        step.target, step.written, step.times = other.plays_as, other.steps, other.times
        step.target_fixed, step.rights = found.fixed, other.rights
        return found


def _lay(draft: Draft, facts: Facts, typist: Typist | None) -> None:
    macro, (tap, gap) = draft.macro, draft.times
    typist = typist or keymap()
    if facts.weight > MOST_EVENTS:
        raise ProblemError(f"the macro has more than {MOST_EVENTS:,} events",
                           hint="Repeat fewer times, or split it into several macros")
    score = Score(draft.plays_as, tap, gap, typist, draft.rights)
    live = not facts.fixed
    macro.types_text = facts.types
    macro.timetable = preview(score, marks=macro.marks)
    if macro.types_text and not live:
        # Under Caps Lock a text takes other strokes: what it is then, is asked for each run.
        macro.lay_locked = partial(preview, score, locked=True)
    macro.score = score if live else None


def preview_timeline(draft: Draft) -> Timeline:
    """An empty timeline with a draft's own times."""
    return Timeline(tap=draft.times[0], gap=draft.times[1], keymap=keymap())


def preview(score: Score, *, locked: bool = False, given: Given | None = None,
            marks: list[tuple[int, int, str]] | None = None) -> Timetable:
    """What a run would send if the press were an ordinary one, and every window came at once.

    `marks` takes up what it would do beside keys.

    Raises:
        ProblemError: a step cannot be laid.
    """
    turns = iter(range(PREVIEW_TURNS))
    given = given or Given(is_held=lambda: next(turns, None) is not None)
    timeline, laying = score.start(given, locked=locked)
    answer: object = None
    try:
        for _ in range(MOST_ASKS):
            ask = laying.send(answer)
            answer = None if isinstance(ask, CatchUp) else True
            if answer and marks is not None:
                marks.append((timeline.now, ask.line, ask.told))
    except (StopIteration, Finish, GaveUp, Unforeseen):
        # With other values it may go on.
        pass
    return timeline.finish()


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
        raise ProblemError("this line is indented more than its block", line=step.line,
                           column=indent + 1,
                           hint="Only the lines under repeat, keep, beat, if and otherwise are indented")
    else:
        _close(blocks, indent)
    column, siblings, _ = blocks[-1]
    if isinstance(step, Otherwise) and indent == column:
        before = siblings[-1] if siblings else None
        if before is None or not before.takes_otherwise or before.otherwise is not None:
            raise ProblemError("this otherwise does not follow a step that has another way", line=step.line,
                               column=indent + 1,
                               hint="Put it directly after an if, wait until, ask or read, as far in as that")
        before.otherwise = step
        blocks.append((indent + 1, step.body, step))
        return
    if indent != column:
        raise ProblemError("the indentation of this line does not match any block above it", line=step.line,
                           column=indent + 1, hint=f"Use {column} spaces, as the block above")
    siblings.append(step)
    if step.takes_body and len(blocks) > DEEPEST_BLOCK:
        raise ProblemError(f"blocks are nested more than {DEEPEST_BLOCK} deep", line=step.line,
                           column=indent + 1, hint="Move the inner ones to a macro of their own and play it")
    if step.takes_body:
        blocks.append((indent + 1, step.body, step))


def _close(blocks: list[tuple[int, list[Step], Step | None]], indent: int) -> None:
    """End the blocks that stand deeper than `indent`."""
    while len(blocks) > 1 and blocks[-1][0] > indent:
        _, body, owner = blocks.pop()
        if owner is not None and not body:
            word = _WORD_OF.get(type(owner).__name__, type(owner).__name__.lower())
            raise ProblemError(f"this {word} has no steps", line=owner.line,
                               hint="Write them below it, indented by two spaces")


_WORD_OF = {"RepeatWhile": "repeat", "RepeatUntil": "repeat"}


Pieces = tuple[Token | Tree[Token] | None, ...]
# Lines as they were taken apart at an earlier start, as plain data: for these no grammar has to be put together.
_at_hand: dict[str, Any] = {}
MOST_AT_HAND = 2_000


def have_lines_at_hand(lines: Mapping[str, Any]) -> None:
    """Take up what `lines_as_data` gave at an earlier start.  What is not as it should be is read again."""
    _at_hand.clear()
    _at_hand.update(list(lines.items())[:MOST_AT_HAND])


def lines_as_data(text: str) -> dict[str, Any]:
    """How each line of a macro's text is taken apart, as plain data; without those that are not understood."""
    found = {}
    lines = text.splitlines()
    content = content_lines(lines)
    for index, raw in enumerate(lines):
        if index not in content and raw.strip() and not raw.strip().startswith("#") and len(raw) <= LONGEST_LINE:
            with suppress(UnexpectedInput, ProblemError):
                rule, pieces = _tree(raw)
                found[raw] = [rule, [_as_data(piece) for piece in pieces]]
    return found


def _as_data(piece: Token | Tree[Token] | None) -> Any:
    if piece is None:
        return None
    if isinstance(piece, Token):
        return [piece.type, str(piece), piece.column]
    return {str(piece.data): [_as_data(part) for part in piece.children]}


def _from_data(data: Any) -> Any:
    match data:
        case None:
            return None
        case [str(kind), str(value), int(column)]:
            return Token(kind, value, line=1, column=column)
        case dict() if len(data) == 1:
            (name, parts), = data.items()
            return Tree(Token("RULE", name), [_from_data(part) for part in parts])
        case _:
            raise ValueError(f"{data!r} is not part of a line")


@lru_cache(maxsize=32768)
def _tree(content: str) -> tuple[str, Pieces]:
    if (data := _at_hand.get(content)) is not None:
        with suppress(ValueError, TypeError, LookupError, RecursionError):
            if data[0] in STEPS or data[0] in SETTINGS:
                return data[0], tuple(_from_data(part) for part in data[1])
    tree = grammar().parse(content)
    inner = tree.children[0]
    assert isinstance(inner, Tree)
    if _deeper(inner, DEEPEST_EXPRESSION):
        raise ProblemError(f"this line is nested more than {DEEPEST_EXPRESSION} deep", column=1,
                           hint="Calculate in several steps, with let")
    return str(inner.data), tuple(inner.children)


def _deeper(tree: Tree[Token], most: int) -> bool:
    level = [tree]
    for _ in range(most):
        level = [part for one in level for part in one.children if isinstance(part, Tree)]
        if not level:
            return False
    return True


def read_line(raw: str, number: int) -> tuple[str, Pieces]:
    """The rule that a line follows, and its pieces; columns count from the line's beginning."""
    if len(raw) > LONGEST_LINE:
        raise ProblemError(f"this line has {say_count(len(raw), 'character')}, and at most {LONGEST_LINE:,} are "
                           "read", line=number,
                           column=1, hint="Split it into several lines")
    try:
        return _tree(raw)
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
    keywords = sorted({*(name[1:].lower() for name in expected if name.startswith("_")),
                       *(text for name in expected for text in _WORDS.get(name, ()))})
    others = [_EXPECTED[name] for name in sorted(expected) if name in _EXPECTED and name not in _WORDS]
    if word.startswith('"') and "TEXT" in expected:
        return ProblemError("the text is not closed", line=number, column=column,
                            hint='End it with a double quote; a quote inside is written \\"')
    wanted = " or ".join([*others, *(f"“{name}”" for name in keywords)])
    if len(keywords) > STEP_WORDS:
        keywords = [word for word in keywords if word not in RENAMED]
        wanted = "a step like tap, down, up, wait, type, repeat or keep"
    if not word:
        return ProblemError("the line is incomplete", line=number, column=column, hint=f"Expected {wanted}")
    if "AMOUNT" not in expected and len(keywords) > STEP_WORDS:
        return ProblemError(f"“{word}” is not a step", line=number, column=column,
                            hint=nearest(word, keywords) or f"Expected {wanted}")
    hint = nearest(word, keywords) if keywords else ""
    return ProblemError(f"“{word}” does not fit here", line=number, column=column,
                        hint=hint or f"Expected {wanted}")
