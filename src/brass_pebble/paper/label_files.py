"""Labels written to files, and what is remembered of it: only what changed since then needs printing again."""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path

from brass_pebble.core.desk.look.drawn import BareSurface
from brass_pebble.core.label.faces import changed, faces, layers_shown
from brass_pebble.core.label.sheet import BLEED, Options, Sheet, make_sheet
from brass_pebble.core.label.sizes import Size, read_size
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.say.saved import Saved
from brass_pebble.file_access import private_folder, read_text, write_bytes, write_text

from .font import measure, say_lacking, typeface, what_no_font_has
from .label_sheet import sheet_pages
from .shapes import Page
from .system_fonts import package_for


def sheet_of(surface: BareSurface, *, layers: Iterable[str] = (), paper: str = "a4", cap: str = "",
             sizes: dict[str, str] | None = None, bleed: float = BLEED,
             printed: dict[str, str] | None = None) -> tuple[Sheet, str]:
    """The sheet of a surface's labels, and what it is in words.  With `printed`, only what differs from that.

    Sizes are those that the desk has for the surface, unless others are given here.

    Raises:
        ProblemError: no such paper, a size that is none.
    """
    shown = layers_shown(surface, layers)
    found = faces(surface, shown)
    if printed is not None:
        found = changed(found, printed)
    own = surface.labels
    wanted: dict[str, Size] = {control: read_size(size) for control, size in {**own.sizes, **(sizes or {})}.items()}
    size = read_size(cap or own.cap) if cap or own.cap else None
    sheet = make_sheet(found, surface.layout, Options(paper, size, wanted, bleed), measure)
    names = ", ".join(layer.name for layer in shown) or "no layer yet"
    about = f"{names}: {say_count(sheet.count, 'label')}" + (
        ", only what changed" if printed is not None else "")
    return sheet, about


def label_pages(surface: BareSurface, sheet: Sheet, about: str) -> list[Page]:
    """The pages of a sheet."""
    return sheet_pages(sheet, surface.name, about)


def notes_of(sheet: Sheet, *, fonts: bool = True) -> list[str]:
    """What a person should know before printing: what was abbreviated, what is too large; with `fonts`, what cannot be
    drawn."""
    notes = [f"{item.control}: “{item.text}” is printed as “{item.shown}”" for item in sheet.shortened]
    notes += [f"{control}: its label is larger than the paper, so it is left out" for control in sheet.too_large]
    if not fonts:
        return notes
    texts = {label.face.control: " ".join(entry.label for entry in label.face.entries)
             for page in sheet.pages for label in page}
    notes += [f"{control}: {say_lacking(lacking, package_for(lacking[0]))}"
              for control, text in texts.items() if (lacking := typeface(True).lacks(text))]
    return notes


def read_printed(file: Path) -> dict[str, str]:
    """What was printed last, by control; nothing if nothing was, or the file cannot be read."""
    try:
        data = json.loads(read_text(file))
    except (OSError, ValueError):
        return {}
    return {str(name): str(mark) for name, mark in data.items()} if isinstance(data, dict) else {}


def remember_printed(file: Path, sheet: Sheet) -> None:
    """Note what is on the labels of a sheet that was written."""
    known = read_printed(file)
    known |= {label.face.control: label.face.mark for page in sheet.pages for label in page}
    private_folder(file.parent)
    write_text(file, json.dumps(known, indent=1, sort_keys=True))


def write_pages(pages: list[Page], file: Path, title: str) -> Saved:
    """Write pages as PDF, or as SVG: a file for each page, the second one named FILE-2.svg and so on.

    Raises:
        ProblemError: the file's name tells no format.
        OSError: it cannot be written.
    """
    kind, notes = file.suffix.lower(), what_no_font_has(pages)
    if kind == ".pdf":
        from .pdf import pages_pdf
        write_bytes(file, pages_pdf(pages, title), 0o644)
        return Saved([file], notes)
    if kind != ".svg":
        raise ProblemError(f"“{file.name}” is not a drawing", hint="Let its name end in .pdf or .svg")
    from .svg import page_svg
    written = []
    for number, page in enumerate(pages, 1):
        place = file if number == 1 else file.with_name(f"{file.stem}-{number}{file.suffix}")
        write_text(place, page_svg(page, title), 0o644)
        written.append(place)
    return Saved(written, notes)
