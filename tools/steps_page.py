"""Writes the tables of all steps, conditions and functions into docs/macro-language.md, as they are declared.  --check
compares."""

from __future__ import annotations

import sys
from pathlib import Path

from brass_pebble.core.macro.help.reference import StepRow, condition_rows, step_rows
from brass_pebble.core.macro.value.functions import FUNCTIONS

FILE = Path(__file__).parent.parent / "docs" / "macro-language.md"
BEGIN, END = "<!-- steps: made by tools/steps_page.py -->", "<!-- end of steps -->"


def section() -> str:
    """The part of the page that is made."""
    lines = [BEGIN, "", "| step | what it does | example |", "|---|---|---|", *map(_row, step_rows().values())]
    lines += ["", "| condition | when it holds | example |", "|---|---|---|", *map(_row, condition_rows().values())]
    lines += ["", "| with values | what it does | comes to |", "|---|---|---|"]
    for function in FUNCTIONS.values():
        lines.append(f"| `{function.example[0]}` | {function.does} | `{function.example[1]}` |")
    return "\n".join([*lines, "", END])


def _row(row: StepRow) -> str:
    example = "<br>".join(f"`{_spaced(line)}`" for line in row.example.splitlines())
    written = row.written.replace("|", "\\|")
    return f"| `{written}` | {row.does} | {example} |"


def _spaced(line: str) -> str:
    # Markdown drops blanks at the beginning of code.
    indent = len(line) - len(line.lstrip())
    return " " * indent + line.lstrip()


def page() -> str:
    """The whole page."""
    text = FILE.read_text(encoding="utf-8")
    before, _, rest = text.partition(BEGIN)
    _, _, after = rest.partition(END)
    return f"{before}{section()}{after}"


if __name__ == "__main__":
    made = page()
    if "--check" in sys.argv:
        sys.exit(f"{FILE.name} is not as it is declared" if made != FILE.read_text(encoding="utf-8") else 0)
    FILE.write_text(made, encoding="utf-8")
