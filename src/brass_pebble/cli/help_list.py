"""How --help lists commands: one line for each, under headings where there are many."""

from __future__ import annotations

from typing import Any, ClassVar

from typer.core import TyperGroup


class OneLineEach(TyperGroup):
    """A group of commands, each with the first sentence that it says of itself."""

    headings: ClassVar[dict[str, tuple[str, ...]]] = {}

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """For --help."""
        for heading, names in (self.headings or {"Commands": tuple(self.commands)}).items():
            rows = [(name, first_sentence(self.commands[name])) for name in names if name in self.commands]
            if rows:
                with formatter.section(heading):
                    formatter.write_dl(rows)


def first_sentence(command: Any) -> str:
    """What a command says of itself, in one line."""
    said = " ".join((command.help or "").split("\n\n")[0].split())
    return said.partition(". ")[0].rstrip(".")
