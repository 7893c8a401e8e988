"""Folders of desks: the one that is asked for, an empty one, the offer to make one."""

from __future__ import annotations

import sys
from pathlib import Path

import typer

from brass_pebble import paths

from .shared import Failure, os_text


def desk_folder(desk: Path | None) -> Path:
    """The folder asked for; the default one is made if it is not there yet."""
    if desk is None:
        desk = paths.default_desk()
        if not desk.exists():
            make_desk(desk, "My desk")
    if not desk.is_dir():
        offer_desk(desk)
    # Whoever is told of it may stand in another folder.
    return desk.absolute()


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
