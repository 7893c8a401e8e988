"""The part of the command line that makes a desk and looks at one: `desk new`, `desk check`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from brass_pebble import paths

from .desk_folders import make_desk, name_of
from .shared import DeskOption, Failure, open_store


def new(folder: Annotated[Path, typer.Argument(metavar="DIR", help="a folder that is not there yet, or is empty")],
        name: Annotated[str, typer.Option("--name", metavar="NAME", help="what the desk is called; the folder's name "
                                          "without it")] = "") -> None:
    """Make an empty desk, and meet its first device."""
    make_desk(folder, name or name_of(folder))
    print(f"Made {folder / 'desk.toml'}.")
    if sys.stdout.isatty() and sys.stdin.isatty():
        from .opening import open_desk
        open_desk(folder.absolute(), first_view="meet")
    else:
        print(f"Open it with: brass-pebble --desk {folder}")


def check(folder: Annotated[Path | None, typer.Argument(metavar="[DIR]", help="the desk's folder; the usual one "
                                                         "without it")] = None, named: DeskOption = None) -> None:
    """Show what is wrong with a desk's files, by line and column.

    Nothing is started or changed.
    """
    from brass_pebble.core.macro.renamed import old_words
    from brass_pebble.engine.disk.guests import FILE
    from brass_pebble.engine.disk.shortcut_files import read_tables
    folder = folder or named or paths.default_desk()
    if not (folder / "desk.toml").exists():
        raise Failure(f"{folder / 'desk.toml'} is not there. Make an empty desk with: brass-pebble desk new {folder}",
                      "usage")
    loaded = open_store(folder).load()
    _, tables = read_tables((folder / "programs", "yours"))
    # What sleeps is no mistake.
    notes = [problem for problem in loaded.problems if problem.file == FILE]
    problems = [problem for problem in (*loaded.problems, *tables) if problem.file != FILE]
    for problem in (*problems, *notes):
        print(problem)
    if problems:
        count = len(problems)
        raise Failure(f"{folder} has {count} {'mistake' if count == 1 else 'mistakes'}", "mistake in a file")
    desk = loaded.desk
    for macro in desk.macros.values():
        for hint in old_words(macro.source, f"macros/{macro.id}.macro"):
            print(f"{hint}; brass-pebble macro format writes the new one")
    counts = [f"{count} {what if count == 1 else whats}" for count, what, whats in (
        (len(desk.surfaces), "surface", "surfaces"), (sum(len(surface.layers) for surface in desk.surfaces.values()),
                                                      "layer", "layers"), (len(desk.macros), "macro", "macros"))]
    print(f"{folder}: fine, “{desk.name}”, {', '.join(counts)}")
