"""What reading a large desk brought, kept for the next start as plain data: JSON, and numbers in base64.

A help only: it is known by the texts it was made from and by the program's own files, it is read only where nobody but
this person could have written it, and every number in it is looked at.  What is live, plays other macros, sends
messages, or came from somebody else is not in it.  Nothing in it can run.
"""

from __future__ import annotations

import base64
import binascii
import gc
import hashlib
import json
import os
import stat
from array import array
from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import Any

from brass_pebble import __version__, file_access
from brass_pebble.core.effects.kinds import MIDI
from brass_pebble.core.macro.reader import MOST_AT_HAND, Draft, Remembered, have_lines_at_hand, lines_as_data, walk
from brass_pebble.core.macro.timetable import MOST_EVENTS, Macro, Timetable
from brass_pebble.core.macro.world_steps import Play
from brass_pebble.paths import PACKAGE

FORMAT = 3
# A shorter desk.toml is read as fast without.  A single macro is worth it: its grammar takes longest of all.
LEAST_TEXT = 40_000
MOST_BYTES = 64_000_000
# The files of the program that decide how a text is read.
MADE_OF = ("py", "lark", "tsv")
# What is kept of a macro as it is: its settings.
SETTINGS = ("name", "label", "note", "tint", "again", "overtaken")
_COLUMNS = ("times", "codes", "values", "lines")
BROKEN = (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError, binascii.Error)

Row = dict[str, Any]


def text_key(text: str) -> str:
    """What a text is known by."""
    return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()


@cache
def made_by() -> str:
    """The program itself, down to its last edit."""
    newest = max((file.stat().st_mtime_ns for kind in MADE_OF for file in PACKAGE.rglob(f"*.{kind}")), default=0)
    return f"{FORMAT} {__version__} {newest}"


def made_with(*what: object) -> str:
    """What else has to be the same: the program, and how macros are laid."""
    return f"{made_by()} {what!r}"


class QuickStart:
    """The file of one desk.  `macros` are rows by the key of their text; `tables` those of desk.toml."""

    def __init__(self, file: Path) -> None:
        self._file = file
        self.macros: dict[str, Row] = {}
        self.tables: tuple[str, dict[str, Any]] = ("", {})
        self._made_with = ""

    def read(self) -> None:
        """Take up what was kept; nothing, if anything about it is not as it should be."""
        collecting = gc.isenabled()
        gc.disable()
        try:
            for place in (self._file, self._file.parent):
                about = place.lstat()
                if about.st_uid != os.getuid() or stat.S_IMODE(about.st_mode) & 0o077 or stat.S_ISLNK(about.st_mode):
                    return
            data = file_access.read_bytes(self._file, MOST_BYTES)
            head, _, body = data.partition(b"\n")
            if head.decode() != hashlib.sha256(body).hexdigest():
                return
            row = json.loads(body)
            self._made_with, self.macros = str(row["made_with"]), dict(row["macros"])
            self.tables = str(row["text"]), dict(row["tables"])
            if self._made_with.startswith(f"{made_by()} "):
                have_lines_at_hand(dict(row["lines"]))
        except BROKEN:
            self.macros, self.tables = {}, ("", {})
        finally:
            if collecting:
                gc.enable()

    def fits(self, *what: object) -> bool:
        """Whether it was made by this very program, for macros laid in this way."""
        return bool(self.macros) and self._made_with == made_with(*what)

    def write(self, text: str, tables: Mapping[str, Any], drafts: Mapping[str, tuple[str, Draft]],
              *what: object) -> None:
        """Keep what was read: by id, a macro's text and what came of it.  What goes wrong costs only time later."""
        if len(text) < LEAST_TEXT:
            text, tables = "", {}
        if not drafts and not text:
            return
        try:
            rows = {text_key(one): row for one, draft in drafts.values() if (row := macro_row(draft)) is not None}
            lines = {line: data for one, draft in drafts.values() if text_key(one) not in rows and not draft.problems
                     for line, data in lines_as_data(one).items()}
            kept = {"made_with": made_with(*what), "macros": rows, "text": text_key(text), "tables": tables,
                    "lines": dict(list(lines.items())[:MOST_AT_HAND])}
            body = json.dumps(kept, ensure_ascii=False).encode("utf-8", "surrogatepass")
            file_access.private_folder(self._file.parent)
            whole = hashlib.sha256(body).hexdigest().encode() + b"\n" + body
            file_access.write_bytes(self._file, whole, file_access.PRIVATE_FILE)
        except BROKEN:
            return


def macro_row(draft: Draft) -> Row | None:
    """A macro as plain data; None for one that depends on anything but its text."""
    if isinstance(draft, Remembered) and draft.row is not None:
        found: Row = draft.row
        return found
    macro, timetable = draft.macro, draft.macro.timetable
    if draft.problems or draft.guest is not None or macro.live or not isinstance(timetable.codes, array) or any(
            isinstance(step, Play) for step in walk(draft.steps)):
        return None
    settings = {name: getattr(macro, name) for name in SETTINGS}
    if macro.name == macro.id:
        # Called after its file: another one of the same text is called after its own.
        settings["name"] = ""
    return {**settings, "longest": macro.longest, "types": macro.types_text,
            "taps": list(draft.times), "length": timetable.length, "switches": timetable.switches,
            **{name: base64.b64encode(getattr(timetable, name).tobytes()).decode() for name in _COLUMNS}}


def remembered(row: Row, name: str, text: str, file: str) -> Remembered:
    """A macro from plain data.

    Raises:
        ValueError, KeyError, TypeError, binascii.Error: something of it is not as it should be.
    """
    columns = {}
    for column in _COLUMNS:
        values: array[int] = array("q" if column == "times" else "l")
        values.frombytes(base64.b64decode(row[column], validate=True))
        columns[column] = values
    if len({len(values) for values in columns.values()}) != 1 or len(columns["times"]) > MOST_EVENTS:
        raise ValueError("columns of different length")
    if columns["codes"] and not (min(columns["codes"]) >= 0 and max(columns["codes"]) < MIDI.first):
        raise ValueError("a code that is none")
    if columns["times"] and (columns["times"][0] < 0 or columns["times"][-1] > int(row["length"])):
        raise ValueError("a time outside of the macro")
    timetable = Timetable(columns["times"], columns["codes"], columns["values"], columns["lines"], int(row["length"]))
    timetable.switches = int(row["switches"])
    macro = Macro(name, source=text, timetable=timetable, longest=int(row["longest"]), types_text=bool(row["types"]))
    for setting in SETTINGS:
        setattr(macro, setting, str(row[setting]))
    macro.name = macro.name or name
    taps = row["taps"]
    return Remembered(macro, file=file, times=(int(taps[0]), int(taps[1])), row=row)
