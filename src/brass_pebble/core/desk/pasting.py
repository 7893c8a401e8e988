"""How the program that has the focus pastes: a table by the class of its window.  Pure."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

from brass_pebble.core.desk.layer_switch import fits_pattern
from brass_pebble.core.say.data_table import read_table

PRIMARY, CLIPBOARD = "primary", "clipboard"


@dataclass(frozen=True)
class PasteRule:
    """Windows of this class paste by this chord, from this selection."""

    cls: str
    chord: str
    selection: str


@cache
def paste_rules() -> tuple[PasteRule, ...]:
    """The table, in its order."""
    return tuple(PasteRule(*row) for row in read_table("paste-chords.tsv"))


def paste_rule(cls: str) -> PasteRule:
    """How windows of a class paste; an unknown or missing one as most do."""
    return next(rule for rule in paste_rules() if rule.cls == "*" or (cls and fits_pattern(rule.cls, cls)))
