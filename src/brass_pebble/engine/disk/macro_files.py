"""The macro files of a desk, read once: what did not change is not taken apart again.

A text that is broken never takes the place of one that works: the last good one plays on, until the text is put right.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

from brass_pebble import file_access
from brass_pebble.core.effects.gate import Opening
from brass_pebble.core.macro.guests.closure import Wholes
from brass_pebble.core.macro.guests.reach import Guest
from brass_pebble.core.macro.reader import Draft, Remembered, link, parse, walk
from brass_pebble.core.macro.timetable import Macro
from brass_pebble.core.macro.world_steps import Play
from brass_pebble.core.say.memo import Memo
from brass_pebble.core.say.problem import Problem
from brass_pebble.core.signals.keymap import Typist

from .quick_start import BROKEN, QuickStart, Row, remembered, text_key
from .start_guard import StartGuard

# Times of files are this coarse at worst, in ns.
SETTLED = 2_000_000_000
# More macros than any desk has.
MOST_FILES = 20_000
STANDS = "The last good version stays in use"
LEFT_OUT = "the last two starts ended while this file was read, so it is left out"
CHANGE_IT = "Correct it and save it; it is read again once it has changed"

class Approves(Protocol):
    """Which macros came from somebody else; `mark` is another one when any answer may be."""

    @property
    def mark(self) -> str: ...

    def of_macro(self, name: str) -> str:
        """From whom a macro came, in words; nothing for one of the person's own."""

    @property
    def came(self) -> dict[str, str]:
        """Texts of kept values that came from somebody else."""

    @property
    def opening(self) -> Opening:
        """Chords that open a place for text or commands on this computer."""

    def approves(self, mark: str) -> bool:
        """Whether a mark is approved."""


@dataclass(frozen=True)
class KnownMacro:
    """A macro as it was read: as it is written, and as it plays, which is an earlier one while the text is broken."""

    text: str
    written: Draft
    played: Draft


@dataclass
class Found:
    """All macros of a desk: as they are written (with their mistakes), and as they play."""

    written: dict[str, Draft]
    played: dict[str, Draft]


@dataclass
class MacroFiles:
    """The macros in a folder.  `known` are those that were read, and `made_with` what else they depend on."""

    folder: Path
    # Made from its text, and what sleeps in it.
    known: Memo[str, KnownMacro] = field(default_factory=Memo)
    made_with: tuple[object, ...] = ()
    # Files that are not read, and why.
    unreadable: dict[str, str] = field(default_factory=dict)
    good: dict[str, str] = field(default_factory=dict)
    guard: StartGuard | None = None
    quick: QuickStart | None = None
    # What each macro leads to as a whole, of the texts that were read last.
    wholes: Wholes = field(default_factory=lambda: Wholes({}, lambda name: ""))
    # By the file: when it was changed, its size, its inode.
    _seen: Memo[str, str] = field(default_factory=Memo)

    def names(self) -> set[str]:
        """Every macro's id."""
        try:
            return {name.removesuffix(".macro") for name in os.listdir(self.folder) if name.endswith(".macro")
                    and not name.startswith(".")}
        except OSError:
            return set()

    def texts(self) -> dict[str, str]:
        """Every macro's text by its id; broken bytes are replaced by what they are not."""
        found = {}
        seen: list[str] = []
        now = time.time_ns()
        unreadable: dict[str, str] = {}
        try:
            entries = sorted((entry for entry in os.scandir(self.folder) if entry.name.endswith(".macro")
                              and not entry.name.startswith(".")), key=lambda entry: entry.name)
        except OSError:
            self._seen, self.unreadable = Memo(), {}
            return {}
        for entry in entries[:MOST_FILES]:
            name = entry.name.removesuffix(".macro")
            try:
                about = entry.stat()
                stamp = about.st_mtime_ns, about.st_size, about.st_ino
                known = self._seen.find(entry.name, stamp)
                # A file that was written a moment ago may be written again within the same tick of its clock.
                if known is not None and now - about.st_mtime_ns > SETTLED:
                    text = known
                else:
                    text = file_access.read_bytes(self.folder / entry.name, file_access.largest(entry.name)).decode(
                        "utf-8", "surrogateescape")
                    self._seen.keep(entry.name, stamp, text)
                seen.append(entry.name)
            except OSError as error:
                unreadable[name] = file_access.say(error)
                text = ""
            found[name] = text
        self._seen.only(set(seen))
        self.unreadable = unreadable
        return found

    def read(self, texts: dict[str, str], tap: int, gap: int, typist: Typist | None, keyboard: str,
             sleeps: Approves, earlier: Callable[[str], Iterable[str]] = lambda name: ()) -> Found:
        """Every macro read and linked.  `earlier(id)` are texts that a broken one had before, the newest first."""
        made_with = (tap, gap, keyboard, typist is None)
        if made_with != self.made_with:
            self.known, self.made_with = Memo(), made_with
        times = tap, gap
        # What was read at an earlier start, if it was read in just this way.
        first = not self.known.names()
        quick = self.quick.macros if self.quick is not None and first and self.quick.fits(*made_with) else {}
        fresh: dict[str, Draft] = {}
        written: dict[str, Draft] = {}
        played: dict[str, Draft] = {}
        self.wholes = Wholes(texts, sleeps.of_macro, sleeps.came)
        for name, text in texts.items():
            known = self.known.find(name, self._stamp(name, text, sleeps))
            if known is not None:
                written[name], played[name] = known.written, known.played
            elif quick and not sleeps.of_macro(name) and (
                    kept := self._remember(quick, name, text, typist)) is not None:
                written[name] = played[name] = kept
                self.good[name] = text
            else:
                written[name] = played[name] = fresh[name] = self._parse(name, text, times, sleeps)
        gone = {*self.known.names()} - texts.keys()
        if not fresh and not gone and not quick:
            return Found(written, played)
        self._refresh(written, played, fresh, {*fresh, *gone}, texts, times, sleeps)
        for name, draft in fresh.items():
            if draft.problems:
                self._let_stand(name, played, times, sleeps, earlier)
        link(played, typist, only={*fresh}, told=self._tell)
        self._stand_in(fresh, played, times, typist, sleeps, earlier)
        for name, draft in fresh.items():
            if played[name] is draft and not draft.problems:
                self.good[name] = texts[name]
        for name in gone:
            self.good.pop(name, None)
        for name, text in texts.items():
            self.known.keep(name, self._stamp(name, text, sleeps), KnownMacro(text, written[name], played[name]))
        self.known.only(texts)
        return Found(written, played)

    def _stamp(self, name: str, text: str, sleeps: Approves) -> object:
        """What the reading of a macro depends on: of a stranger's, on all that it leads to."""
        return text, sleeps.mark, self.wholes.of(name).mark if sleeps.of_macro(name) else ""

    def _tell(self, file: str) -> None:
        if self.guard is not None:
            self.guard.reading(file)

    @staticmethod
    def _remember(quick: dict[str, Row], name: str, text: str, typist: Typist | None) -> Draft | None:
        """A macro as it was read at an earlier start; None if it was not, or is not as it was."""
        row = quick.get(text_key(text))
        if row is None:
            return None
        try:
            draft = remembered(row, name, text, f"macros/{name}.macro")
        except BROKEN:
            return None
        draft.typist = typist
        return draft

    def _let_stand(self, name: str, played: dict[str, Draft], times: tuple[int, int], sleeps: Approves,
                   earlier: Callable[[str], Iterable[str]]) -> bool:
        """Play the last version of a macro that reads well; false if there is none."""
        for text in [self.good[name]] if name in self.good else earlier(name):
            draft = self._parse(name, text, times, sleeps)
            if not draft.problems:
                played[name] = draft
                return True
        return False

    def _stand_in(self, fresh: dict[str, Draft], played: dict[str, Draft], times: tuple[int, int],
                  typist: Typist | None, sleeps: Approves, earlier: Callable[[str], Iterable[str]]) -> None:
        """Macros that read well, but cannot be joined with those they play: their last good versions may."""
        for name, draft in fresh.items():
            if played[name] is draft and draft.problems and self.good.get(name) != draft.macro.source and \
                    self._let_stand(name, played, times, sleeps, earlier):
                link(played, typist, only={name})
                if played[name].problems:
                    played[name] = draft

    def _parse(self, name: str, text: str, times: tuple[int, int], sleeps: Approves) -> Draft:
        shown = f"macros/{name}.macro"
        trouble = self.unreadable.get(name, "")
        if self.guard is not None:
            if shown in self.guard.left_out:
                draft = Draft(Macro(name, name), file=shown)
                draft.problems.append(Problem(LEFT_OUT, shown, hint=CHANGE_IT))
                return draft
            self.guard.reading(shown)
        try:
            text.encode("utf-8")
        except UnicodeEncodeError:
            trouble = trouble or "it is not UTF-8 text"
        if trouble:
            draft = Draft(Macro(name, name), file=shown)
            draft.problems.append(Problem(f"cannot be read: {trouble}", shown, hint="Put an ordinary text file there"))
            return draft
        draft = parse(text, id=name, file=shown, tap=times[0], gap=times[1])
        if origin := sleeps.of_macro(name):
            draft.let_in(Guest(origin, sleeps.approves, self.wholes.of(name).mark, sleeps.opening))
        return draft

    def _refresh(self, written: dict[str, Draft], played: dict[str, Draft], fresh: dict[str, Draft], changed: set[str],
                 texts: dict[str, str], times: tuple[int, int], sleeps: Approves) -> None:
        """Macros that play a changed one, or one that is not there, are read again, too; and those that play these."""
        names = {draft.macro.name for name, draft in written.items() if name in changed} | changed
        names |= {known.written.macro.name for name in changed if (known := self.known.peek(name)) is not None}
        found = True
        while found:
            found = False
            for name, draft in list(written.items()):
                # What was remembered plays nothing.
                if name in fresh or isinstance(draft, Remembered):
                    continue
                steps = *walk(draft.steps), *walk(played[name].steps)
                plays = {step.name for step in steps if isinstance(step, Play)}
                if plays & names or (draft.problems and plays):
                    written[name] = played[name] = fresh[name] = self._parse(name, texts[name], times, sleeps)
                    names |= {name, fresh[name].macro.name}
                    found = True
