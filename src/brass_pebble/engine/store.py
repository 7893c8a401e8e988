"""The desk on disk: read, edited with its comments kept, saved atomically, undone.

Nothing else writes a desk's files.
"""

from __future__ import annotations

import contextlib
import fcntl
import gc
import os
import re
import tomllib
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from brass_pebble.core.desk import Desk, KnownSurface, read_desk, read_typing
from brass_pebble.core.keymap import Typist
from brass_pebble.core.layout import Layout, read_layout
from brass_pebble.core.macro import Draft, Macro
from brass_pebble.core.macro.reach import Reach, reaches
from brass_pebble.core.places import US
from brass_pebble.core.problem import Problem, ProblemError
from brass_pebble.outputs.xkb import typist as find_typist

from .edits import Edit, apply_edit, reverse
from .guests import FILE, Guests, read_guests
from .kept import read_kept, write_kept
from .macro_files import MacroFiles
from .tables import parse_tables
from .versions import VersionLog

SHIPPED_LAYOUTS = Path(__file__).parent.parent / "layouts"
_SYNTAX = re.compile(r"(.*) \(at line (\d+), column (\d+)\)")
# Smaller desks are read as fast as what was kept of them: characters of desk.toml, macros.
WORTH_KEEPING, MACROS_WORTH_KEEPING = 40_000, 50
# Files of a desk beside desk.toml and its macros, as patterns below its folder.
SMALL_FILES = (FILE, "layouts/*.toml", "programs/*.toml")


class DeskBusy(Exception):
    """Another engine runs this desk."""


@dataclass
class Loaded:
    """A desk as read.  Without `ok`, desk.toml itself could not be read, and `desk` is empty."""

    desk: Desk
    problems: list[Problem]
    ok: bool = True


@dataclass(frozen=True)
class _Step:
    words: str
    before: str
    after: str
    back: Edit
    forth: Edit


@dataclass
class DeskStore:
    """The folder of one desk."""

    folder: Path
    versions: Path
    user_layouts: Path | None = None
    approvals: Path | None = None
    _text: str = ""
    _tables: dict[str, Any] | None = None
    _read_from: tuple[object, ...] | None = None
    _trouble: OSError | None = None
    _unsettled: tuple[str, dict[str, str]] | None = None
    _drafts: dict[str, Draft] = field(default_factory=dict)
    _known: dict[str, KnownSurface] = field(default_factory=dict)
    _layouts: dict[Path, tuple[int, Layout]] = field(default_factory=dict)
    _undo: list[_Step] = field(default_factory=list)
    _redo: list[_Step] = field(default_factory=list)
    _lock: int = -1

    def __post_init__(self) -> None:
        self.log = VersionLog(self.versions)
        self.macro_files = MacroFiles(self.folder / "macros")
        # What others keep from one start to the next, by name.
        self.kept: dict[str, Any] = {}

    @property
    def file(self) -> Path:
        """desk.toml."""
        return self.folder / "desk.toml"

    def lock(self) -> None:
        """Keep other engines off this desk until `unlock` or the process ends.

        Raises:
            DeskBusy: another process has it; the text names it.
        """
        self._lock = os.open(self.folder, os.O_RDONLY | os.O_CLOEXEC)
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            holder = _lock_holder(self._lock)
            self.unlock()
            raise DeskBusy(f"the desk {self.folder} is already run by the engine with process id {holder}. Use that "
                           "one, or end it with: brass-pebble stop --quit") from None

    def unlock(self) -> None:
        """Let others have the desk."""
        if self._lock >= 0:
            os.close(self._lock)
            self._lock = -1

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

    def _read_now(self) -> tuple[object, ...] | None:
        """What the desk is made from: another one says that it has to be read again."""
        try:
            text = self.file.read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError):
            return None
        layouts = tuple((str(file), file.stat().st_mtime_ns) for file in self._layout_files().values() if file.exists())
        return text, self.macro_files.texts(), self.guests().mark, layouts

    def _load(self) -> Loaded:
        self._read_from = None
        try:
            text = self.file.read_text(encoding="utf-8")
        except FileNotFoundError:
            return Loaded(Desk(), [Problem("this desk has no desk.toml yet", str(self.file), hint="Write one, or "
                                           "begin with a copy of the demo's: brass-pebble demo tells where with ?")])
        except (OSError, UnicodeDecodeError) as error:
            return Loaded(Desk(), [Problem(f"desk.toml cannot be read: {error}", str(self.file))], ok=False)
        try:
            data = self._tables_of(text)
        except tomllib.TOMLDecodeError as error:
            return Loaded(Desk(), [_syntax_problem(str(error), "desk.toml", text)], ok=False)
        problems: list[Problem] = []
        tap, gap, layout_name = read_typing(data)
        typist: Typist | None = None
        try:
            typist = find_typist(layout_name)
        except ProblemError as error:
            problems.append(Problem(error.problem.what, "desk.toml", hint=error.problem.hint))
        guests = self.guests()
        texts = self.macro_files.texts()
        macros, broken = self._read_macros(texts, (tap, gap, layout_name), typist, guests, problems)
        layouts = self._layout_files()
        read: dict[str, Layout | None] = {}

        def layout(name: str) -> Layout | None:
            if name not in read:
                file = layouts.get(name)
                read[name] = self._read_layout(file, problems) if file else None
            return read[name]

        def sleeps(place: str, mark: str) -> bool:
            return guests.is_place(place) and not guests.welcome(mark)

        desk, found = read_desk(data, text=text, file="desk.toml", layouts=layout, layout_names=layouts,
                                macros=macros, broken_macros=broken, sleeps=sleeps, known=self._known,
                                sleeping=guests.mark, places=typist.places if typist is not None else US)
        self._text, self._tables = text, data
        self._unsettled = (text, texts)
        problems += self._sleeping(desk, guests)
        self._read_from = (text, texts, guests.mark, tuple(
            (str(file), file.stat().st_mtime_ns) for file in layouts.values() if file.exists()))
        return Loaded(desk, [*found, *problems])

    def _read_layout(self, file: Path, problems: list[Problem]) -> Layout | None:
        """A drawing, read once for as long as its file stays as it is."""
        try:
            changed = file.stat().st_mtime_ns
        except OSError:
            changed = 0
        known = self._layouts.get(file)
        if known is not None and known[0] == changed:
            return known[1]
        wrong: list[Problem] = []
        layout = _read_layout_file(file, wrong)
        problems += wrong
        if layout is not None and not wrong:
            self._layouts[file] = changed, layout
        return layout

    def settle(self) -> None:
        """What can wait until the desk is in use: its history learns of changes from outside.

        Raises:
            OSError: the history could not be written, now or with the last change.
        """
        self._notice_what_was_read()
        trouble, self._trouble = self._trouble, None
        if trouble is not None:
            raise trouble

    def _notice_what_was_read(self) -> None:
        unsettled, self._unsettled = self._unsettled, None
        if unsettled is not None:
            self._keep_history(lambda: self._notice(*unsettled))

    def _keep_history(self, job: Callable[[], None]) -> None:
        """A history that cannot be written is no reason not to change the desk: it is told when the store settles."""
        try:
            job()
        except OSError as error:
            self._trouble = error

    @property
    def _kept_file(self) -> Path:
        return self.versions / "kept"

    def remember(self) -> None:
        """Take up what was read at an earlier start, so that only what changed since is read again."""
        found = read_kept(self._kept_file)
        if found:
            self._text, self._tables, self._known, self._layouts = (
                found["text"], found["tables"], found["surfaces"], found["layouts"])
            self.macro_files.known, self.macro_files.made_with = found["macros"], found["made_with"]
            self.kept = found["kept"]

    def keep(self) -> None:
        """Keep what was read for the next start, where that is worth it."""
        if len(self._text) < WORTH_KEEPING and len(self.macro_files.known) < MACROS_WORTH_KEEPING:
            return
        write_kept(self._kept_file, {
            "text": self._text, "tables": self._tables, "surfaces": self._known, "layouts": self._layouts,
            "macros": self.macro_files.known, "made_with": self.macro_files.made_with, "kept": self.kept})

    def _notice(self, text: str, macros: dict[str, str]) -> None:
        """Put into the history what was changed by others."""
        self.log.notice({"desk.toml": text, **{f"macros/{name}.macro": macro for name, macro in macros.items()},
                         **self._small_files()})

    def _tables_of(self, text: str) -> dict[str, Any]:
        return self._tables if text == self._text and self._tables is not None else parse_tables(text)

    def _small_files(self) -> dict[str, str]:
        """What belongs to the desk beside desk.toml and its macros."""
        found = {}
        for name in SMALL_FILES:
            for file in sorted(self.folder.glob(name)):
                with contextlib.suppress(OSError, UnicodeDecodeError):
                    found[file.relative_to(self.folder).as_posix()] = file.read_text(encoding="utf-8")
        return found

    def _sleeping(self, desk: Desk, guests: Guests) -> list[Problem]:
        """A word on what sleeps, so that nobody wonders why a press does less than it says."""
        count = sum(1 for reach in self.asleep(desk, guests) if reach)
        if not count:
            return []
        return [Problem(f"{count} {'step' if count == 1 else 'steps'} of what came from somebody else "
                        f"{'sleeps' if count == 1 else 'sleep'} until you approve "
                        f"{'it' if count == 1 else 'them'}", FILE,
                        hint="G on the desk shows each, as does brass-pebble desk asleep")]

    def asleep(self, desk: Desk, guests: Guests | None = None) -> list[tuple[str, Reach]]:
        """What sleeps: where (a macro's file, or surface and control), and what it would do."""
        guests = guests or self.guests()
        found = []
        for name, draft in self._drafts.items():
            if name in guests.macros:
                found += [(f"macros/{name}.macro", reach) for reach in reaches(draft.steps)
                          if not guests.welcome(reach.mark)]
        for surface in desk.surfaces.values():
            found += [(f"{surface.id} {binding.control}", reach) for layer in surface.layers
                      if guests.is_place(f"{surface.id}/{layer.id}")
                      for binding in layer.bindings.values() for reach in binding.action.reaches()
                      if not guests.welcome(reach.mark)]
        return found

    def guests(self) -> Guests:
        """What came from somebody else, and what of it is approved."""
        return read_guests(self.folder, self.approvals)

    def layout(self, name: str) -> Layout | None:
        """A drawing by its id; None if there is none, or it is broken."""
        file = self._layout_files().get(name)
        return _read_layout_file(file, []) if file else None

    def layouts(self) -> list[Layout]:
        """Every drawing there is: those that ship, the person's own, the desk's own; broken ones are left out."""
        found = (_read_layout_file(file, []) for file in self._layout_files().values())
        return [layout for layout in found if layout is not None]

    def layout_is_own(self, name: str) -> bool:
        """Whether a drawing is the person's own, so that it may be replaced."""
        return bool(name) and self.place_of(f"layouts/{name}.toml").is_file()

    def macro_texts(self) -> dict[str, str]:
        """Every macro's text, by its id."""
        return {file.stem: file.read_text(encoding="utf-8", errors="replace")
                for file in sorted((self.folder / "macros").glob("*.macro"))}

    def macro_names(self) -> set[str]:
        """The ids of the desk's macros, broken ones included."""
        return {file.stem for file in (self.folder / "macros").glob("*.macro")}

    def layout_texts(self) -> dict[str, str]:
        """The texts of all drawings there are, by id; those of the desk and of the person before those that ship."""
        found = {}
        for name, file in self._layout_files().items():
            with contextlib.suppress(OSError, UnicodeDecodeError):
                found[name] = file.read_text(encoding="utf-8")
        return found

    def tables(self) -> dict[str, Any]:
        """desk.toml as it is now, as tables; empty if there is none.

        Raises:
            ProblemError: it is broken.
        """
        return self._tables_of(self._fresh_text()) if self.file.exists() else {}

    def drafts(self) -> dict[str, Draft]:
        """Every macro as it was read last."""
        return dict(self._drafts)

    def _read_macros(self, texts: dict[str, str], typing: tuple[int, int, str], typist: Typist | None, guests: Guests,
                     problems: list[Problem]) -> tuple[dict[str, Macro], dict[str, str]]:
        macros: dict[str, Macro] = {}
        broken: dict[str, str] = {}
        tap, gap, keyboard = typing
        drafts = self.macro_files.read(texts, tap, gap, typist, keyboard,
                                       lambda name: guests.welcome if name in guests.macros else None)
        self._drafts = drafts
        for name, draft in drafts.items():
            if draft.problems:
                first = draft.problems[0]
                problems.extend(draft.problems)
                where = f"has a mistake in line {first.line}: {first.what}" if first.line else "cannot be read"
                broken[name] = f"macro “{draft.macro.name}” {where}"
            else:
                macros[name] = draft.macro
        return macros, broken

    def _layout_files(self) -> dict[str, Path]:
        folders = [SHIPPED_LAYOUTS, self.user_layouts, self.folder / "layouts"]
        return {file.stem: file for folder in folders if folder for file in sorted(folder.glob("*.toml"))}

    def change(self, edit: Edit) -> str:
        """Carry an edit out, save, and return what was done in words.

        Raises:
            ProblemError: the desk has no such place, or desk.toml is broken; nothing was written.
        """
        before = self._fresh_text()
        self._notice_what_was_read()
        if not self.log.entries():
            # The history begins with the desk as it was before its first change.
            self._keep_history(lambda: self._notice(before, self.macro_files.texts()))
        back = reverse(edit, self._tables_of(before), self._read_file, before)
        after = apply_edit(before, edit)
        self._write_files(edit)
        self._save(after, edit.words, edit)
        self._undo.append(_Step(edit.words, before, after, back, edit))
        self._redo.clear()
        return edit.words

    def undo(self) -> str:
        """Take the last change back, and return what it was.

        Raises:
            ProblemError: there is nothing to undo.
        """
        return self._travel(self._undo, self._redo, "nothing to undo",
                            lambda step: (step.after, step.before, step.back), "undone: ")

    def redo(self) -> str:
        """Do the last undone change again.

        Raises:
            ProblemError: there is nothing to do again.
        """
        return self._travel(self._redo, self._undo, "nothing to do again",
                            lambda step: (step.before, step.after, step.forth), "done again: ")

    def next_undo(self) -> str:
        """What `undo` would take back, or an empty string."""
        return self._undo[-1].words if self._undo else ""

    def _travel(self, source: list[_Step], target: list[_Step], empty: str,
                way: Callable[[_Step], tuple[str, str, Edit]], said: str) -> str:
        if not source:
            raise ProblemError(f"there is {empty}", hint="Changes made on this screen since the engine started count")
        step = source[-1]
        expected, wanted, edit = way(step)
        text = self._fresh_text()
        # The file was edited elsewhere in between: only what this edit touched goes back, the other edits stay.
        after = wanted if text == expected else apply_edit(text, edit)
        self._write_files(edit)
        self._save(after, said + step.words, edit)
        target.append(source.pop())
        return step.words

    def _read_file(self, name: str) -> str | None:
        file = self.place_of(name)
        return file.read_text(encoding="utf-8") if file.is_file() else None

    def place_of(self, name: str) -> Path:
        """Where a file beside desk.toml is kept, like `layouts/pad.toml`: drawings are shared by all desks, but for
        those of the desk itself, `here/layouts/pad.toml`."""
        folder, _, rest = name.partition("/")
        if folder == "here":
            return self.folder / rest
        return self.user_layouts / rest if folder == "layouts" and self.user_layouts else self.folder / name

    def _write_files(self, edit: Edit) -> None:
        for name, text in edit.files:
            file = self.place_of(name)
            if text is None:
                file.unlink(missing_ok=True)
            else:
                file.parent.mkdir(parents=True, exist_ok=True)
                write_atomically(file, text)

    def _fresh_text(self) -> str:
        """The file as it is now.

        Raises:
            ProblemError: it is broken at the moment, so that an edit could lose something.
        """
        text = self.file.read_text(encoding="utf-8")
        try:
            self._tables_of(text)
        except tomllib.TOMLDecodeError as error:
            problem = _syntax_problem(str(error), "desk.toml", text)
            raise ProblemError(f"desk.toml has a mistake in line {problem.line}, so nothing was changed",
                               file="desk.toml", line=problem.line, column=problem.column,
                               hint="Put the file right first; the desk that was read before keeps running") from None
        return text

    def _save(self, after: str, words: str, edit: Edit) -> None:
        """Replace the file in one step, and note the change in the desk's history."""
        parse_tables(after)
        self.log.entries()
        write_atomically(self.file, after)
        self._text, self._tables = after, None
        # Drawings in the person's own folder are no part of the desk.
        files: dict[str, str | None] = {"desk.toml": after, **{
            name.removeprefix("here/"): text for name, text in edit.files
            if not (name.startswith("layouts/") and self.user_layouts)}}
        self._keep_history(lambda: self.log.record(words, files))
        self.log.saw(files)

    # The history of the desk.

    def restoring_edit(self, number: int) -> Edit:
        """The change that brings every file back as it was after a version.

        Raises:
            ProblemError: there is no such version, or it is as the desk is now.
        """
        try:
            wanted = self.log.texts(number)
        except KeyError:
            raise ProblemError(f"there is no version {number}", hint="brass-pebble desk history lists them") from None
        now = {name: self.log.text(text) for name, text in self.log.state().items()}
        files: dict[str, str | None] = {name: text for name, text in wanted.items() if now.get(name) != text}
        files |= {name: None for name in now if name not in wanted}
        whole = files.pop("desk.toml", None)
        files = {f"here/{name}" if name.startswith("layouts/") else name: text for name, text in files.items()}
        if not files and whole is None:
            raise ProblemError(f"version {number} is as the desk is now", hint="Choose an earlier one")
        version = next(version for version in self.log.entries() if version.number == number)
        return Edit(f"back to version {number}, {version.words}", files=tuple(files.items()), whole=whole)


def write_atomically(file: Path, text: str) -> None:
    """Replace a file in one step: whoever reads it sees the old or the new one, whatever happens meanwhile."""
    temporary = file.parent / f".{file.name}.{os.getpid()}"
    with temporary.open("w", encoding="utf-8") as stream:
        stream.write(text)
        stream.flush()
        os.fsync(stream.fileno())
    if file.exists():
        os.chmod(temporary, file.stat().st_mode & 0o777)
    os.replace(temporary, file)


def _read_layout_file(file: Path, problems: list[Problem]) -> Layout | None:
    shown = f"layouts/{file.name}"
    try:
        text = file.read_text(encoding="utf-8")
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        problems.append(_syntax_problem(str(error), shown, text))
        return None
    except (OSError, UnicodeDecodeError) as error:
        problems.append(Problem(f"cannot be read: {error}", shown))
        return None
    layout, found = read_layout(data, id=file.stem, file=shown, text=text)
    problems.extend(found)
    return layout


def _syntax_problem(message: str, file: str, text: str) -> Problem:
    match = _SYNTAX.fullmatch(message)
    if match:
        what, line, column = match[1], int(match[2]), int(match[3])
    else:
        what, line, column = message.removesuffix(" (at end of document)"), len(text.splitlines()), 0
    return Problem(what[0].lower() + what[1:], file, line, column, "The file is left as it is; put it right and save")


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
