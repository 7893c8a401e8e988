"""The shortcut tables there are: shipped, of the stage, of the desktop, and the person's own.  For a worker."""

from __future__ import annotations

import csv
import io
import tomllib
from pathlib import Path

from brass_pebble import file_access
from brass_pebble.core.desk.shortcuts import ProgramTable, read_program, write_program
from brass_pebble.core.say.limits import load_tables
from brass_pebble.core.say.problem import Problem, ProblemError
from brass_pebble.kinds.focus.desktop_shortcuts import desktop_table
from brass_pebble.paths import SHIPPED_PROGRAMS


def load_programs(desk_folder: Path, user_folder: Path | None, stage: Path | None,
                  on_stage: list[str]) -> tuple[list[ProgramTable], list[Problem]]:
    """All tables, and what is wrong with their files."""
    tables, problems = read_tables((SHIPPED_PROGRAMS, "shipped"), *([(user_folder, "yours")] if user_folder else []),
                                   (desk_folder / "programs", "yours"))
    for name in on_stage if stage else ():
        if stage and (file := stage / f"{name}.toml").is_file():
            _read(file, "stage", tables, problems)
    if not on_stage and (desktop := desktop_table()):
        tables.append(desktop)
    return tables, problems


def read_tables(*places: tuple[Path, str]) -> tuple[list[ProgramTable], list[Problem]]:
    """The tables of some folders, each told as from whom, and what is wrong with their files."""
    tables: list[ProgramTable] = []
    problems: list[Problem] = []
    for folder, origin in places:
        for file in sorted(folder.glob("*.toml")):
            _read(file, origin, tables, problems)
    return tables, problems


def _read(file: Path, origin: str, tables: list[ProgramTable], problems: list[Problem]) -> None:
    shown = f"programs/{file.name}"
    try:
        text = file_access.read_text(file)
        table, found = read_program(load_tables(text), id=file.stem, file=shown, text=text, origin=origin)
    except Exception as error:
        # Whatever it is, it concerns this file and no other.
        problems.append(Problem(f"cannot be read: {file_access.say(error)}", shown, hint="Put it right and look again"))
        return
    tables[:] = [other for other in tables if other.id != table.id]
    tables.append(table)
    problems.extend(found)


def import_table(file: Path) -> tuple[str, str]:
    """A person's table from a file: TOML as it is, or two columns (chord, what it does).  Its id, and its text.

    Raises:
        ProblemError: it is neither, or a chord in it is none.
    """
    name = file.stem
    text = file_access.read_text(file).removeprefix("\ufeff")
    if file.suffix == ".toml":
        try:
            _, problems = read_program(load_tables(text), id=name, file=file.name, text=text)
        except tomllib.TOMLDecodeError as error:
            raise ProblemError(f"{file.name} is not TOML: {error}", hint="Put it right, or give two columns as "
                               ".csv or .tsv: the chord, and what it does") from None
        if problems:
            raise ProblemError(f"{file.name}, line {problems[0].line}: {problems[0].what}", hint=problems[0].hint)
        return name, text
    rows = []
    delimiter = "\t" if file.suffix == ".tsv" else ","
    for number, row in enumerate(csv.reader(io.StringIO(text), delimiter=delimiter), 1):
        cells = [cell.strip() for cell in row]
        if not any(cells) or cells[0].startswith("#"):
            continue
        if len(cells) < 2:
            raise ProblemError(f"{file.name}, line {number}: two columns are needed, the chord and what it does",
                               hint="Write Ctrl+Alt+N,set a marker")
        try:
            write_program("", [(cells[0], "")])
        except ProblemError as error:
            if number == 1:
                # A heading.
                continue
            raise ProblemError(f"{file.name}, line {number}: {error.problem.what}", hint=error.problem.hint) from None
        rows.append((cells[0], cells[1]))
    if not rows:
        raise ProblemError(f"{file.name} has no chords", hint="Write Ctrl+Alt+N,set a marker, one on each line")
    return name, write_program(name.replace("-", " ").capitalize(), rows)
