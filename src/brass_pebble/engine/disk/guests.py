"""What came from somebody else: which macros and surfaces, and which of their steps a person has approved.

`guests.toml` lies in the desk's folder and goes with it: a word for the reader.  What counts is kept in the person's
own state folder and is known by content: a macro that came from somebody else stays a guest when it is renamed or
copied, and when the list in the desk's folder is edited or deleted.  A desk that was never open on this computer is
somebody else's until the person has looked at what in it reaches outside.
"""

from __future__ import annotations

import errno
import hashlib
import json
import tomllib
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

from brass_pebble import file_access
from brass_pebble.core.effects.reach import Reach
from brass_pebble.core.macro.reach import fingerprint, reaches
from brass_pebble.core.macro.reader import Draft, Remembered
from brass_pebble.core.say.limits import load_tables

FILE = "guests.toml"
FORMAT = 1
NEVER_OPENED = "this desk, which was never open on this computer"
# More marks than anybody was ever given.
MOST_MARKS = 200_000


@dataclass
class Guests:
    """`macros` and `surfaces` are ids, and from where they came; of a surface of the person's own it may be a layer
    alone, as surface/layer.  `approved` are marks of content.

    `strange` are the marks by which what came from others is known under any name, and `own` those of them that the
    person's own macros had already.  Without `opened`, everything is a guest.
    """

    macros: dict[str, str] = field(default_factory=dict)
    surfaces: dict[str, str] = field(default_factory=dict)
    approved: set[str] = field(default_factory=set)
    strange: frozenset[str] = frozenset()
    own: frozenset[str] = frozenset()
    opened: bool = True
    unreadable: bool = False

    @cached_property
    def mark(self) -> str:
        """What tells whether anything else would sleep now."""
        row = [sorted(self.macros), sorted(self.surfaces), sorted(self.approved), sorted(self.strange - self.own),
               self.everything]
        return hashlib.sha256(json.dumps(row).encode()).hexdigest()

    @property
    def everything(self) -> bool:
        """Whether all there is counts as somebody else's."""
        return self.unreadable or not self.opened

    @cached_property
    def _strange(self) -> frozenset[str]:
        return self.strange - self.own

    def is_place(self, place: str) -> bool:
        """Whether surface/layer came from somebody else."""
        return self.everything or place in self.surfaces or place.partition("/")[0] in self.surfaces

    def is_macro(self, name: str, draft: Draft) -> bool:
        """Whether a macro came from somebody else, by its id or by what it is."""
        if self.everything or name in self.macros:
            return True
        if not self._strange:
            return False
        if isinstance(draft, Remembered):
            return draft.print_ in self._strange or not draft.marks.isdisjoint(self._strange)
        return fingerprint(draft.steps) in self._strange or any(
            reach.words_mark in self._strange for reach in reaches(draft.steps))

    def rights(self, name: str, draft: Draft) -> Callable[[str], bool] | None:
        """What tells whether a guest's mark is approved; None for a macro of the person's own."""
        return self.welcome if self.is_macro(name, draft) else None

    def sleeps(self, place: str, reach: Reach) -> bool:
        """Whether something that a binding does by itself has to wait for approval."""
        return (self.is_place(place) or reach.words_mark in self._strange) and not self.welcome(reach.mark)

    def welcome(self, mark: str) -> bool:
        """Whether something that reaches outside may do so."""
        return mark in self.approved

    def origin(self, name: str) -> str:
        """From where a macro or a surface came, in words."""
        return self.macros.get(name) or self.surfaces.get(name) or (NEVER_OPENED if not self.opened else "")


def guests_of(text: str) -> Guests:
    """What a guests.toml says; one that cannot be read makes everything a guest."""
    found = Guests()
    try:
        data = load_tables(text)
    except tomllib.TOMLDecodeError:
        return Guests(unreadable=True)
    for name, kept in (("macro", found.macros), ("surface", found.surfaces)):
        rows = data.get(name, {})
        kept.update({str(key): str(row) for key, row in rows.items()} if isinstance(rows, dict) else {})
    return found


def write_guests(guests: Guests) -> str:
    """The text of guests.toml."""
    lines = ["# What came from somebody else.  What reaches outside the keyboard in these sleeps until it is approved.",
             "# This list is for readers: brass-pebble desk adopt makes something your own."]
    for name, rows in (("macro", guests.macros), ("surface", guests.surfaces)):
        if rows:
            lines += ["", f"[{name}]", *(f"{_quoted(key)} = {_quoted(origin)}" for key, origin in sorted(rows.items()))]
    return "\n".join([*lines, ""])


def _quoted(text: str) -> str:
    # JSON's way of writing texts is TOML's, too.
    return json.dumps(text, ensure_ascii=False)


class Trust:
    """What this person's state folder says of one desk.  Without an approvals file, everything is their own."""

    def __init__(self, approvals: Path | None) -> None:
        self._approvals = approvals
        self._file = approvals.parent.parent / "trust" / approvals.name if approvals else None
        self._strange_file = self._file.parent / "strange.json" if self._file else None

    def read(self, folder: Path, text: str | None = None) -> Guests:
        """What counts now, for the desk in a folder; `text` in place of its guests.toml."""
        try:
            listed = guests_of(file_access.read_text(folder / FILE) if text is None else text)
        except FileNotFoundError:
            listed = Guests()
        except (OSError, UnicodeDecodeError):
            listed = Guests(unreadable=True)
        if self._file is None or self._strange_file is None or self._approvals is None:
            return listed
        row = _read_object(self._file)
        opened = row is not None and row.get("opened") is True
        known = row or {}
        return Guests({**_texts(known.get("macros")), **listed.macros},
                      {**_texts(known.get("surfaces")), **listed.surfaces}, _marks(self._approvals),
                      frozenset(_marks(self._strange_file)), frozenset(_list(known.get("own"))), opened,
                      listed.unreadable)

    @property
    def is_new(self) -> bool:
        """Whether the desk was never open here."""
        return self._file is not None and not (_read_object(self._file) or {}).get("opened")

    def know(self) -> None:
        """The desk is the person's own from now on, as it is.

        Raises:
            OSError: that could not be noted.
        """
        self._write(_read_object(self._file) or {} if self._file else {})

    def add(self, macros: dict[str, str], surfaces: dict[str, str], strange: Iterable[str], own: Iterable[str]) -> None:
        """Something came from somebody else: their ids, the marks they are known by, and the marks of what was there.

        Raises:
            OSError: that could not be noted; then nothing may come in.
        """
        if self._file is None or self._strange_file is None:
            return
        row = _read_object(self._file) or {}
        marks = _marks(self._strange_file) | set(strange)
        if len(marks) > MOST_MARKS:
            raise OSError(errno.EFBIG, "more came from others than can be kept apart")
        file_access.private_folder(self._file.parent)
        file_access.write_text(self._strange_file, json.dumps(sorted(marks), indent=0), file_access.PRIVATE_FILE)
        row["macros"] = {**_texts(row.get("macros")), **macros}
        row["surfaces"] = {**_texts(row.get("surfaces")), **surfaces}
        row["own"] = sorted({*_list(row.get("own")), *own})
        self._write(row)

    def keep_only(self, macros: Iterable[str], places: Callable[[str], bool]) -> None:
        """Forget ids of what is no longer there; what comes under such an id later is judged by what it is.

        Raises:
            OSError: that could not be noted.
        """
        row = _read_object(self._file) if self._file else None
        if not row:
            return
        there = set(macros)
        kept = {**row, "macros": {key: value for key, value in _texts(row.get("macros")).items() if key in there},
                "surfaces": {key: value for key, value in _texts(row.get("surfaces")).items() if places(key)}}
        if kept != row:
            self._write(kept)

    def adopt(self, names: Iterable[str], marks: Iterable[str]) -> None:
        """Make macros and surfaces the person's own.

        Raises:
            OSError: that could not be noted.
        """
        if self._file is None:
            return
        row, gone = _read_object(self._file) or {}, set(names)
        for key in ("macros", "surfaces"):
            row[key] = {name: origin for name, origin in _texts(row.get(key)).items() if name not in gone}
        row["own"] = sorted({*_list(row.get("own")), *marks})
        self._write(row)

    def approve(self, marks: Iterable[str]) -> None:
        """Approve some more.

        Raises:
            OSError: the file cannot be written.
        """
        assert self._approvals is not None
        known = _marks(self._approvals)
        file_access.private_folder(self._approvals.parent)
        text = json.dumps(sorted(known | set(marks)), indent=0)
        file_access.write_text(self._approvals, text, file_access.PRIVATE_FILE)

    def _write(self, row: dict[str, Any]) -> None:
        if self._file is not None:
            file_access.private_folder(self._file.parent)
            file_access.write_text(self._file, json.dumps({**row, "format": FORMAT, "opened": True}, indent=0,
                                                   ensure_ascii=False), file_access.PRIVATE_FILE)


def _read_object(file: Path) -> dict[str, Any] | None:
    try:
        row = json.loads(file_access.read_text(file))
    except (OSError, ValueError, RecursionError):
        return None
    return row if isinstance(row, dict) else None


def _marks(file: Path) -> set[str]:
    try:
        return set(_list(json.loads(file_access.read_text(file))))
    except (OSError, ValueError, RecursionError):
        return set()


def _list(value: object) -> list[str]:
    return [str(item) for item in value] if isinstance(value, list) else []


def _texts(value: object) -> dict[str, str]:
    return {str(key): str(text) for key, text in value.items()} if isinstance(value, dict) else {}
