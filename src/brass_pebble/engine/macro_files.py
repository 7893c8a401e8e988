"""The macro files of a desk, read once: what did not change is not taken apart again, not even at the next start."""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from brass_pebble.core.keymap import Typist
from brass_pebble.core.macro import Draft, Macro, link, parse
from brass_pebble.core.macro.reach import put_to_sleep
from brass_pebble.core.macro.reader import walk
from brass_pebble.core.macro.world_steps import Play
from brass_pebble.core.problem import Problem

# Times of files are this coarse at worst, in ns.
SETTLED = 2_000_000_000


@dataclass
class KnownMacro:
    """A macro as it was read."""

    text: str
    draft: Draft
    # The mark of what sleeps in it.
    sleeps: str


@dataclass
class MacroFiles:
    """The macros in a folder.  `known` are those that were read, and `made_with` what else they depend on."""

    folder: Path
    known: dict[str, KnownMacro] = field(default_factory=dict)
    made_with: tuple[object, ...] = ()
    _seen: dict[str, tuple[tuple[int, int, int], str]] = field(default_factory=dict)

    def texts(self) -> dict[str, str]:
        """Every macro's text by its id; broken bytes are replaced by what they are not."""
        found = {}
        seen: dict[str, tuple[tuple[int, int, int], str]] = {}
        try:
            entries = sorted((entry for entry in os.scandir(self.folder) if entry.name.endswith(".macro")),
                             key=lambda entry: entry.name)
        except OSError:
            return {}
        for entry in entries:
            try:
                about = entry.stat()
                stamp = about.st_mtime_ns, about.st_size, about.st_ino
                known = self._seen.get(entry.name)
                # A file that was written a moment ago may be written again within the same tick of its clock.
                if known is not None and known[0] == stamp and time.time_ns() - about.st_mtime_ns > SETTLED:
                    text = known[1]
                else:
                    text = (self.folder / entry.name).read_bytes().decode("utf-8", "surrogateescape")
                seen[entry.name] = stamp, text
            except OSError:
                text = "\udcff"
            found[entry.name.removesuffix(".macro")] = text
        self._seen = seen
        return found

    def read(self, texts: dict[str, str], tap: int, gap: int, typist: Typist | None, keyboard: str,
             sleeps: Callable[[str], Callable[[str], bool] | None]) -> dict[str, Draft]:
        """Every macro read and linked.  `sleeps(id)` gives for a guest what tells whether a mark is approved."""
        made_with = (tap, gap, keyboard, typist is None)
        if made_with != self.made_with:
            self.known, self.made_with = {}, made_with
        fresh: dict[str, Draft] = {}
        drafts: dict[str, Draft] = {}
        marks: dict[str, str] = {}
        for name, text in texts.items():
            approved = sleeps(name)
            known = self.known.get(name)
            marks[name] = _mark(approved)
            if known is not None and known.text == text and known.sleeps == marks[name]:
                drafts[name] = known.draft
            else:
                drafts[name] = fresh[name] = self._parse(name, text, tap, gap, approved)
        gone = self.known.keys() - texts.keys()
        if not fresh and not gone:
            return drafts
        self._refresh(drafts, fresh, {*fresh, *gone}, texts, (tap, gap), sleeps)
        link({**drafts}, typist, only=None) if len(fresh) == len(drafts) else self._link(drafts, fresh, typist)
        self.known = {name: KnownMacro(texts[name], draft, marks[name]) for name, draft in drafts.items()}
        return drafts

    def _parse(self, name: str, text: str, tap: int, gap: int,
               approved: Callable[[str], bool] | None) -> Draft:
        shown = f"macros/{name}.macro"
        try:
            text.encode("utf-8")
        except UnicodeEncodeError:
            draft = Draft(Macro(name, name), file=shown)
            draft.problems.append(Problem("cannot be read: it is not UTF-8 text", shown))
            return draft
        draft = parse(text, id=name, file=shown, tap=tap, gap=gap)
        if approved is not None:
            put_to_sleep(draft.steps, approved)
        return draft

    def _refresh(self, drafts: dict[str, Draft], fresh: dict[str, Draft], changed: set[str], texts: dict[str, str],
                 times: tuple[int, int], sleeps: Callable[[str], Callable[[str], bool] | None]) -> None:
        """Macros that play a changed one, or one that is not there, are read anew, too; and those that play these."""
        names = {draft.macro.name for name, draft in drafts.items() if name in changed} | changed
        names |= {known.draft.macro.name for name, known in self.known.items() if name in changed}
        found = True
        while found:
            found = False
            for name, draft in list(drafts.items()):
                if name in fresh:
                    continue
                plays = {step.name for step in walk(draft.steps) if isinstance(step, Play)}
                if plays & names or (draft.problems and plays):
                    drafts[name] = fresh[name] = self._parse(name, texts[name], *times, sleeps(name))
                    names |= {name, drafts[name].macro.name}
                    found = True

    @staticmethod
    def _link(drafts: dict[str, Draft], fresh: dict[str, Draft], typist: Typist | None) -> None:
        for name in fresh:
            link(drafts, typist, only=name)


def _mark(approved: Callable[[str], bool] | None) -> str:
    """What tells whether another set of steps would sleep now: the set of approvals that was asked."""
    if approved is None:
        return ""
    owner = getattr(approved, "__self__", None)
    marks = getattr(owner, "approved", ())
    return hashlib.sha256("\n".join(sorted(marks)).encode()).hexdigest()
