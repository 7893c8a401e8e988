"""The reference of the language: a row for each step, setting and condition.  The Macro view, the docs and
the tests read it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

from brass_pebble.core.macro.reader import read_line
from brass_pebble.core.macro.renamed import RENAMED
from brass_pebble.core.say.data_table import read_table


@dataclass(frozen=True)
class StepRow:
    """One step or setting: the grammar's rule, its group, how it is written, what it does, and a text that has it."""

    rule: str
    group: str
    written: str
    does: str
    example: str


@cache
def step_rows() -> dict[str, StepRow]:
    """Every row by its rule, in the order of the table."""
    return {rule: StepRow(rule, group, written, does, example.replace("\\n", "\n"))
            for rule, group, written, does, example in read_table("steps.tsv")}


@cache
def condition_rows() -> dict[str, StepRow]:
    """What can stand for CONDITION, each by the grammar's name."""
    return {name: StepRow(name, "conditions", written, does, example.replace("\\n", "\n"))
            for name, written, does, example in read_table("conditions.tsv")}


def takes_condition(row: StepRow) -> bool:
    """Whether a condition is part of a step."""
    return "CONDITION" in row.written


def rows_for(line: str) -> list[StepRow]:
    """What a line is about: its step, if it can be read; else all that begin with its first word."""
    words = line.split()
    if not words:
        return []
    try:
        rule, _ = read_line(line.strip(), 1)
        return [row for row in (step_rows().get(rule),) if row is not None]
    except Exception:
        # A line that is being written: its first word tells.
        first = RENAMED.get(words[0], words[0]).split()[0]
        return [row for row in step_rows().values() if first in (part.split()[0] for part in row.written.split(", "))]
