"""The parts of the command line about paper: labels for caps, and the map of a surface."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from brass_pebble import paths

from .shared import DeskOption, Failure, JsonOption, desk_in_use, os_text, read_desk_folder, tell_saved

if TYPE_CHECKING:
    from brass_pebble.core.desk.look.drawn import BareSurface

SurfaceName = Annotated[str, typer.Argument(metavar="SURFACE", help="the surface's id")]
PaperOption = Annotated[str, typer.Option("--paper", metavar="NAME", help="a4 or letter")]


def add_to(app: typer.Typer) -> None:
    """Make these commands part of the program's."""
    app.command()(labels)
    app.command("map")(surface_map)
    app.command()(glance)


def find_surface(desk: Path | None, name: str) -> tuple[Path, BareSurface]:
    """The folder of the desk that is meant, and one of its surfaces as a row.

    Raises:
        Failure: there is no such surface, or the desk cannot be read.
    """
    from brass_pebble.core.desk.look.rows import surface_row
    from brass_pebble.core.say.problem import nearest
    folder = desk_in_use(desk)
    read = read_desk_folder(folder)
    found = read.surfaces.get(name) or next((s for s in read.surfaces.values() if s.name == name), None)
    if found is None:
        known = ", ".join(read.surfaces) or "none yet"
        raise Failure(f"there is no surface “{name}” on {read.name}. "
                      f"{nearest(name, read.surfaces) or f'Available: {known}'}", "usage")
    return folder, surface_row(read, found)


def glance(surface: SurfaceName, desk: DeskOption = None) -> None:
    """Show one surface alone, as large as fits.

    For a second screen, or a narrow pane beside your program.
    """
    from brass_pebble.client import find_engine
    if not sys.stdout.isatty():
        raise Failure("the screen needs a terminal. Use brass-pebble map, which prints text", "usage")
    socket = find_engine(desk)
    from brass_pebble.screen.app import BrassPebbleApp

    from .outside import OutsideHere
    BrassPebbleApp(socket, glance=surface, outside=OutsideHere()).run()


def labels(surface: SurfaceName,
           output: Annotated[Path | None, typer.Option("-o", "--output", metavar="FILE", help="write the sheet there: "
                                                       ".pdf, or .svg (a file for each page)")] = None,
           layer: Annotated[list[str] | None, typer.Option("--layer", metavar="LAYER", help="a layer whose labels are "
                                                           "printed; up to four share a cap")] = None,
           cap: Annotated[str, typer.Option("--cap", metavar="WxH", help="the label of a key of one unit, in mm, like "
                                            "14x14")] = "",
           size: Annotated[list[str] | None, typer.Option("--size", metavar="CONTROL=WxH", help="the label of one "
                                                          "control, in mm")] = None,
           paper: PaperOption = "a4",
           bleed: Annotated[float, typer.Option("--bleed", metavar="MM", min=0, max=5, help="how far tints reach over "
                                                "the cut")] = 1.0,
           only_changed: Annotated[bool, typer.Option("--changed", help="only what is not as it was printed "
                                                      "last")] = False,
           as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """Make a sheet of labels in exact size, to print and cut.

    They are stuck on the caps, or slipped under clear ones.
    """
    from brass_pebble.core.say.problem import ProblemError
    from brass_pebble.paper.label_files import (
        label_pages,
        notes_of,
        read_printed,
        remember_printed,
        sheet_of,
        write_pages,
    )
    folder, row = find_surface(desk, surface)
    known = {found.id for found in row.layers} | {found.name for found in row.layers}
    for name in layer or ():
        if name not in known:
            raise Failure(f"“{row.name}” has no layer “{name}”; it has "
                          f"{', '.join(found.id for found in row.layers)}", "usage")
    record = paths.printed_file(folder, row.id)
    try:
        sheet, about = sheet_of(row, layers=layer or (), paper=paper, cap=cap, sizes=_sizes(size or [], row),
                                bleed=bleed, printed=read_printed(record) if only_changed else None)
        written = write_pages(label_pages(row, sheet, about), output, f"{row.name}, labels") if output else None
    except ProblemError as error:
        raise Failure(str(error.problem), "usage") from None
    except OSError as error:
        raise Failure(f"the sheet cannot be written: {os_text(error)}", "failed") from None
    if written is not None:
        remember_printed(record, sheet)
    if as_json:
        for number, page in enumerate(sheet.pages, 1):
            for label in page:
                print(json.dumps({"page": number, "control": label.face.control, "x_mm": round(label.at.x, 3),
                                  "y_mm": round(label.at.y, 3), "width_mm": label.at.width,
                                  "height_mm": label.at.height,
                                  "shown": [" ".join(part.fitted.lines) for part in label.parts]}, ensure_ascii=False))
        return
    pages = len(sheet.pages)
    print(f"{row.name}, {about}, on {pages} {'page' if pages == 1 else 'pages'} of {paper}")
    for note in notes_of(sheet) if written is None else [*notes_of(sheet, fonts=False), *written.notes]:
        print(f"  ! {note}")
    for file in written.files if written is not None else ():
        print(f"Saved {file}.")
    if not output:
        print("Nothing is written yet: name a file with -o FILE.pdf or -o FILE.svg")


def _sizes(given: list[str], row: BareSurface) -> dict[str, str]:
    known = {control.id for control in row.controls}
    found = {}
    for word in given:
        control, equals, size = word.rpartition("=")
        if not equals or control not in known:
            raise Failure(f"“{word}” names no control of “{row.name}” and its size; write --size enter=14x33",
                          "usage")
        found[control] = size
    return found


def surface_map(surface: Annotated[str, typer.Argument(metavar="[SURFACE]", help="the surface's id; the whole desk "
                                                        "without it")] = "",
                output: Annotated[Path | None, typer.Option("-o", "--output", metavar="FILE", help="draw it: .pdf or "
                                                            ".svg")] = None,
                card: Annotated[bool, typer.Option("--card", help="cards for the wallet, one for each layer")] = False,
                paper: PaperOption = "a4", as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """Show what a surface or the whole desk does, in every layer.

    As text, or with -o as a drawing on one page.
    """
    from brass_pebble.core.desk.look.rows import surface_row
    if surface:
        folder, row = find_surface(desk, surface)
        name, rows = row.name, [row]
    else:
        folder = desk_in_use(desk)
        read = read_desk_folder(folder)
        name, rows = read.name, [surface_row(read, found) for found in read.surfaces.values()]
    if card and (not surface or output is None):
        raise Failure("cards are for one surface, and drawn: name the surface, and a file with -o FILE.pdf or "
                      "-o FILE.svg", "usage")
    if output is None:
        _print_map(rows, as_json=as_json, whole=not surface)
        return
    _draw_map(name, rows, folder, output, "cards" if card else "map" if surface else "desk", paper)


def _print_map(rows: list[BareSurface], *, as_json: bool, whole: bool) -> None:
    from brass_pebble.core.label.overview import lines_of, what_it_does
    from brass_pebble.screen.base.text_drawing import drawn_as_text
    for number, row in enumerate(rows):
        if as_json:
            for control, does in what_it_does(row).items():
                for entry in does:
                    print(json.dumps(({"surface": row.id} if whole else {}) | {
                        "control": control, "layer": entry.layer, "gesture": entry.gesture,
                        "label": entry.label, "words": entry.words}, ensure_ascii=False))
            continue
        print(f"{chr(10) if number else ''}{row.name}\n")
        for line in [*drawn_as_text(row), *lines_of(row)]:
            print(line)


def _draw_map(name: str, rows: list[BareSurface], folder: Path, output: Path, what: str, paper: str) -> None:
    from brass_pebble.core.say.problem import ProblemError
    from brass_pebble.engine.disk.shortcut_files import read_tables
    from brass_pebble.paper.desk_map import desk_page
    from brass_pebble.paper.label_files import write_pages
    from brass_pebble.paper.surface_map import card_pages, map_page
    try:
        if what == "desk":
            tables, _ = read_tables((folder / "programs", "yours"))
            pages = [desk_page(name, rows, tables, paper)]
        else:
            pages = card_pages(rows[0], paper) if what == "cards" else [map_page(rows[0], paper)]
        tell_saved(write_pages(pages, output, f"{name}, {what}"))
    except ProblemError as error:
        raise Failure(str(error.problem), "usage") from None
    except OSError as error:
        raise Failure(f"the drawing cannot be written: {os_text(error)}", "failed") from None
