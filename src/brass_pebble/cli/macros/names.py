"""Macros of the running desk under other names: rename, copy, delete."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any

import typer

from brass_pebble.cli.shared import DeskOption, Failure

MacroName = Annotated[str, typer.Argument(metavar="MACRO", help="its name or its id")]
NewName = Annotated[str, typer.Argument(metavar="NAME", help="what it is to be called")]


@contextmanager
def _engine(desk: Path | None, macro: str) -> Iterator[tuple[Any, str]]:
    """A client of the engine, and the id of a macro that is named."""
    from brass_pebble.client import EngineClient, find_engine
    from brass_pebble.core.macro.naming import written_name
    from brass_pebble.core.say.problem import nearest
    with EngineClient(find_engine(desk), "brass-pebble macro") as client:
        names = {written_name(text) or macro_id: macro_id for macro_id, text in client.ask("macros")["texts"].items()}
        found = macro if macro in names.values() else names.get(macro, "")
        if not found:
            raise Failure(f"there is no macro “{macro}”. {nearest(macro, [*names, *names.values()])}", "usage")
        yield client, found


def rename(macro: MacroName, name: NewName, desk: DeskOption = None) -> None:
    """Rename a macro of the running desk; what plays it follows."""
    with _engine(desk, macro) as (client, found):
        reply = client.ask("rename_macro", macro=found, name=name)
        print(f"Renamed to “{name}”, macros/{reply['macro']}.macro.")


def copy(macro: MacroName, name: Annotated[str, typer.Argument(metavar="[NAME]", help="what the copy is called")] = "",
         desk: DeskOption = None) -> None:
    """Make another macro of the running desk with the same text."""
    with _engine(desk, macro) as (client, found):
        reply = client.ask("copy_macro", macro=found, name=name)
        print(f"Copied to macros/{reply['macro']}.macro.")


def delete(macro: MacroName, desk: DeskOption = None) -> None:
    """Delete a macro of the running desk.

    To get it again: brass-pebble undo.
    """
    with _engine(desk, macro) as (client, found):
        client.ask("remove_macro", macro=found)
        print(f"Deleted macros/{found}.macro. To undo: brass-pebble undo")
