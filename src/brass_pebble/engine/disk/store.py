"""The desk on disk: read, edited with its comments kept, saved as a whole or not at all, undone.

Nothing else writes a desk's files.
"""

from __future__ import annotations

import contextlib
import fcntl
import gc
import os
import re
import tomllib
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

from brass_pebble import file_access
from brass_pebble.core.desk.model import Desk
from brass_pebble.core.desk.shortcuts import opening_chords
from brass_pebble.core.devices.layout import Layout
from brass_pebble.core.effects.reach import Reach
from brass_pebble.core.macro.reader import Draft
from brass_pebble.core.say.problem import Problem, ProblemError

from .desk_reader import DeskReader, Loaded, Sources, read_layout_file, syntax_problem
from .edits import Edit, apply_edit, reverse
from .guest_book import GuestBook
from .guests import FILE, Guests, Trust
from .journal import Journal
from .parsed_toml import know_tables, parse_tables
from .quick_start import QuickStart, text_key
from .shortcut_files import load_programs
from .start_guard import StartGuard
from .undo_list import UndoList, changed_since, undone_by_another
from .versions import Damaged, VersionLog

__all__ = ["DeskBusy", "DeskStore", "Loaded"]

# Files of a desk beside desk.toml and its macros, as patterns below its folder.
SMALL_FILES = (FILE, "layouts/*.toml", "programs/*.toml")
_MACRO_FILE = re.compile(r"macros/(.+)\.macro")
_VALUE_FILE = re.compile(r"values/(.+)\.toml")
_LAYOUT_FILE = re.compile(r"(?:here/)?layouts/(.+)\.toml")
_BACK = "brass-pebble desk history and V on the desk list every version; each can be brought back"


class DeskBusy(Exception):
    """Another engine runs this desk."""


@dataclass
class DeskStore:
    """The folder of one desk.  `versions` is where its history lies, and drafts of texts that are not finished."""

    folder: Path
    versions: Path
    user_layouts: Path | None = None
    approvals: Path | None = None
    live: Loaded | None = None
    _read_from: tuple[object, ...] | None = None
    _ready: Loaded | None = None
    _trouble: OSError | None = None
    _unsettled: tuple[str, dict[str, str]] | None = None
    _undo: UndoList = field(default_factory=UndoList)
    _locks: list[int] = field(default_factory=list)
    # Why nothing of this desk's past can be kept, if that is so.
    not_kept: OSError | None = None

    def __post_init__(self) -> None:
        self.log = VersionLog(self.versions)
        self.trust = Trust(self.approvals)
        self.book = GuestBook(self)
        self.reader = DeskReader(self.folder, self.user_layouts)
        self.macro_files = self.reader.macro_files

    @property
    def file(self) -> Path:
        """desk.toml."""
        return self.folder / "desk.toml"

    def lock(self) -> None:
        """Keep other engines off this desk until `unlock` or the process ends; finish what one before left half done.

        Where nothing can be kept of what happens (a full disk, say) the desk runs all the same: see `not_kept`.

        Raises:
            DeskBusy: another process has it; the text names it.
            OSError: the desk's folder is not there.
        """
        # The folder, however it is called; and its path, since another folder may be put there meanwhile.
        for path, flags in ((self.folder, os.O_RDONLY), (self.versions / "lock", os.O_RDWR | os.O_CREAT)):
            try:
                if path.parent == self.versions:
                    file_access.private_folder(self.versions)
                fileno = os.open(path, flags | os.O_CLOEXEC | os.O_NONBLOCK, file_access.PRIVATE_FILE)
            except OSError as error:
                if path == self.folder:
                    raise
                self.not_kept = error
                continue
            self._locks.append(fileno)
            try:
                fcntl.flock(fileno, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                holder = _lock_holder(fileno)
                self.unlock()
                raise DeskBusy(f"the desk {self.folder} is already run by the engine with process id {holder}. Use "
                               "that one, or end it with: brass-pebble stop --quit") from None
        self._journal.finish()
        inside = (self.folder / name for name in ("macros", "layouts", "programs", "values"))
        file_access.clear((self.folder, *inside, self.versions, self.versions / "texts", self.versions / "drafts"))
        # The first reading is watched: whatever ends the process is remembered.
        self.reader.guard = self.guard = StartGuard(self.versions)
        self.guard.begin(self.folder)
        self.quick.read()
        self.macro_files.quick = self.quick

    guard: StartGuard | None = None

    @cached_property
    def quick(self) -> QuickStart:
        """What was kept of an earlier start."""
        return QuickStart(self.versions / "quick.json")

    def keep(self) -> None:
        """Keep what was read for the next start, where that is worth it."""
        if self._read_from is None or self.macro_files.made_with == ():
            return
        text = str(self._read_from[0])
        drafts = {name: (known.text, known.written) for name in self.macro_files.known.names()
                  if (known := self.macro_files.known.peek(name)) is not None}
        self.quick.write(text, parse_tables(text), drafts, *self.macro_files.made_with)

    def started(self) -> None:
        """The desk is in use: from now on nothing that ends the process is laid to a file."""
        if self.guard is not None:
            self.guard.done()

    def unlock(self) -> None:
        """Let others have the desk."""
        while self._locks:
            os.close(self._locks.pop())

    @property
    def _journal(self) -> Journal:
        return Journal(self.versions / "pending.json", self.place_of)

    # Reading.

    def load(self) -> Loaded:
        """Read everything; what is broken is reported, the rest stands."""
        collecting = gc.isenabled()
        # Thousands of new objects, none of them garbage: looking for some costs a third of the time.
        gc.disable()
        try:
            return self._load()
        finally:
            if collecting:
                gc.enable()

    def reload(self) -> Loaded | None:
        """Read everything if anything has changed since it was read last; None if nothing has."""
        if self._read_from is not None and self._read_from == self._read_now():
            return None
        return self.load()

    def _read_now(self, text: str | None = None, macros: dict[str, str] | None = None) -> tuple[object, ...] | None:
        """What the desk is made from: another one says that it has to be read again."""
        try:
            text = file_access.read_text(self.file) if text is None else text
        except (OSError, UnicodeDecodeError):
            return None
        layouts = tuple((str(file), file.stat().st_mtime_ns) for file in self.reader.layout_files().values()
                        if file.exists())
        return (text, self.macro_files.texts() if macros is None else macros, tuple(self.macro_files.unreadable),
                self.guests().mark, layouts)

    def _load(self) -> Loaded:
        ready, self._ready = self._ready, None
        if ready is not None and self._read_from == self._read_now():
            return ready
        self._read_from = None
        text, problem = "", None
        try:
            text = file_access.read_text(self.file)
        except FileNotFoundError:
            problem = Problem("this desk has no desk.toml", str(self.file), hint="Write one, or begin with a copy of "
                              "the demo's: brass-pebble demo tells where with ?")
        except (OSError, UnicodeDecodeError) as error:
            problem = Problem(f"desk.toml cannot be read: {file_access.say(error)}", "desk.toml",
                              hint="Put an ordinary text file there")
        if problem is None and not text.strip() and self._had_more():
            # As an editor leaves it for a moment while it saves.
            problem = Problem("desk.toml is empty", "desk.toml", hint="Save it again with its contents")
        if problem is not None:
            return self._without(problem)
        if self.quick.tables[0] and self.quick.tables[0] == text_key(text):
            know_tables(text, self.quick.tables[1])
        self.quick.tables = ("", {})
        sources = Sources(text, self.macro_files.texts(), self.guests(), earlier=self.log.earlier)
        loaded = self.reader.read(sources)
        self.quick.macros = {}
        if not loaded.ok:
            return self._without(loaded.problems[0])
        loaded.problems += [*undone_by_another(self._undo, text, parse_tables(text), self.read_file, _BACK),
                            *self._unfinished_problems()]
        self._unsettled = text, self._whole_texts(sources.macros)
        self._read_from = self._read_now(text, sources.macros)
        self.live = loaded
        return loaded

    def _had_more(self) -> bool:
        return bool(self.live and self.live.desk.surfaces) or any(
            text.strip() for text in self.log.earlier("desk.toml", 2))

    def _without(self, problem: Problem) -> Loaded:
        """desk.toml cannot be used: the last good desk stays, or that of an earlier start."""
        if self.live is not None:
            return Loaded(Desk(), [Problem(problem.what, problem.file, problem.line, problem.column,
                                           f"{problem.hint}. The last good desk stays in use")], ok=False)
        for text in self.log.earlier("desk.toml"):
            loaded = self.reader.read(Sources(text, self.macro_files.texts(), self.guests(), earlier=self.log.earlier))
            if loaded.ok and text.strip():
                loaded.problems.insert(0, Problem(problem.what, problem.file, problem.line, problem.column,
                                                  f"{problem.hint}. Until then the last good version is in use"))
                return loaded
        return Loaded(Desk(), [problem], ok=self.file.name == "desk.toml" and not self.file.exists())

    def _whole_texts(self, texts: Mapping[str, str]) -> dict[str, str]:
        """The macros that read well: a broken text is not a version to go back to."""
        written = self.reader.written
        return {name: good for name, text in texts.items()
                if (good := text if name in written and not written[name].problems
                    else self.macro_files.good.get(name)) is not None}

    def settle(self) -> bool:
        """What can wait until the desk is in use: its history learns of changes from outside, and what came from others
        is held against the chords that open something on this computer.  Whether the desk has to be read again.

        Raises:
            OSError: the history could not be written, now or with the last change.
        """
        if self.live is not None:
            self.book.keep_up()
        self._notice_what_was_read()
        trouble, self._trouble = self._trouble, None
        if trouble is not None:
            raise trouble
        guests = self.guests()
        if not (guests.macros or guests.surfaces or guests.everything):
            return False
        before = self.trust.opening
        user = self.user_layouts.parent / "programs" if self.user_layouts else None
        self.trust.opening = opening_chords(load_programs(self.folder, user, None, [])[0])
        return self.trust.opening != before

    def _notice_what_was_read(self) -> None:
        unsettled, self._unsettled = self._unsettled, None
        if unsettled is not None:
            self._keep_history(lambda: self._notice(*unsettled))

    def _keep_history(self, job: Callable[[], None]) -> None:
        """A history that cannot be written keeps no change from the desk: it is told when the store settles."""
        try:
            job()
        except OSError as error:
            self._trouble = error

    def _notice(self, text: str, macros: dict[str, str]) -> None:
        """Put into the history what was changed by others."""
        self.log.notice({"desk.toml": text, **{f"macros/{name}.macro": macro for name, macro in macros.items()},
                         **self._small_files()})

    def _small_files(self) -> dict[str, str]:
        """What belongs to the desk beside desk.toml and its macros."""
        found = {}
        for name in SMALL_FILES:
            for file in sorted(self.folder.glob(name)):
                with contextlib.suppress(OSError, UnicodeDecodeError):
                    found[file.relative_to(self.folder).as_posix()] = file_access.read_text(file)
        return found

    def asleep(self, desk: Desk, guests: Guests | None = None) -> list[tuple[str, Reach]]:
        """What sleeps: where (a macro's file, or surface and control), and what it would do."""
        return self.reader.asleep(desk, guests or self.guests())

    def guests(self) -> Guests:
        """What came from somebody else, and what of it is approved."""
        return self.book.guests()

    def get_to_know(self) -> None:
        """A desk that was never open on this computer: what in it reaches outside sleeps until the person has looked.

        Raises:
            OSError: that could not be noted.
        """
        self.book.get_to_know()

    def adopt(self, names: Iterable[str]) -> str:
        """Make macros or surfaces that came from somebody else the person's own; what was done, in words.

        Raises:
            ProblemError: one of them is not a guest.
        """
        return self.book.adopt(names)

    def layout(self, name: str) -> Layout | None:
        """A drawing by its id; None if there is none, or it is broken."""
        file = self.reader.layout_files().get(name)
        return read_layout_file(file, []) if file else None

    def layouts(self) -> list[Layout]:
        """Every drawing there is: those that ship, the person's own, the desk's own; broken ones are left out."""
        found = (read_layout_file(file, []) for file in self.reader.layout_files().values())
        return [layout for layout in found if layout is not None]

    def layout_is_own(self, name: str) -> bool:
        """Whether a drawing is the person's own, so that it may be replaced."""
        return bool(name) and self.place_of(f"layouts/{name}.toml").is_file()

    def macro_texts(self) -> dict[str, str]:
        """Every macro's text, by its id."""
        return {name: text.encode("utf-8", "surrogateescape").decode("utf-8", "replace")
                for name, text in self.macro_files.texts().items()}

    def macro_names(self) -> set[str]:
        """The ids of the desk's macros, broken ones included."""
        return self.macro_files.names()

    def layout_texts(self) -> dict[str, str]:
        """The texts of all drawings there are, by id; those of the desk and of the person before those that ship."""
        found = {}
        for name, file in self.reader.layout_files().items():
            with contextlib.suppress(OSError, UnicodeDecodeError):
                found[name] = file_access.read_text(file)
        return found

    def tables(self) -> dict[str, Any]:
        """desk.toml as it is now, as tables; empty if there is none.

        Raises:
            ProblemError: it is broken.
        """
        return parse_tables(self._fresh_text()) if self.file.exists() else {}

    def drafts(self) -> dict[str, Draft]:
        """Every macro as it was read last."""
        return dict(self.reader.written)

    # Changing.

    def change(self, edit: Edit) -> str:
        """Carry an edit out, save, and return what was done in words.

        The desk that comes of it is read first: what cannot be read is not written.

        Raises:
            ProblemError: the desk has no such place, desk.toml is broken, or it could not be saved; nothing was
                changed.
        """
        before = self._fresh_text()
        self._notice_what_was_read()
        if not self.log.entries():
            # The history begins with the desk as it was before its first change.
            self._keep_history(lambda: self._notice(before, self._whole_texts(self.macro_files.texts())))
        back = reverse(edit, parse_tables(before), self.read_file, before)
        after = self._carry_out(before, edit, edit.words)
        self._undo.did(edit.words, before, after, back, edit)
        return edit.words

    def _carry_out(self, before: str, edit: Edit, words: str, after: str | None = None) -> str:
        """Read what an edit makes of the desk, write it, note it.  Returns the new text of desk.toml."""
        try:
            after = apply_edit(before, edit) if after is None else after
            parse_tables(after)
        except tomllib.TOMLDecodeError as error:
            raise ProblemError(f"this would break desk.toml: {error}", hint="Nothing was changed") from None
        except RecursionError:
            raise ProblemError("this is nested too deep", hint="Nothing was changed") from None
        files = {name: text for name, text in edit.files if self.read_file(name) != text}
        macros = self.macro_files.texts()
        sources = Sources(after, {**macros, **{found[1]: text for name, text in files.items() if text is not None
                                               and (found := _MACRO_FILE.fullmatch(name))}},
                          self.trust.read(self.folder, (files[FILE] or "") if FILE in files else None),
                          {found[1]: text for name, text in files.items() if (found := _LAYOUT_FILE.fullmatch(name))},
                          self.log.earlier)
        for name, text in files.items():
            if text is None and (found := _MACRO_FILE.fullmatch(name)):
                sources.macros.pop(found[1], None)
        sources = replace(sources, guests=sources.guests.with_moved(sources.macros))
        loaded = self.reader.read(sources)
        if not loaded.ok:
            raise ProblemError(loaded.problems[0].what, hint="Nothing was changed")
        if FILE in files:
            self.book.note(files[FILE] or "", {found[1]: text for name, text in files.items()
                                               if text is not None and (found := _VALUE_FILE.fullmatch(name))})
        if self.book.lend(edit, loaded.desk):
            guests = self.trust.read(self.folder, (files[FILE] or "") if FILE in files else None)
            loaded = self.reader.read(replace(sources, guests=guests.with_moved(sources.macros)))
        changes: dict[str, str | None] = {**files, **({"here/desk.toml": after} if after != before else {})}
        try:
            self._journal.write(changes, self.read_file)
        except (OSError, UnicodeError) as error:
            raise ProblemError(f"the desk could not be saved: {file_access.say(error)}",
                               hint=f"Nothing was changed. {file_access.next_step(error)}") from error
        self._note(after, words, edit)
        # What others have changed meanwhile is noted with the rest.
        self._unsettled = after, self._whole_texts(sources.macros)
        self.live = loaded
        if not files or all(_MACRO_FILE.fullmatch(name) for name in files):
            # What was just read is what is on the disk now; whoever loads it looks whether it still is.
            self._read_from = self._read_now(after, sources.macros)
            loaded.problems += self._unfinished_problems()
            self._ready = loaded if self._read_from is not None and self._read_from[0] == after else None
        return after

    def _note(self, after: str, words: str, edit: Edit) -> None:
        """Note a change in the desk's history.  Drawings in the person's own folder are no part of the desk."""
        written = self.reader.written
        files: dict[str, str | None] = {"desk.toml": after}
        for name, text in edit.files:
            if name.startswith("layouts/") and self.user_layouts:
                continue
            macro = _MACRO_FILE.fullmatch(name)
            if macro and text is not None and macro[1] in written and written[macro[1]].problems:
                continue
            files[name.removeprefix("here/")] = text
        self._keep_history(lambda: self.log.record(words, files))
        self.log.saw(files)

    def undo(self) -> str:
        """Take the last change back, and return what it was.

        Raises:
            ProblemError: there is nothing to undo, or what it changed was changed again by somebody else.
        """
        return self._travel(back=True)

    def redo(self) -> str:
        """Do the last undone change again.

        Raises:
            ProblemError: there is nothing to do again, or what it changes was changed by somebody else.
        """
        return self._travel(back=False)

    def next_undo(self) -> str:
        """What `undo` would take back, or an empty string."""
        return self._undo.done[-1].words if self._undo.done else ""

    def _travel(self, *, back: bool) -> str:
        steps = self._undo.done if back else self._undo.undone
        if not steps:
            raise ProblemError(f"there is nothing to {'undo' if back else 'do again'}: changes count that were made "
                               "here since the engine started", hint="V on the desk has the earlier versions")
        step = steps[-1]
        edit, expected = (step.back, step.forth) if back else (step.forth, step.back)
        text = self._fresh_text()
        self._notice_what_was_read()
        unchanged = text == (step.after if back else step.before)
        other = changed_since(edit, expected, parse_tables(text), self.read_file, look_at_values=not unchanged)
        if other:
            steps.pop()
            raise ProblemError(f"“{step.words}” was not {'undone' if back else 'redone'}: {other} was changed by "
                               "another program since", hint=f"It is passed over. {_BACK}")
        wanted = (step.before if back else step.after) if unchanged else None
        self._carry_out(text, edit, ("undone: " if back else "redone: ") + step.words, wanted)
        self._undo.went(back=back)
        return step.words

    def read_file(self, name: str) -> str | None:
        """A file beside desk.toml as it is now; None if it is not there."""
        try:
            found = file_access.read_bytes(self.place_of(name), file_access.largest(name))
            return found.decode("utf-8", "surrogateescape")
        except OSError:
            return None

    def place_of(self, name: str) -> Path:
        """Where a file beside desk.toml is kept, like `layouts/pad.toml`: drawings are shared by all desks, but for
        those of the desk itself, `here/layouts/pad.toml`."""
        folder, _, rest = name.partition("/")
        if folder == "here":
            return self.folder / rest
        return self.user_layouts / rest if folder == "layouts" and self.user_layouts else self.folder / name

    def _fresh_text(self) -> str:
        """The file as it is now.

        Raises:
            ProblemError: it is broken at the moment, so that an edit could lose something.
        """
        try:
            text = file_access.read_text(self.file)
        except (OSError, UnicodeDecodeError) as error:
            raise ProblemError(f"desk.toml cannot be read: {file_access.say(error)}, so nothing was changed",
                               file="desk.toml", hint="Put it back first; the desk that was read before keeps running"
                               ) from None
        try:
            parse_tables(text)
        except tomllib.TOMLDecodeError as error:
            problem = syntax_problem(str(error), "desk.toml", text)
            raise ProblemError(f"desk.toml has a mistake in line {problem.line}, so nothing was changed",
                               file="desk.toml", line=problem.line, column=problem.column,
                               hint="Put the file right first; the desk that was read before keeps running") from None
        if not text.strip() and self._had_more():
            raise ProblemError("desk.toml is empty at the moment, so nothing was changed", file="desk.toml",
                               hint="Save it again with its contents; the desk that was read before keeps running")
        return text

    # Texts that are not finished.

    @property
    def _unfinished(self) -> Path:
        return self.versions / "drafts"

    def keep_unfinished(self, macro: str, text: str) -> None:
        """Keep what was typed into a macro and is not live yet.

        Raises:
            OSError: it cannot be kept.
        """
        file_access.private_folder(self._unfinished)
        file_access.write_text(self._unfinished / f"{macro}.macro", text, file_access.PRIVATE_FILE)

    def drop_unfinished(self, macro: str) -> None:
        """What was typed is live, or not wanted."""
        with contextlib.suppress(OSError):
            file_access.remove(self._unfinished / f"{macro}.macro")

    def unfinished(self) -> dict[str, tuple[str, float]]:
        """Texts that were typed and are not live: by macro, with when (s since 1970)."""
        found = {}
        for file in sorted(self._unfinished.glob("*.macro")):
            with contextlib.suppress(OSError, UnicodeDecodeError):
                text = file_access.read_text(file)
                if text == self.read_file(f"macros/{file.name}"):
                    # It went live since.
                    self.drop_unfinished(file.stem)
                else:
                    found[file.stem] = text, file.stat().st_mtime
        return found

    def _unfinished_problems(self) -> list[Problem]:
        return [Problem("there is unfinished text of this macro; it is not live", f"macros/{name}.macro",
                        hint="Open the macro to go on with it") for name in self.unfinished()]

    # The history of the desk.

    def restoring_edit(self, number: int) -> Edit:
        """The change that brings every file back as it was after a version.

        Raises:
            ProblemError: there is no such version, it is damaged, or it is as the desk is now.
        """
        try:
            wanted = self.log.texts(number)
        except KeyError:
            raise ProblemError(f"there is no version {number}", hint="brass-pebble desk history lists them") from None
        except Damaged as error:
            raise ProblemError(f"version {number} cannot be brought back: {error}",
                               hint="Nothing was changed. Choose another version") from None
        now = self.log.state()
        files: dict[str, str | None] = {}
        for name, text in wanted.items():
            place = name if not name.startswith("layouts/") else f"here/{name}"
            if (self.read_file(place) if name != "desk.toml" else None) != text:
                files[name] = text
        files |= {name: None for name in now if name not in wanted}
        whole = files.pop("desk.toml", None)
        if whole == self._fresh_text():
            whole = None
        files = {f"here/{name}" if name.startswith("layouts/") else name: text for name, text in files.items()}
        if not files and whole is None:
            raise ProblemError(f"version {number} is as the desk is now", hint="Choose an earlier one")
        version = next(version for version in self.log.entries() if version.number == number)
        return Edit(f"back to version {number}, {version.words}", files=tuple(files.items()), whole=whole)


def _lock_holder(fileno: int) -> int:
    """The process that holds the lock on an open folder, from /proc/locks; 0 if it cannot be told."""
    about = os.fstat(fileno)
    wanted = f"{os.major(about.st_dev):02x}:{os.minor(about.st_dev):02x}:{about.st_ino}"
    try:
        for line in Path("/proc/locks").read_text().splitlines():
            words = line.split()
            if "FLOCK" in words and words[5] == wanted:
                return int(words[4])
    except (OSError, IndexError, ValueError):
        return 0
    return 0
