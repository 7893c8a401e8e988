"""What a parcel holds: its manifest, and the files of a desk.  Pure; the zip is read in `engine/disk/packages`."""

from __future__ import annotations

import re
from collections.abc import Iterable, MutableMapping
from dataclasses import dataclass, field
from typing import Any

from brass_pebble.core.say.problem import ProblemError

FORMAT = 1
KINDS = ("desk", "surfaces", "macros")
MANIFEST = "manifest.json"
# What may be in a parcel: nothing else is ever looked at, let alone written.
_ALLOWED = re.compile(r"desk\.toml|macros/[A-Za-z0-9][\w-]{0,60}\.macro|layouts/[A-Za-z0-9][\w-]{0,60}\.toml"
                      r"|programs/[A-Za-z0-9][\w-]{0,60}\.toml|values/[a-z][a-z0-9_]{0,60}\.toml")
# Bounds of what is taken apart: files, bytes of one, bytes of all.
MOST_FILES, MOST_BYTES, MOST_IN_ALL = 5_000, 4_000_000, 64_000_000
# And lines of all, each of which has to be understood.
MOST_LINES = 50_000
# Larger than these shrink only what was made to burst.
MOST_SHRUNK = 200
# What of a desk is the person's own, and never given away or taken from others: it opens the network, or names devices.
OWN_TABLES = ("network",)
OWN_OF_A_DEVICE = ("serial", "port")
# Nor of a surface: whether it may take the last keyboard there is, is for whom it belongs to.
OWN_OF_A_SURFACE = ("may_be_only_keyboard", "may_be_only_pointer")
# Nor of how a microphone is listened to: a folder of this machine.
OWN_OF_LISTENING = ("second",)


@dataclass(frozen=True)
class Manifest:
    """`kind` is one of `KINDS`; `files` are bytes and SHA-256 of each file."""

    kind: str
    name: str
    made_with: str
    files: dict[str, tuple[int, str]]


@dataclass(frozen=True)
class Parcel:
    """A parcel as read: the tables of its desk.toml (empty for macros alone), and texts by id."""

    manifest: Manifest
    text: str = ""
    tables: dict[str, Any] = field(default_factory=dict)
    macros: dict[str, str] = field(default_factory=dict)
    layouts: dict[str, str] = field(default_factory=dict)
    programs: dict[str, str] = field(default_factory=dict)
    # What macros keep, where whoever gave it wanted it in.
    values: dict[str, str] = field(default_factory=dict)
    digest: str = ""

    @property
    def surfaces(self) -> dict[str, Any]:
        """The tables of its surfaces, by id."""
        found = self.tables.get("surface", {})
        return {name: table for name, table in found.items() if isinstance(table, dict)} if isinstance(found, dict) \
            else {}


def check_names(names: Iterable[str]) -> None:
    """Whether files of these names may be in a parcel.

    Raises:
        ProblemError: one of them may not.
    """
    seen: set[str] = set()
    for name in names:
        if name == MANIFEST:
            continue
        if not _ALLOWED.fullmatch(name):
            raise ProblemError(f"the package holds “{printable(name)}”, which does not belong to a desk",
                               hint="Nothing was read. Ask whoever made it for another one")
        if name.casefold() in seen:
            raise ProblemError(f"the file contains “{name}” twice", hint="Nothing was read")
        seen.add(name.casefold())


def printable(name: str) -> str:
    """A name from outside, without anything that could steer the terminal, and not too long."""
    return "".join(char if char.isprintable() else "�" for char in name)[:80]


# Besides control characters: what turns the direction of writing round, so that a text reads otherwise than it runs.
_TURNS = frozenset("\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069\u200e\u200f")
_LINE_ENDS = "\n\r\t"


def is_plain(text: str) -> bool:
    """Whether a text has nothing in it that could steer a terminal, or hide what it says."""
    return not any((char < " " and char not in _LINE_ENDS) or "\x7f" <= char <= "\x9f" or char in _TURNS
                   for char in text)


def check_plain(name: str, value: Any) -> None:
    """Look through a file's text, or the values of its tables.

    Raises:
        ProblemError: one of them could steer a terminal or hide what it says.
    """
    if isinstance(value, str):
        if not is_plain(value):
            raise ProblemError(f"“{name}” contains characters that could control a terminal or hide text",
                               hint="Nothing was read. Ask whoever made it for another one")
    elif isinstance(value, dict):
        for key, inner in value.items():
            check_plain(name, key)
            check_plain(name, inner)
    elif isinstance(value, list):
        for inner in value:
            check_plain(name, inner)


def read_manifest(data: object) -> Manifest:
    """A manifest from its JSON.

    Raises:
        ProblemError: it is none, or of a later version of the program.
    """
    if not isinstance(data, dict):
        raise ProblemError("the package's manifest is not valid", hint="It has to be a JSON object; nothing was read")
    version = data.get("format")
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise ProblemError("the package's manifest has no format", hint="It may be broken; nothing was read")
    if version > FORMAT:
        raise ProblemError(f"the package has format {version}, which a later version of this program wrote",
                           hint=f"This one reads formats up to {FORMAT}. Ask for one made with an earlier version, or "
                           "update")
    kind, files = data.get("kind"), data.get("files")
    if kind not in KINDS or not isinstance(files, dict):
        raise ProblemError("the package's manifest is broken: its kind or its list of files is missing",
                           hint="Nothing was read. Ask whoever made it for another one")
    found = {}
    for name, row in files.items():
        size, digest = (row.get("bytes"), row.get("sha256")) if isinstance(row, dict) else (None, None)
        if not isinstance(size, int) or isinstance(size, bool) or not isinstance(digest, str):
            raise ProblemError(f"the package's manifest does not describe “{printable(str(name))}”",
                               hint="Nothing was read")
        found[str(name)] = (size, digest)
    check_names(found)
    return Manifest(kind, printable(str(data.get("name", ""))) or "unnamed", printable(str(data.get("made_with", ""))),
                    found)


def without_own(tables: dict[str, Any]) -> dict[str, Any]:
    """A desk's tables without what is the giver's own: the network, and which very device it was."""
    found = {name: value for name, value in tables.items() if name not in OWN_TABLES}
    surfaces = found.get("surface")
    if isinstance(surfaces, dict):
        found["surface"] = {name: surface_without_own(table) for name, table in surfaces.items()
                            if isinstance(table, dict)}
    return found


def take_out_own(table: MutableMapping[str, Any]) -> None:
    """Take out of a surface's table, as it is written, what is never given away; which device it is stays."""
    for name in OWN_OF_A_SURFACE:
        table.pop(name, None)
    listening = table.get("listening")
    if isinstance(listening, MutableMapping):
        for name in OWN_OF_LISTENING:
            listening.pop(name, None)


def surface_without_own(table: dict[str, Any]) -> dict[str, Any]:
    """A surface's table without serial numbers and ports, without leave to take the only keyboard, and without folders
    of the giver's machine."""
    def rule(row: Any) -> Any:
        if not isinstance(row, dict):
            return row
        return {key: value for key, value in row.items() if key not in OWN_OF_A_DEVICE}
    found = {key: dict(value) if key == "listening" and isinstance(value, dict) else value
             for key, value in table.items()}
    take_out_own(found)
    if "device" in found:
        found["device"] = rule(found["device"])
    if isinstance(found.get("also"), list):
        found["also"] = [rule(row) for row in found["also"]]
    return found
