"""Steps that get a value from somebody or something while the macro runs: a person, the clipboard, a file, a window's
title, the output of a command."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from decimal import Decimal
from typing import ClassVar

from lark import Tree

from brass_pebble.core.say.counts import say_list
from brass_pebble.core.say.durations import SECOND, write_duration
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.keys import key_table

from .asks import CatchUp, Errand, GaveUp, Laying, Question
from .steps import INSIDE, SETS_KEPT, Piece, Pieces, Step, fill, read_text, read_time, token, value_now
from .timetable import Timeline
from .value.kinds import DECIMAL, TEXT, WHOLE, Kind, Known, Value, read_number, tell_value
from .value.reckon import Text, check_kind, say

ANSWER_LIMIT = 60 * SECOND
READ_LIMIT = 5 * SECOND
YES_NO = ("yes", "no")
MOST_CHOICES = 50
MOST_LINES_READ = 10_000


def read_answer(question: Question, text: str) -> Value:
    """What a person has answered, as a value.

    Raises:
        ProblemError: it does not fit; with what would.
    """
    if question.kind == TEXT:
        if not question.choices:
            return text
        wanted = text.strip().casefold()
        for choice in question.choices:
            if choice.casefold() == wanted:
                return choice
        begins = [choice for choice in question.choices if wanted and choice.casefold().startswith(wanted)]
        if len(begins) == 1:
            return begins[0]
        if wanted.isdigit() and 1 <= int(wanted) <= len(question.choices):
            return question.choices[int(wanted) - 1]
        raise ProblemError(f"“{text}” is none of them", hint=f"Choose {say_list(question.choices, 'or')}")
    try:
        number = read_number(text.strip().replace(",", "."))
    except ValueError:
        raise ProblemError(f"“{text}” is not a number", hint=f"Answer with {range_of(question)}") from None
    if question.kind == WHOLE and not isinstance(number, int):
        raise ProblemError(f"{tell_value(number)} is not a whole number", hint=f"Answer with {range_of(question)}")
    if (question.low is not None and number < question.low) or (question.high is not None and number > question.high):
        raise ProblemError(f"{tell_value(number)} is out of range", hint=f"Answer with {range_of(question)}")
    return value_of_kind(number, question.kind)


def value_of_kind(number: Value, kind: Kind) -> Value:
    """A number with decimals where they are wanted."""
    return Decimal(number) if kind == DECIMAL and isinstance(number, int) else number


def range_of(question: Question) -> str:
    """What fits, in words."""
    if question.choices:
        return say_list(question.choices, "or")
    if question.low is not None and question.high is not None:
        return f"a {question.kind} from {tell_value(question.low)} to {tell_value(question.high)}"
    return "a text" if question.kind == TEXT else f"a {question.kind}"


@dataclass(eq=False, repr=False)
class Asks(Step):
    """Sets a value from outside; what stands under otherwise is played when it cannot be had."""

    reach: ClassVar[str] = INSIDE
    name: str = ""
    limit: int | None = None
    takes_otherwise: ClassVar[bool] = True
    sets: ClassVar[bool] = True

    @property
    def fixed(self) -> bool:
        return False

    def _learn(self, piece: Piece | None, kind: Kind, known: Known) -> None:
        self.name = str(token(piece))
        known.learn(self.name, kind, self.line, token(piece).column or 0)
        self.keeps = known[self.name].kept

    def _limit_words(self) -> str:
        return f" at most {write_duration(self.limit)}" if self.limit is not None else ""


@dataclass(eq=False, repr=False)
class AskPerson(Asks):
    """Ask the person at the desk."""

    reach: ClassVar[str] = INSIDE
    text: Text = field(default_factory=lambda: Text('""', []))
    kind: Kind = TEXT
    asked: Tree | None = None  # type: ignore[type-arg]
    low: object = None
    high: object = None
    choices: list[Text] = field(default_factory=list)
    proposal: object = None
    proposes: str = ""

    def read(self, pieces: Pieces, known: Known) -> None:
        self.text = read_text(pieces[1], self.line, known)
        asked, proposal = pieces[2], pieces[3]
        self.limit = read_time(pieces[4], self.line)
        if isinstance(asked, Tree):
            self._read_asked(asked, known)
        if isinstance(proposal, Tree) and proposal.data in ("last", "from_clipboard"):
            self.proposes = "last" if proposal.data == "last" else "clipboard"
        elif isinstance(proposal, Tree):
            self.proposal = proposal
            kind = check_kind(proposal, known, self.line)
            if (kind == TEXT) != (self.kind == TEXT) or (self.kind == WHOLE and kind == DECIMAL):
                raise ProblemError(f"a {self.kind} is asked for, and a {kind} is proposed", line=self.line,
                                   column=token(pieces[0]).column or 0, hint="Propose what could be the answer")
        self._learn(pieces[0], self.kind, known)

    def does(self) -> str:
        return super().does() or ("reads the clipboard" if self.proposes == "clipboard" else INSIDE)

    def _read_asked(self, asked: Tree, known: Known) -> None:  # type: ignore[type-arg]
        self.asked = asked
        if asked.data == "one_of":
            self.choices = [read_text(piece, self.line, known) for piece in asked.children]
            if not 2 <= len(self.choices) <= MOST_CHOICES:
                raise ProblemError(f"there have to be 2 to {MOST_CHOICES} to choose from, and here "
                                   f"{'is' if len(self.choices) == 1 else 'are'} {len(self.choices)}", line=self.line,
                                   hint='Write of "Rye" "Wheat"')
        elif asked.data == "from_to":
            self.low, self.high = asked.children
            kinds = [check_kind(part, known, self.line) for part in asked.children]
            if TEXT in kinds:
                raise ProblemError("a range goes from a number to a number", line=self.line, hint="Write from 1 to 48")
            self.kind = DECIMAL if DECIMAL in kinds else WHOLE
        elif asked.data == "any_number":
            self.kind = WHOLE
        elif asked.data == "any_decimal":
            self.kind = DECIMAL

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        if timeline.down:
            held = ", ".join(key_table().name(code) for code in timeline.down)
            raise ProblemError(f"a question is asked while {held} is down, which would change what is typed for it",
                               line=self.line, hint="Ask before keep or down, or behind it")
        question = self._question(timeline)
        given = timeline.given.answers.get(self.name)
        if given is not None:
            try:
                answer: object = read_answer(question, given)
            except ProblemError as error:
                raise GaveUp(self.line, f"the answer to “{self.name}” does not fit: {error.problem.what}. "
                                        f"{error.problem.hint}") from None
        else:
            answer = yield question
        if answer is True:
            # Only looked at.
            answer = self._likely(question)
        if isinstance(answer, Value) and not isinstance(answer, bool):
            timeline.values.put(self.name, answer)
        elif self.otherwise is not None:
            yield from self.otherwise.lay(timeline)
        else:
            raise GaveUp(self.line, f"“{self.text.fill(timeline.values)}” was not answered")

    def _question(self, timeline: Timeline) -> Question:
        low, high = (value_now(end, timeline, self.line) if end is not None else None for end in (self.low, self.high))
        assert not isinstance(low, str) and not isinstance(high, str)
        if low is not None and high is not None and low > high:
            raise ProblemError(f"the range from {tell_value(low)} to {tell_value(high)} is empty", line=self.line,
                               hint="Write the smaller number first")
        choices = tuple(fill(choice, timeline) for choice in self.choices)
        if self.asked is not None and self.asked.data == "yes_no":
            choices = YES_NO
        proposal = tell_value(value_now(self.proposal, timeline, self.line)) if self.proposal is not None else ""
        return Question(self.line, self.name, fill(self.text, timeline), self.kind,
                        ANSWER_LIMIT if self.limit is None else self.limit, low, high, choices, proposal, self.proposes)

    def _likely(self, question: Question) -> Value:
        """What stands for the answer where nobody is asked."""
        if question.proposal:
            return read_answer(question, question.proposal) if question.kind != TEXT else question.proposal
        if question.choices:
            return question.choices[0]
        if question.kind == TEXT:
            return self.name
        return value_of_kind(question.low if question.low is not None else 1, question.kind)

    def words(self) -> str:
        proposal = self.proposes or (say(self.proposal) if self.proposal is not None else "")
        return (f"ask {self.name} {self.text.source}{self._asked_words()}"
                f"{f' proposing {proposal}' if proposal else ''}{self._limit_words()}")

    def _asked_words(self) -> str:
        if self.asked is None:
            return ""
        kind = str(self.asked.data)
        if kind == "one_of":
            return " of " + " ".join(choice.source for choice in self.choices)
        if kind == "from_to":
            return f" from {say(self.low)} to {say(self.high)}"
        return {"yes_no": " yes or no", "any_number": " a number", "any_decimal": " a decimal"}[kind]


# What a value is read from: the grammar's name, how it is written, and what it does outside.
SOURCES = {"clipboard_source": ("clipboard", "reads the clipboard"),
           "title_source": ("title", "reads a window’s title"),
           "file_source": ("file", "reads a file"), "command_source": ("command", "reads what a command says"),
           "shell_source": ("shell", "reads what a command says")}


@dataclass(eq=False, repr=False)
class ReadValue(Asks):
    """Read a text from the clipboard, a window's title, a file, or a command."""

    reach: ClassVar[str] = "reads a value from outside"
    source: str = "clipboard"
    reads: str = ""
    texts: list[Text] = field(default_factory=list)
    lines: int = 0

    def read(self, pieces: Pieces, known: Known) -> None:
        found = pieces[1]
        assert isinstance(found, Tree)
        self.source, self.reads = SOURCES[str(found.data)]
        self.limit = read_time(pieces[2], self.line)
        given = [piece for piece in found.children if piece is not None]
        if self.source == "file" and len(given) > 1:
            count = token(given.pop())
            self.lines = int(count) if count.isdigit() else 0
            if not 1 <= self.lines <= MOST_LINES_READ:
                raise ProblemError(f"“{count}” is not a number of lines", line=self.line, column=count.column or 0,
                                   hint=f"Write first 1 to {MOST_LINES_READ:,} lines")
        self.texts = [read_text(piece, self.line, known) for piece in given]
        self._learn(pieces[0], TEXT, known)

    def does(self) -> str:
        return f"{self.reads} and {SETS_KEPT}" if self.keeps else self.reads

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        answer: object = timeline.given.answers.get(self.name)
        if answer is None:
            words = [fill(text, timeline) for text in self.texts]
            if self.source == "file":
                words.append(str(self.lines))
            answer = yield Errand(self.line, f"read {self.source}", tuple(words), wait=True,
                                  limit=READ_LIMIT if self.limit is None else self.limit)
        if answer is True:
            # Only looked at, or rehearsed.
            answer = self.name
        if isinstance(answer, str):
            timeline.values.put(self.name, answer)
        elif self.otherwise is not None:
            yield from self.otherwise.lay(timeline)
        else:
            raise GaveUp(self.line, f"“{self.name}” could not be read from the {self._from_words()}")

    def _from_words(self) -> str:
        return {"title": "window title"}.get(self.source, self.source)

    def words(self) -> str:
        texts = "".join(f" {text.source}" for text in self.texts)
        first = f" first {self.lines} {'line' if self.lines == 1 else 'lines'}" if self.lines else ""
        return f"read {self.name} from {self._from_words()}{texts}{first}{self._limit_words()}"


def asked_for(steps: Iterable[Step]) -> list[str]:
    """The values that steps may ask a person for, in the order of the text; those of macros that they play, too."""
    found: dict[str, None] = {}
    for step in steps:
        if isinstance(step, AskPerson):
            found[step.name] = None
        found.update(dict.fromkeys(asked_for(step.parts())))
    return list(found)


ASKING_STEPS: dict[str, type[Step]] = {"ask": AskPerson, "read": ReadValue}
