"""The reference of a step, on a sheet: how it is written, what it does, an example; and what values can do."""

from __future__ import annotations

from rich.console import Group
from rich.table import Table
from rich.text import Text

from brass_pebble.core.macro.help.reference import StepRow, condition_rows, rows_for, step_rows, takes_condition
from brass_pebble.core.macro.value.functions import FUNCTIONS
from brass_pebble.core.macro.value.kinds import PRESS_VALUES
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.base.sheets import Sheet

# Steps of these groups reckon.
WITH_VALUES = ("values", "choices", "levels", "midi")


class ReferenceSheet(Sheet):
    """The steps that a line is about, or all of them."""

    def __init__(self, line: str, palette: Palette) -> None:
        rows = rows_for(line)
        super().__init__("Reference", _content(rows, palette), wide=not rows)


def _content(rows: list[StepRow], palette: Palette) -> Group:
    parts: list[Text | Table] = []
    for row in rows:
        parts += [Text(row.written, style=f"bold {palette.brass}"), Text(f"{row.does}.\n".capitalize()
                                                                       if row.does[:1].islower() else f"{row.does}.\n"),
                  Text("".join(f"    {line}\n" for line in row.example.splitlines()), style=palette.verdigris)]
    if not rows:
        parts.append(_table([(row.written, row.does) for row in step_rows().values()], palette))
    if not rows or any(map(takes_condition, rows)):
        parts.append(Text("CONDITION", style=f"bold {palette.brass}"))
        parts.append(_table([(row.written, row.does) for row in condition_rows().values()], palette))
    if not rows or any(row.group in WITH_VALUES for row in rows):
        parts.append(Text("What can be done with values\n", style=f"bold {palette.brass}"))
        parts.append(_table([(function.example[0], f"{function.does}: {function.example[1]}")
                             for function in FUNCTIONS.values()], palette))
        parts.append(Text("\nWhat a press brings\n", style=f"bold {palette.brass}"))
        parts.append(_table([(name, means) for name, (_, means) in PRESS_VALUES.items()], palette))
    parts.append(Text("\nOn an empty line F1 shows every step. Tab, then ?: all keys.", style=palette.dim))
    return Group(*parts)


def _table(rows: list[tuple[str, str]], palette: Palette) -> Table:
    table = Table.grid(padding=(0, 2))
    table.add_column(style=palette.verdigris, ratio=2)
    table.add_column(ratio=3)
    for written, does in rows:
        table.add_row(Text(written), Text(does))
    return table
