"""Macros: their texts, writing, rehearsing."""

from __future__ import annotations

from typing import Annotated, ClassVar

from msgspec import Meta, Struct

from .base import Changed, Id, Reply, Request, Text, Word, said
from .desk import Values


class DraftRow(Struct, frozen=True, kw_only=True):
    """A text that is not finished."""

    text: str
    at: Annotated[float, said("seconds since 1970")]


class Macros(Reply, frozen=True, kw_only=True):
    """Every macro's text."""

    texts: Annotated[dict[str, str], said("by id; broken ones, too")]
    drafts: dict[str, DraftRow]
    tap_ms: float
    gap_ms: float
    keyboard: Annotated[str, said("the layout that receiving programs have")]


class AskMacros(Request, frozen=True, kw_only=True, tag="macros"):
    """Every macro's text, by its id, broken ones included."""

    reply: ClassVar[type[Reply]] = Macros


class MacroWritten(Changed, frozen=True, kw_only=True):
    """A macro is live."""

    macro: Annotated[str, said("its id")]


class WriteMacro(Request, frozen=True, kw_only=True, tag="write_macro"):
    """Write a macro's text; without an id a new one, named after `name`.

    A text with mistakes is kept as a draft, and refused.  With another text there than `base` the code is `changed`.
    """

    reply: ClassVar[type[Reply]] = MacroWritten
    macro: Id = ""
    name: Word = ""
    text: Text = ""
    base: Annotated[Text | None, said("the text that was there when the person began")] = None


class DraftMacro(Request, frozen=True, kw_only=True, tag="draft_macro"):
    """Keep a text that is not finished, beside the macro that goes on working; without a text, drop it."""

    macro: Id = ""
    text: Text | None = None


class RemoveMacro(Request, frozen=True, kw_only=True, tag="remove_macro"):
    """Take a macro away; what plays it is told as broken until undo restores it."""

    reply: ClassVar[type[Reply]] = Changed
    macro: Id


class RenameMacro(Request, frozen=True, kw_only=True, tag="rename_macro"):
    """Call a macro something else; its file, bindings and macros that play it follow, in one change."""

    reply: ClassVar[type[Reply]] = MacroWritten
    macro: Id
    name: Word


class CopyMacro(Request, frozen=True, kw_only=True, tag="copy_macro"):
    """Make another macro with the same text under another name."""

    reply: ClassVar[type[Reply]] = MacroWritten
    macro: Id
    name: Annotated[Word, said("“… (2)” without one")] = ""


class Rehearsing(Reply, frozen=True, kw_only=True):
    """It plays into a stage of its own."""

    length_ms: float
    programs: list[str]


class Rehearse(Values, frozen=True, kw_only=True, tag="rehearse"):
    """Play a macro, or a text, into a stage of its own; what happens follows as `rehearsal`."""

    reply: ClassVar[type[Reply]] = Rehearsing
    macro: Word = ""
    text: Text | None = None
    hold_ms: Annotated[float, Meta(ge=0, le=3_600_000), said("how long its control would be held")] = 1000.0


class EndRehearsal(Request, frozen=True, kw_only=True, tag="end_rehearsal"):
    """Stop it."""
