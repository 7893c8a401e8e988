"""What the parts of the command line share: exit codes, options, and the way to fail in a sentence."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

EXIT_CODES = {
    "ok": 0, "failed": 1, "usage": 2, "no engine": 3, "permission": 4, "busy": 5, "mistake in a file": 6,
}
DeskOption = Annotated[Path | None, typer.Option("--desk", metavar="DIR", help="the desk's folder")]
JsonOption = Annotated[bool, typer.Option("--json", help="one JSON object a line")]
NumberOption = Annotated[int | None, typer.Option("--number", metavar="N", help="the number that the macro is given")]
StrengthOption = Annotated[int | None, typer.Option("--strength", metavar="N", min=0, max=127,
                                                    help="how hard it was pressed, 0 to 127")]


class Failure(Exception):
    """Ends the program with a sentence and an exit code."""

    def __init__(self, text: str, code: str) -> None:
        super().__init__(text)
        self.code = EXIT_CODES[code]


def os_text(error: OSError) -> str:
    """An error of the system in words."""
    return f"{error.filename}: {error.strerror}" if error.filename else str(error)


def given_values(number: int | None, strength: int | None) -> dict[str, int]:
    """What a person gives in place of a press."""
    return {name: value for name, value in (("number", number), ("strength", strength)) if value is not None}
