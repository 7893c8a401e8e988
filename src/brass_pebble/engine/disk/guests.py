"""What came from somebody else: which macros and surfaces, and which of their steps a person has approved.

`guests.toml` lies in the desk's folder and goes with it: a word for the reader.  What counts is kept in the person's
own state folder, for each desk by itself and by id: a macro that came from somebody else stays a guest when the list in
the desk's folder is edited or deleted, and when its file is renamed.  What another desk or another macro says never
makes anything of the person's own a guest, even if it is the very same line.  A desk that was never open on this
computer is somebody else's until the person has looked at what in it reaches outside.
"""

from __future__ import annotations

import errno
import hashlib
import json
import tomllib
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

from brass_pebble import file_access
from brass_pebble.core.effects.gate import Opening
from brass_pebble.core.say.limits import load_tables

FILE = "guests.toml"
FORMAT = 1
NEVER_OPENED = "this desk, which was never open on this computer"
NOBODY_KNOWS = "somebody, since guests.toml cannot be read"
# More macros than anybody was ever given.
MOST_GUESTS = 100_000
# So much of what was approved is kept for each, to show later what has changed.
MOST_SEEN = 100_000


@dataclass
class Guests:
    """`macros` and `surfaces` are ids, and from where they came; of a surface of the person's own it may be a layer
    alone, as surface/layer.  `approved` are marks; `seen` is what was approved as a whole, by where it stands.

    `prints` are what each macro's text is known by: one whose file has another name now is found by it.  `came` are
    texts of kept values that came from somebody else; `values` are those that somebody else has set as they are now:
    what their texts are known by, the mark that allowed it, and whose they are.  `opening` are
    chords that open a place for text or commands here.  Without `opened`, everything is a guest.
    """

    macros: dict[str, str] = field(default_factory=dict)
    surfaces: dict[str, str] = field(default_factory=dict)
    approved: set[str] = field(default_factory=set)
    prints: dict[str, str] = field(default_factory=dict)
    seen: dict[str, str] = field(default_factory=dict)
    came: dict[str, str] = field(default_factory=dict)
    values: dict[str, list[str]] = field(default_factory=dict)
    opening: Opening = frozenset()
    opened: bool = True
    unreadable: bool = False

    @cached_property
    def mark(self) -> str:
        """What tells whether anything else would sleep now."""
        row = [sorted(self.macros.items()), sorted(self.surfaces.items()), sorted(self.came.items()),
               sorted(self.approved), self.everything,
               sorted((sorted(held), code) for held, code in self.opening)]
        return hashlib.sha256(json.dumps(row).encode()).hexdigest()

    @property
    def everything(self) -> bool:
        """Whether all there is counts as somebody else's."""
        return self.unreadable or not self.opened

    def of_place(self, place: str) -> str:
        """From whom a surface or surface/layer came, in words; nothing for one of the person's own."""
        return self.surfaces.get(place) or self.surfaces.get(place.partition("/")[0]) or self._otherwise

    def brought(self, surface: str, *, spoken: bool) -> bool:
        """Whether a whole surface is known to have come from somebody else, so that it takes no device by itself."""
        return surface in self.surfaces and (spoken or self.surfaces[surface] != NEVER_OPENED)

    def of_macro(self, name: str) -> str:
        """From whom a macro came, in words; nothing for one of the person's own."""
        return self.macros.get(name) or self._otherwise

    @property
    def _otherwise(self) -> str:
        return "" if not self.everything else NEVER_OPENED if not self.opened else NOBODY_KNOWS

    def approves(self, mark: str) -> bool:
        """Whether something that reaches outside may do so."""
        return mark in self.approved

    def origin(self, name: str) -> str:
        """From where a macro or a surface came, in words."""
        return self.macros.get(name) or self.surfaces.get(name) or (NEVER_OPENED if not self.opened else "")

    def with_moved(self, texts: Mapping[str, str]) -> Guests:
        """The same, where a macro that is gone and one that is there with the very same text are the same."""
        gone = {self.prints[name]: name for name in self.macros if name not in texts and name in self.prints}
        if not gone:
            return self
        macros = dict(self.macros)
        for name, text in texts.items():
            if name not in macros and (old := gone.get(print_of(text))) is not None:
                macros[name] = macros[old]
        return replace(self, macros=macros)


def print_of(text: str) -> str:
    """What a text is known by."""
    return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()[:32]


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
        # Chords that open something on this computer, once they are known.
        self.opening: Opening = frozenset()

    def read(self, folder: Path, text: str | None = None) -> Guests:
        """What counts now, for the desk in a folder; `text` in place of its guests.toml."""
        try:
            listed = guests_of(file_access.read_text(folder / FILE) if text is None else text)
        except FileNotFoundError:
            listed = Guests()
        except (OSError, UnicodeDecodeError):
            listed = Guests(unreadable=True)
        if self._file is None or self._approvals is None:
            return listed
        row = _read_object(self._file)
        opened = row is not None and row.get("opened") is True
        known = row or {}
        values = known.get("values")
        return Guests({**_texts(known.get("macros")), **listed.macros},
                      {**_texts(known.get("surfaces")), **listed.surfaces}, _marks(self._approvals),
                      _texts(known.get("prints")), _texts(known.get("seen")), _texts(known.get("came")),
                      {str(name): _list(one) for name, one in values.items()} if isinstance(values, dict) else {},
                      self.opening, opened, listed.unreadable)

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

    def add(self, macros: dict[str, str], surfaces: dict[str, str], prints: dict[str, str],
            values: Mapping[str, str], whose: str) -> None:
        """Something came from somebody else: ids with from whom, what the macros' texts are known by, and the texts of
        kept values.

        Raises:
            OSError: that could not be noted; then nothing may come in.
        """
        if self._file is None:
            return
        row = _read_object(self._file) or {}
        row["macros"] = {**_texts(row.get("macros")), **macros}
        row["surfaces"] = {**_texts(row.get("surfaces")), **surfaces}
        row["prints"] = {**_texts(row.get("prints")), **prints}
        if values:
            row["came"] = {**_texts(row.get("came")), **values}
            row["values"] = {**(row.get("values") or {}),
                             **{name: [print_of(text), "", whose] for name, text in values.items()}}
        if len(row["macros"]) + len(row["surfaces"]) > MOST_GUESTS:
            raise OSError(errno.EFBIG, "more came from others than can be kept apart")
        self._write(row)

    def set_values(self, values: dict[str, list[str]]) -> None:
        """Which kept values somebody else has set: what their texts are known by, and by which mark.

        Raises:
            OSError: that could not be noted.
        """
        row = _read_object(self._file) if self._file else None
        if row is not None and row.get("values", {}) != values:
            self._write({**row, "values": values})

    def keep_only(self, macros: Mapping[str, str], places: Callable[[str], bool], prints: Mapping[str, str]) -> None:
        """Forget ids of what is no longer there; of what is, keep what its text is known by now.

        Raises:
            OSError: that could not be noted.
        """
        row = _read_object(self._file) if self._file else None
        if not row:
            return
        listed = _texts(row.get("macros"))
        kept = {**row, "macros": {name: origin for name, origin in macros.items()
                                  if name in listed or prints.get(name) in _texts(row.get("prints")).values()},
                "surfaces": {key: value for key, value in _texts(row.get("surfaces")).items() if places(key)}}
        kept["prints"] = {name: prints[name] for name in kept["macros"] if name in prints}
        if kept != row:
            self._write(kept)

    def adopt(self, names: Iterable[str], kept: Iterable[str]) -> None:
        """Make macros and surfaces the person's own, and the values that they keep.

        Raises:
            OSError: that could not be noted.
        """
        if self._file is None:
            return
        row, gone = _read_object(self._file) or {}, set(names)
        for key in ("macros", "surfaces"):
            row[key] = {name: origin for name, origin in _texts(row.get(key)).items() if name not in gone}
        kept = set(kept)
        for key in ("came", "values"):
            row[key] = {name: value for name, value in (row.get(key) or {}).items() if name not in kept}
        self._write(row)

    def approve(self, marks: Iterable[str], seen: Mapping[str, str] | None = None) -> None:
        """Approve some more; `seen` is what they belong to, by where it stands, to show later what has changed.

        Raises:
            OSError: the file cannot be written.
        """
        assert self._approvals is not None
        known = _marks(self._approvals)
        file_access.private_folder(self._approvals.parent)
        text = json.dumps(sorted(known | set(marks)), indent=0)
        file_access.write_text(self._approvals, text, file_access.PRIVATE_FILE)
        row = _read_object(self._file) if seen and self._file else None
        if row is not None and seen:
            self._write({**row, "seen": {**_texts(row.get("seen")),
                                         **{where: whole[:MOST_SEEN] for where, whole in seen.items()}}})

    def _write(self, row: dict[str, Any]) -> None:
        if self._file is not None:
            file_access.private_folder(self._file.parent)
            file_access.write_text(self._file, json.dumps({**row, "format": FORMAT, "opened": True}, indent=0,
                                                   ensure_ascii=False), file_access.PRIVATE_FILE)


def known_approvals(approvals: Path) -> Path | None:
    """The file of approvals, or None for a desk that was never open here: nothing in it is known to be a stranger's."""
    return None if Trust(approvals).is_new else approvals


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
