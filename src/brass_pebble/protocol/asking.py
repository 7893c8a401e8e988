"""What macros ask a person, and the values that they keep."""

from __future__ import annotations

from typing import Annotated, ClassVar

from msgspec import Struct

from .base import Changed, Id, Reply, Request, Text, Word, said


class QuestionRow(Struct, frozen=True, kw_only=True):
    """A question that a macro waits with."""

    question: Annotated[str, said("its id, for as long as it is open")]
    name: Annotated[str, said("the value that the answer becomes")]
    words: Annotated[str, said("what is asked")]
    macro: Annotated[str, said("who asks")]
    kind: Annotated[str, said("`text`, `whole number` or `number with decimals`")]
    choices: Annotated[list[str], said("one of these, if there are any")]
    fits: Annotated[str, said("what may be answered, in words")]
    proposal: str
    typed: Annotated[str, said("what was typed for it on the surface")]
    surface: Annotated[str, said("whose digits count; empty for none")]
    left_ms: Annotated[float, said("until it is given up")]
    trace: Annotated[int, said("whose run asks; 0 for a rehearsal")] = 0


class Questions(Reply, frozen=True, kw_only=True):
    """The questions that are open."""

    questions: Annotated[list[QuestionRow], said("the oldest first")]


class AskQuestions(Request, frozen=True, kw_only=True, tag="questions"):
    """The questions that are open."""

    reply: ClassVar[type[Reply]] = Questions


class Answer(Request, frozen=True, kw_only=True, tag="answer"):
    """Answer a question; without a text, close it: its macro ends, or takes its other way.

    An answer that does not fit is refused with what would; the question stays open.
    """

    question: Annotated[Word, said("its id, or the name of its value; the oldest one without either")] = ""
    text: Text | None = None


class ValueChange(Struct, frozen=True, kw_only=True):
    """What a kept value became."""

    value: Annotated[str, said("as text, shortened")]
    at: Annotated[float, said("when, in seconds since 1970")]
    macro: Annotated[str, said("the macro that did it, by id; empty if a person did, here or in its file")]
    is_set: Annotated[bool, said("false if it was reset to what it begins with")]


class ValueRow(Struct, frozen=True, kw_only=True):
    """A value that macros keep."""

    name: str
    value: Annotated[str, said("as text, shortened")]
    kind: Annotated[str, said("`text`, `whole number` or `number with decimals`")]
    first: Annotated[str, said("what it is before anybody sets it")]
    is_set: Annotated[bool, said("whether anybody has set it")]
    macros: Annotated[list[str], said("which macros use it, by id")]
    trouble: Annotated[str, said("why a macro cannot use it as it is")] = ""
    changes: Annotated[list[ValueChange], said("the last 30 at most since the start, the newest first")] = []


class Values(Reply, frozen=True, kw_only=True):
    """Every value that macros keep."""

    values: list[ValueRow]


class AskValues(Request, frozen=True, kw_only=True, tag="values"):
    """Every value that macros keep: those that were set, and those that a macro names."""

    reply: ClassVar[type[Reply]] = Values


class SetValue(Request, frozen=True, kw_only=True, tag="set_value"):
    """Change a kept value; it can be undone."""

    reply: ClassVar[type[Reply]] = Changed
    value: Id
    to: Text


class ResetValue(Request, frozen=True, kw_only=True, tag="reset_value"):
    """Let a kept value be again what it is before anybody sets it; it can be undone."""

    reply: ClassVar[type[Reply]] = Changed
    value: Id
