"""The part of the command line that makes a desk and looks at one: `desk new`, `desk check`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from brass_pebble import paths

from .shared import Failure, open_store, os_text


def make_desk(folder: Path, name: str) -> None:
    """Make an empty desk in a folder that is not there yet, or is empty.

    Raises:
        Failure: there is something in it, or it cannot be written.
    """
    import tomlkit

    from brass_pebble import file_access
    from brass_pebble.engine.disk.guests import Trust
    try:
        if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
            raise Failure(f"{folder} is not empty. Name a folder that is not there yet", "usage")
        file_access.private_folder(folder)
        file_access.private_folder(folder / "macros")
        file_access.write_text(folder / "desk.toml", tomlkit.dumps({"format": 1, "name": name}))
        # It is nobody else's.
        Trust(paths.approvals_file(folder)).know()
    except OSError as error:
        raise Failure(f"no desk can be made there: {os_text(error)}", "failed") from None


def offer_desk(folder: Path) -> None:
    """There is no such folder: make an empty desk there, if the person is here and wants it.

    Raises:
        Failure: nobody can be asked, or the person does not want it.
    """
    says = f"there is no desk in {folder}"
    if folder.exists() or not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise Failure(f"{says}. Make an empty one with: brass-pebble desk new {folder}", "usage")
    if not typer.confirm(f"{says[0].upper()}{says[1:]}. Make an empty one there?", default=True):
        raise Failure("nothing was made", "failed")
    make_desk(folder, name_of(folder))


def name_of(folder: Path) -> str:
    """What a desk is called after its folder."""
    return folder.resolve().name.replace("-", " ").replace("_", " ").strip().capitalize() or "My desk"


def new(folder: Annotated[Path, typer.Argument(metavar="DIR", help="a folder that is not there yet, or is empty")],
        name: Annotated[str, typer.Option("--name", metavar="NAME", help="what the desk is called; the folder's name "
                                          "without it")] = "") -> None:
    """Make an empty desk, and open it where its first device is met."""
    make_desk(folder, name or name_of(folder))
    print(f"Made {folder / 'desk.toml'}.")
    if sys.stdout.isatty() and sys.stdin.isatty():
        from .opening import open_desk
        open_desk(folder, first_view="meet")
    else:
        print(f"Open it with: brass-pebble --desk {folder}")


def check(folder: Annotated[Path | None, typer.Argument(metavar="[DIR]", help="the desk's folder; the usual one "
                                                         "without it")] = None) -> None:
    """Tell what is wrong with a desk's files, with file, line and column; nothing is started or changed."""
    from brass_pebble.core.macro.renamed import old_words
    from brass_pebble.engine.disk.guests import FILE
    from brass_pebble.engine.disk.shortcut_files import read_tables
    folder = folder or paths.default_desk()
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
