"""Which parts of a desk came from somebody else: taken down when they come in, looked up whenever the desk is read."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Protocol

from brass_pebble import file_access
from brass_pebble.core.desk.action import DEEDS
from brass_pebble.core.desk.model import Desk
from brass_pebble.core.desk.read.surfaces import device_reach
from brass_pebble.core.effects.reach import TAKES_DEVICE, Reach
from brass_pebble.core.macro.steps import LOOKS
from brass_pebble.core.macro.value.kept_text import FOLDER as VALUES
from brass_pebble.core.say.problem import ProblemError

from .desk_reader import DeskReader, Loaded
from .edits import Edit
from .guests import FILE, NEVER_OPENED, Guests, Trust, guests_of, print_of, write_guests
from .macro_files import MacroFiles
from .versions import VersionLog

# What a desk that is new on this computer may do without being taken for somebody else's.
HARMLESS_ALONE = frozenset((TAKES_DEVICE, LOOKS, *(deed.reach for deed in DEEDS.values())))
# "surface", its id, "device".
LEAST_DEVICE_PATH = 3


class DeskFiles(Protocol):
    """What the book asks of the desk's files."""

    folder: Path
    trust: Trust
    log: VersionLog
    reader: DeskReader
    macro_files: MacroFiles
    live: Loaded | None

    def load(self) -> Loaded:
        """The desk as it stands in its files."""

    def asleep(self, desk: Desk, guests: Guests | None = None) -> list[tuple[str, Reach]]:
        """What of a desk would sleep."""

    def read_file(self, name: str) -> str | None:
        """A file of the desk; None if it is not there."""

    def change(self, edit: Edit) -> str:
        """Carry an edit out; what it was, in words."""


class GuestBook:
    """Kept for a store."""

    def __init__(self, store: DeskFiles) -> None:
        self._store = store

    def guests(self) -> Guests:
        """What came from somebody else and is there, and what of it is approved."""
        return self._there(self._store.trust.read(self._store.folder))

    def _there(self, guests: Guests) -> Guests:
        """Without what is no longer there, and with what is there under another name."""
        if guests.macros:
            texts = self._store.macro_files.texts()
            guests = guests.with_moved(texts)
            guests.macros = {name: origin for name, origin in guests.macros.items() if name in texts}
        if guests.surfaces and self._store.live is not None:
            guests.surfaces = {name: origin for name, origin in guests.surfaces.items() if self.has_place(name)}
        return guests

    def has_place(self, place: str) -> bool:
        """Whether a surface, or surface/layer, is there."""
        surface, _, layer = place.partition("/")
        found = self._store.live.desk.surfaces.get(surface) if self._store.live is not None else None
        return found is not None and (not layer or any(one.id == layer for one in found.layers))

    def get_to_know(self) -> None:
        """A desk that was never open on this computer: what in it reaches outside sleeps until the person has looked.

        Raises:
            OSError: that could not be noted.
        """
        if not self._store.trust.is_new:
            return
        if self._store.log.entries():
            # It was open here before this was noted.
            self._store.trust.know()
            return
        loaded = self._store.load()
        guests = self.guests()
        # Its devices, and what stays on this desk, make nobody a stranger.
        if all(reach.does in HARMLESS_ALONE for _, reach in self._store.asleep(loaded.desk, guests)):
            self._store.trust.know()
            return
        macros = {name: guests.macros.get(name, NEVER_OPENED) for name in self._store.reader.written}
        places = {name: guests.surfaces.get(name, NEVER_OPENED) for name in loaded.desk.surfaces}
        values = file_access.texts_in(self._store.folder / VALUES, ".toml")
        self._store.trust.add(macros, places, self._prints(macros), values, NEVER_OPENED)

    def _prints(self, macros: Iterable[str]) -> dict[str, str]:
        """What the texts of macros are known by."""
        written = self._store.reader.written
        return {name: print_of(written[name].macro.source) for name in macros if name in written}

    def note(self, text: str, values: Mapping[str, str]) -> None:
        """What came in with a change is noted before it is there; `values` are texts of kept values by name."""
        listed, known = guests_of(text), self._store.trust.read(self._store.folder)
        macros = {name: origin for name, origin in listed.macros.items()
                  if name not in known.macros or self._prints([name]).get(name) != known.prints.get(name)}
        places = {name: origin for name, origin in listed.surfaces.items() if name not in known.surfaces}
        if macros or places or values:
            try:
                whose = next(iter((*macros.values(), *places.values())), "a package")
                self._store.trust.add(macros, places, self._prints(macros), values, whose)
            except OSError as error:
                raise ProblemError(f"it could not be noted that this came from somebody else: {file_access.say(error)}",
                                   hint=f"Nothing was changed. {file_access.next_step(error)}") from None

    def keep_up(self) -> None:
        """Macros under other names and with other texts are known by these from now on; what is gone is forgotten.

        Raises:
            OSError: that could not be noted.
        """
        there = self.guests().macros
        self._store.trust.keep_only(there, self.has_place, self._prints(there))

    def lend(self, edit: Edit, desk: Desk) -> bool:
        """What the person gives a stranger's surface is approved by that: a device that is set by itself, or that the
        surface of the same name had before.  Whether there is any."""
        given = {path[1] for path, _ in edit.values if len(path) >= LEAST_DEVICE_PATH and path[0] == "surface"
                 and path[2] in ("device", "also")}
        before = self._store.live.desk.surfaces if self._store.live is not None else {}
        marks = []
        for surface in desk.surfaces.values():
            known = before.get(surface.id)
            had = () if known is None or known.wanted else (known.rule, *known.also)
            marks += [device_reach(surface.id, rule).mark for rule in surface.wanted
                      if surface.id in given or rule in had]
        if marks:
            self._store.trust.approve(marks)
        return bool(marks)

    def adopt(self, names: Iterable[str]) -> str:
        """Make macros or surfaces that came from somebody else the person's own; what was done, in words.

        Raises:
            ProblemError: one of them is not a guest.
        """
        self._store.load()
        names, guests = list(names), self.guests()
        for name in names:
            draft = self._store.reader.written.get(name)
            if name not in guests.surfaces and (draft is None or draft.guest is None):
                there = ", ".join([*guests.macros, *guests.surfaces])
                raise ProblemError(f"“{name}” is not a guest",
                                   hint=f"Guests are {there}" if there else "There are no guests in this desk")
        listed = guests_of(self._store.read_file(FILE) or "")
        kept = Guests({key: value for key, value in listed.macros.items() if key not in names},
                      {key: value for key, value in listed.surfaces.items() if key not in names})
        if (listed.macros, listed.surfaces) != (kept.macros, kept.surfaces):
            self._store.change(Edit(f"adopted: {', '.join(names)}", files=((FILE, write_guests(kept)),)))
        written = self._store.reader.written
        self._store.trust.adopt(names, (value for name in names if name in written
                                        for value in written[name].macro.keeps))
        return f"{', '.join(names)}: yours from now on"
