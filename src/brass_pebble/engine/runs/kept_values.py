"""Values that outlive a run and the engine: in memory for the runs, and in a small file each in the desk's folder.

Every change is on its way to the disk at once, on the worker; several that come together are one write.  A file that
somebody else has changed is taken up; one that is broken leaves the last good value, and is kept beside when a macro
sets the value again.
"""

from __future__ import annotations

import threading
import time
from collections import deque
from dataclasses import dataclass
from pathlib import Path

from brass_pebble import file_access
from brass_pebble.core.effects.gate import Rights
from brass_pebble.core.macro.value.kept_text import FOLDER, NAME, file_of, read_kept, write_kept
from brass_pebble.core.macro.value.kinds import Setter, Value, kind_of_value, tell_value
from brass_pebble.core.say.problem import Problem, ProblemError
from brass_pebble.engine.disk.guests import NEVER_OPENED, Trust, print_of
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Ports

MS = 1_000_000
TELL_EVERY = 50 * MS
# What could not be saved is tried again this often, in ns.
TRIED_EVERY = 2_000 * MS
MOST_VALUES = 2_000
STRANGE_ROW = 3
# How much of a text is told in lists.
MOST_SHOWN = 200
# How many changes of one value are told; how many of all values are remembered, for as long as the engine runs; and how
# many characters of each.
MOST_CHANGES, MOST_REMEMBERED, MOST_OF_A_CHANGE = 30, 1_000, 60


@dataclass(frozen=True)
class Change:
    """What a value became, as text, shortened: None is what it begins with; at a time of the clock, in s since 1970.

    Without a macro a person did it, in the Values view or in the file.
    """

    name: str
    value: str | None
    at: float
    macro: str


class KeptInDesk:
    """Reads, keeps, saves."""

    def __init__(self, ports: Ports, folder: Path, trust: Trust) -> None:
        self._ports, self._folder, self._trust = ports, folder, trust
        self._values: dict[str, Value] = {}
        # What is to be saved; what was saved or read last, by which a change of somebody else is known.
        self._dirty: dict[str, tuple[Value, Rights | None]] = {}
        # What strangers have set; and of what is on the disk, what its text is known by, its mark, and whose it is.
        self._setters: dict[str, Setter] = {}
        self._strange: dict[str, list[str]] = {}
        self._lock = threading.Lock()
        self._seen: dict[str, str] = {}
        self._troubles: dict[str, Problem] = {}
        self._changes: deque[Change] = deque(maxlen=MOST_REMEMBERED)
        self._read_once = False
        # What could not be saved yet.
        self._failed: set[str] = set()

    # For runs.

    def get(self, name: str) -> Value | None:
        """One of them; None while nobody has set it."""
        return self._values.get(name)

    def setter(self, name: str) -> Setter | None:
        """Who has set it, if that was a stranger whose approval does not count now."""
        found = self._setters.get(name)
        return None if found is None or found.mark in self._ports.desk.allowed else found

    def put(self, name: str, value: Value, rights: Rights | None = None, macro: str = "") -> None:
        """Set one; `rights` are those of a stranger's step that does, `macro` is which one does, by id.

        Raises:
            ProblemError: there are far too many.
        """
        if name not in self._values and len(self._values) >= MOST_VALUES:
            raise ProblemError(f"the desk keeps {MOST_VALUES:,} values already", hint="Reset some in the Values view")
        setter = Setter(rights.whose, rights.mark) if rights is not None else None
        if self._values.get(name) == value and kind_of_value(self._values[name]) == kind_of_value(value) and \
                self._setters.get(name) == setter:
            return
        self._values[name] = value
        self._note(name, value, macro)
        if setter is None:
            self._setters.pop(name, None)
        else:
            self._setters[name] = setter
        with self._lock:
            # While what could not be saved waits, something is on its way already; a new value tries it again.
            first = not self._dirty or bool(self._failed)
            self._dirty[name] = (value, rights)
        if first:
            self._ports.worker.do(self._save, self._saved)
        self._tell_soon()

    def _note(self, name: str, value: Value | None, macro: str = "") -> None:
        told = None if value is None else tell_value(value)[:MOST_OF_A_CHANGE]
        self._changes.append(Change(name, told, time.time(), macro))

    def _save(self) -> list[Problem]:
        with self._lock:
            dirty, self._dirty = self._dirty, {}
        problems = self._note_strange(dirty)
        for name, (value, _) in dirty.items():
            text, file = write_kept(value), self._folder / file_of(name)
            try:
                problems += self._put_aside(name, file)
                file_access.private_folder(file.parent)
                if file.is_symlink():
                    # What it leads to may be anything of the person's: the link gives way, not that.
                    file_access.remove(file)
                file_access.write_text(file, text)
                self._seen[name] = text
                self._failed.discard(name)
            except (OSError, UnicodeError) as error:
                with self._lock:
                    # It is tried again, unless a newer one is on its way.
                    self._dirty.setdefault(name, dirty[name])
                if name not in self._failed:
                    self._failed.add(name)
                    problems.append(Problem(f"the value could not be saved: {file_access.say(error)}", file_of(name),
                                            hint=f"It is tried again. {file_access.next_step(error)}"))
        return problems

    def _note_strange(self, dirty: dict[str, tuple[Value, Rights | None]]) -> list[Problem]:
        """Who sets what is noted before it is there."""
        strange = {name: row for name, row in self._strange.items() if name not in dirty}
        strange |= {name: [print_of(write_kept(value)), rights.mark, rights.whose]
                    for name, (value, rights) in dirty.items() if rights is not None}
        if strange != self._strange:
            self._strange = strange
            try:
                self._trust.set_values(strange)
            except OSError as error:
                return [Problem(f"it could not be noted who set a value: {file_access.say(error)}", FOLDER,
                                hint=file_access.next_step(error))]
        return []

    def _put_aside(self, name: str, file: Path) -> list[Problem]:
        """What somebody wrote there meanwhile is not lost, whether it can be read or not, and that is told."""
        if file.is_symlink():
            return []
        try:
            text = file_access.read_text(file)
        except (OSError, UnicodeError):
            return []
        if text == self._seen.get(name):
            return []
        draft = file.with_suffix(".toml.draft")
        if draft.is_symlink():
            file_access.remove(draft)
        file_access.write_text(draft, text)
        try:
            read_kept(text)
        except ProblemError:
            # That it cannot be read is told already.
            return []
        return [Problem("this value was changed in another program while a macro changed it, so the macro’s counts",
                        file_of(name), hint=f"What was written there is kept as {file_of(name)}.draft")]

    def _saved(self, result: object) -> None:
        if isinstance(result, Exception):
            log.error("a kept value could not be saved: %r", result, exc_info=result)
        elif isinstance(result, list):
            for problem in result:
                self._ports.problems.add(problem)
        if self._failed:
            self._ports.alarms.at("kept values", self._ports.now() + TRIED_EVERY, self._try_again)

    def _try_again(self, now: int) -> None:
        self._ports.worker.do(self._save, self._saved)

    # Files.

    def read_all(self) -> None:
        """Read what lies in the desk's folder.  At the start, or on the worker's word that something changed."""
        self._take(self._read_files())

    def follow(self) -> None:
        """Somebody may have changed the files: read them on the worker."""
        self._ports.worker.do(self._read_files, self._take_changed)

    def _read_files(self) -> dict[str, Value | Problem | None]:
        """What lies there: values, what is wrong, or nothing for what was left there by this engine.  Read and written
        on one thread only, so that it is sure what is whose."""
        found: dict[str, Value | Problem | None] = {}
        strange = self._trust.read(self._folder).values
        for name in self._strange.keys() - strange.keys():
            # The person has made them their own.
            self._setters.pop(name, None)
        self._strange = strange
        for file in sorted((self._folder / FOLDER).glob("*.toml"))[:MOST_VALUES]:
            if not NAME.fullmatch(file.stem):
                found[file.stem] = Problem("a value cannot have this name", f"{FOLDER}/{file.name}",
                                               hint="Use small letters, digits and _, and begin with a letter")
                continue
            try:
                text = file_access.read_text(file)
                if text == self._seen.get(file.stem):
                    # As it was left here: what is in memory is as new, or newer.
                    found[file.stem] = None
                    continue
                found[file.stem] = read_kept(text)
                self._seen[file.stem] = text
                self._setters.pop(file.stem, None)
                if (row := self._strange.get(file.stem)) is not None and row[:1] == [print_of(text)]:
                    _, mark, whose = row if len(row) == STRANGE_ROW else ("", "", NEVER_OPENED)
                    self._setters[file.stem] = Setter(f"the value “{file.stem}” from {whose}", mark, came=not mark)
            except ProblemError as error:
                one = error.problem
                found[file.stem] = Problem(one.what, file_of(file.stem), one.line, one.column, one.hint)
            except (OSError, UnicodeError) as error:
                found[file.stem] = Problem(f"it cannot be read: {file_access.say(error)}", file_of(file.stem),
                                          hint="Put it right, or delete it")
        for name in self._seen.keys() - found.keys():
            del self._seen[name]
        return found

    def _take_changed(self, result: object) -> None:
        if isinstance(result, dict):
            self._take(result)

    def _take(self, found: dict[str, Value | Problem | None]) -> None:
        with self._lock:
            dirty = set(self._dirty)
        values: dict[str, Value] = {}
        problems: dict[str, Problem] = {}
        for name, value in found.items():
            if isinstance(value, Problem):
                problems[name] = value
            if value is not None and not isinstance(value, Problem):
                values[name] = value
            elif name in self._values:
                values[name] = self._values[name]
        for name in dirty:
            # What a run has just set is newer than what was read.
            if name in self._values:
                values[name] = self._values[name]
        changed = values != self._values or problems != self._troubles
        for name in self._values.keys() | values.keys() if self._read_once else ():
            if self._values.get(name) != values.get(name):
                self._note(name, values.get(name))
        self._read_once = True
        self._values, self._troubles = values, problems
        self._ports.problems.of_part("kept values", problems.values())
        if changed:
            self._tell_soon()

    # For clients.

    def _tell_soon(self) -> None:
        if self._ports.publisher.wanted("values"):
            self._ports.alarms.later("values", TELL_EVERY, lambda now: self._tell())

    def _tell(self) -> None:
        self._ports.publisher.publish("values", {"values": self.shown()})

    def shown(self) -> dict[str, str]:
        """Every value as text, shortened: those that were set, and those that macros begin with."""
        first = {name: value for macro in self._ports.desk.macros.values() for name, value in macro.keeps.items()}
        return {name: tell_value(value)[:MOST_SHOWN] for name, value in sorted({**first, **self._values}.items())}

    def changes(self) -> dict[str, list[Change]]:
        """The last ones of each value since the engine was started, the newest first."""
        found: dict[str, list[Change]] = {}
        for change in reversed(self._changes):
            if len(of_it := found.setdefault(change.name, [])) < MOST_CHANGES:
                of_it.append(change)
        return found

    def all(self) -> dict[str, Value]:
        """Every value."""
        return dict(self._values)
