"""What came from somebody else: which macros and surfaces, and which of their steps a person has approved.

`guests.toml` lies in the desk's folder and goes with it; approvals belong to the person, in their state folder.
"""

from __future__ import annotations

import json
import tomllib
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

from brass_pebble import disk
from brass_pebble.core.limits import load_tables

FILE = "guests.toml"


@dataclass
class Guests:
    """`macros` and `surfaces` are ids, and from where they came; of a surface of the person's own it may be a layer
    alone, as surface/layer.  `approved` are marks of content."""

    macros: dict[str, str] = field(default_factory=dict)
    surfaces: dict[str, str] = field(default_factory=dict)
    approved: set[str] = field(default_factory=set)

    @property
    def unreadable(self) -> bool:
        """Whether the list could not be read, so that everything counts as a guest."""
        return isinstance(self.surfaces, _Everything)

    @property
    def mark(self) -> tuple[object, ...]:
        """What tells whether anything else would sleep now."""
        return type(self.surfaces).__name__, frozenset(self.surfaces), frozenset(self.approved)

    def is_place(self, place: str) -> bool:
        """Whether surface/layer came from somebody else."""
        return place in self.surfaces or place.partition("/")[0] in self.surfaces

    def welcome(self, mark: str) -> bool:
        """Whether something that reaches outside may do so."""
        return mark in self.approved


def read_guests(folder: Path, approvals: Path | None, text: str | None = None) -> Guests:
    """Both files (`text` in place of the first); one that cannot be read approves nothing and, for guests.toml, makes
    everything a guest."""
    found = Guests()
    try:
        text = disk.read_text(folder / FILE) if text is None else text
    except FileNotFoundError:
        text = ""
    except (OSError, UnicodeDecodeError):
        text = "everything = true"
    try:
        data = load_tables(text)
    except tomllib.TOMLDecodeError:
        data = {"everything": True}
    if data.get("everything"):
        found.macros = _Everything()
        found.surfaces = _Everything()
    else:
        for name, kept in (("macro", found.macros), ("surface", found.surfaces)):
            rows = data.get(name, {})
            kept.update({str(key): str(row) for key, row in rows.items()} if isinstance(rows, dict) else {})
    if approvals is not None:
        try:
            marks = json.loads(disk.read_text(approvals))
            found.approved = {str(mark) for mark in marks} if isinstance(marks, list) else set()
        except (OSError, ValueError):
            found.approved = set()
    return found


class _Everything(dict[str, str]):
    """Holds every name: a list of guests that cannot be read lets nothing through."""

    def __contains__(self, name: object) -> bool:
        return True


def write_guests(guests: Guests) -> str:
    """The text of guests.toml."""
    lines = ["# What came from somebody else.  What reaches outside the keyboard in these sleeps until it is approved.",
             "# A line taken away here makes its macro or surface your own."]
    for name, rows in (("macro", guests.macros), ("surface", guests.surfaces)):
        if rows:
            lines += ["", f"[{name}]", *(f"{_quoted(key)} = {_quoted(origin)}" for key, origin in sorted(rows.items()))]
    return "\n".join([*lines, ""])


def _quoted(text: str) -> str:
    # JSON's way of writing texts is TOML's, too.
    return json.dumps(text, ensure_ascii=False)


def add_approvals(file: Path, marks: Iterable[str]) -> None:
    """Approve some more.

    Raises:
        OSError: the file cannot be written.
    """
    known = read_guests(file.parent, file).approved
    disk.private_folder(file.parent)
    disk.write_text(file, json.dumps(sorted(known | set(marks)), indent=0), disk.PRIVATE_FILE)
