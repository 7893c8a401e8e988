"""Which parts of a desk came from somebody else: taken down when they come in, looked up whenever the desk is read."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from pathlib import Path
from typing import Protocol

from brass_pebble import file_access
from brass_pebble.core.desk.model import Desk
from brass_pebble.core.effects.reach import Reach
from brass_pebble.core.macro.reach import fingerprint, reaches
from brass_pebble.core.macro.reader import walk
from brass_pebble.core.macro.world_steps import Play
from brass_pebble.core.say.problem import ProblemError

from .desk_reader import DeskReader, Loaded
from .edits import Edit
from .guests import FILE, NEVER_OPENED, Guests, Trust, guests_of, write_guests
from .macro_files import MacroFiles
from .versions import VersionLog


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
        """Without what is no longer there: what comes under such an id later is judged by what it is."""
        if guests.macros:
            guests.macros = {name: origin for name, origin in guests.macros.items()
                             if self._store.macro_files.folder.joinpath(f"{name}.macro").exists()}
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
        if not self._store.asleep(loaded.desk, guests):
            self._store.trust.know()
            return
        macros = {name: guests.macros.get(name, NEVER_OPENED) for name in self._store.reader.written}
        places = {name: guests.surfaces.get(name, NEVER_OPENED) for name in loaded.desk.surfaces}
        self._store.trust.add(macros, places, self._marks(loaded.desk, macros, places), ())

    def _marks(self, desk: Desk, macros: Collection[str], places: Collection[str]) -> set[str]:
        """The marks by which macros and places are known under any name."""
        found: set[str] = set()
        for name, draft in self._store.reader.written.items():
            if name in macros:
                marks = {reach.words_mark for reach in reaches(draft.steps)}
                plays = any(isinstance(step, Play) for step in walk(draft.steps))
                found |= marks | ({fingerprint(draft.steps)} if marks or plays or draft.keys else set())
        for surface in desk.surfaces.values():
            for layer in surface.layers:
                if surface.id in places or f"{surface.id}/{layer.id}" in places:
                    found |= {reach.words_mark for binding in layer.bindings.values()
                              for reach in binding.action.reaches()}
        return found

    def note(self, text: str, desk: Desk, own: set[str]) -> None:
        """What came in with a change is noted before it is there."""
        listed, known = guests_of(text), self._store.trust.read(self._store.folder)
        macros = {name: origin for name, origin in listed.macros.items() if name not in known.macros}
        places = {name: origin for name, origin in listed.surfaces.items() if name not in known.surfaces}
        if macros or places:
            try:
                self._store.trust.add(macros, places, self._marks(desk, macros, places), own)
            except OSError as error:
                raise ProblemError(f"it could not be noted that this came from somebody else: {file_access.say(error)}",
                                   hint=f"Nothing was changed. {file_access.next_step(error)}") from None

    def own_marks(self) -> set[str]:
        """The marks of what the person's own macros and surfaces do already."""
        if self._store.live is None:
            return set()
        guests = self.guests()
        return self._marks(self._store.live.desk, [name for name, draft in self._store.reader.written.items()
                                             if draft.guest is None],
                           [f"{surface.id}/{layer.id}" for surface in self._store.live.desk.surfaces.values()
                            for layer in surface.layers if not guests.is_place(f"{surface.id}/{layer.id}")])

    def adopt(self, names: Iterable[str]) -> str:
        """Make macros or surfaces that came from somebody else the person's own; what was done, in words.

        Raises:
            ProblemError: one of them is no guest.
        """
        names, guests, loaded = list(names), self.guests(), self._store.load()
        for name in names:
            draft = self._store.reader.written.get(name)
            if name not in guests.surfaces and (draft is None or draft.guest is None):
                there = ", ".join([*guests.macros, *guests.surfaces])
                raise ProblemError(f"“{name}” is not a guest",
                                   hint=f"Guests are {there}" if there else "There are no guests in this desk")
        marks = self._marks(loaded.desk, names, names)
        listed = guests_of(self._store.read_file(FILE) or "")
        kept = Guests({key: value for key, value in listed.macros.items() if key not in names},
                      {key: value for key, value in listed.surfaces.items() if key not in names})
        if (listed.macros, listed.surfaces) != (kept.macros, kept.surfaces):
            self._store.change(Edit(f"adopted: {', '.join(names)}", files=((FILE, write_guests(kept)),)))
        self._store.trust.adopt(names, marks)
        return f"{', '.join(names)}: yours from now on"
