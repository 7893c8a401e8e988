"""The desk on disk: read, edited with its comments kept, saved atomically, undone.

Nothing else writes a desk's files.
"""

from __future__ import annotations

import fcntl
import os
import re
import time
import tomllib
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from brass_pebble.core.desk import Desk, read_desk, read_typing
from brass_pebble.core.keymap import Typist
from brass_pebble.core.layout import Layout, read_layout
from brass_pebble.core.macro import Draft, Macro, link, parse
from brass_pebble.core.problem import Problem, ProblemError
from brass_pebble.outputs.xkb import typist as find_typist

from .edits import Edit, apply_edit, reverse

SHIPPED_LAYOUTS = Path(__file__).parent.parent / "layouts"
_SYNTAX = re.compile(r"(.*) \(at line (\d+), column (\d+)\)")
KEPT_VERSIONS = 200


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
    _text: str = ""
    _undo: list[_Step] = field(default_factory=list)
    _redo: list[_Step] = field(default_factory=list)
    _lock: int = -1

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
        try:
            text = self.file.read_text(encoding="utf-8")
        except FileNotFoundError:
            return Loaded(Desk(), [Problem("this desk has no desk.toml yet", str(self.file), hint="Write one, or "
                                           "begin with a copy of the demo's: brass-pebble demo tells where with ?")])
        except (OSError, UnicodeDecodeError) as error:
            return Loaded(Desk(), [Problem(f"desk.toml cannot be read: {error}", str(self.file))], ok=False)
        try:
            data = tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            return Loaded(Desk(), [_syntax_problem(str(error), "desk.toml", text)], ok=False)
        problems: list[Problem] = []
        tap, gap, layout_name = read_typing(data)
        typist: Typist | None = None
        try:
            typist = find_typist(layout_name)
        except ProblemError as error:
            problems.append(Problem(error.problem.what, "desk.toml", hint=error.problem.hint))
        macros, broken = self._read_macros(tap, gap, typist, problems)
        layouts = self._layout_files()
        read: dict[str, Layout | None] = {}

        def layout(name: str) -> Layout | None:
            if name not in read:
                file = layouts.get(name)
                read[name] = _read_layout_file(file, problems) if file else None
            return read[name]

        desk, found = read_desk(data, text=text, file="desk.toml", layouts=layout, layout_names=layouts,
                                macros=macros, broken_macros=broken)
        self._text = text
        return Loaded(desk, [*found, *problems])

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

    def read_macros(self, tap: int, gap: int) -> dict[str, Draft]:
        """Every macro file as read; those that cannot be read have that as their problem."""
        drafts: dict[str, Draft] = {}
        for file in sorted((self.folder / "macros").glob("*.macro")):
            shown = f"macros/{file.name}"
            try:
                drafts[file.stem] = parse(file.read_text(encoding="utf-8"), id=file.stem, file=shown, tap=tap, gap=gap)
            except (OSError, UnicodeDecodeError) as error:
                draft = Draft(Macro(file.stem, file.stem), file=shown)
                draft.problems.append(Problem(f"cannot be read: {error}", shown))
                drafts[file.stem] = draft
        return drafts

    def _read_macros(self, tap: int, gap: int, typist: Typist | None,
                     problems: list[Problem]) -> tuple[dict[str, Macro], dict[str, str]]:
        macros: dict[str, Macro] = {}
        broken: dict[str, str] = {}
        drafts = self.read_macros(tap, gap)
        link(drafts, typist)
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
        back = reverse(edit, tomllib.loads(before), self._read_file)
        after = apply_edit(before, edit)
        self._write_files(edit)
        self._save(before, after)
        self._undo.append(_Step(edit.words, before, after, back, edit))
        self._redo.clear()
        return edit.words

    def undo(self) -> str:
        """Take the last change back, and return what it was.

        Raises:
            ProblemError: there is nothing to undo.
        """
        return self._travel(self._undo, self._redo, "nothing to undo",
                            lambda step: (step.after, step.before, step.back))

    def redo(self) -> str:
        """Do the last undone change again.

        Raises:
            ProblemError: there is nothing to do again.
        """
        return self._travel(self._redo, self._undo, "nothing to do again",
                            lambda step: (step.before, step.after, step.forth))

    def next_undo(self) -> str:
        """What `undo` would take back, or an empty string."""
        return self._undo[-1].words if self._undo else ""

    def _travel(self, source: list[_Step], target: list[_Step], empty: str,
                way: Callable[[_Step], tuple[str, str, Edit]]) -> str:
        if not source:
            raise ProblemError(f"there is {empty}", hint="Changes made on this screen since the engine started count")
        step = source[-1]
        expected, wanted, edit = way(step)
        text = self._fresh_text()
        # The file was edited elsewhere in between: only what this edit touched goes back, the other edits stay.
        after = wanted if text == expected else apply_edit(text, edit)
        self._write_files(edit)
        self._save(text, after)
        target.append(source.pop())
        return step.words

    def _read_file(self, name: str) -> str | None:
        file = self.place_of(name)
        return file.read_text(encoding="utf-8") if file.is_file() else None

    def place_of(self, name: str) -> Path:
        """Where a file beside desk.toml is kept, like `layouts/pad.toml`: drawings are shared by all desks."""
        folder, _, rest = name.partition("/")
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
            tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            problem = _syntax_problem(str(error), "desk.toml", text)
            raise ProblemError(f"desk.toml has a mistake in line {problem.line}, so nothing was changed",
                               file="desk.toml", line=problem.line, column=problem.column,
                               hint="Put the file right first; the desk that was read before keeps running") from None
        return text

    def _save(self, before: str, after: str) -> None:
        """Keep the earlier version, then replace the file in one step."""
        tomllib.loads(after)
        self._keep(before)
        write_atomically(self.file, after)
        self._text = after

    def _keep(self, text: str) -> None:
        self.versions.mkdir(parents=True, exist_ok=True)
        stamp = time.strftime("%Y%m%d-%H%M%S") + f"-{time.time_ns() % 1_000_000_000:09d}"
        (self.versions / f"{stamp}-desk.toml").write_text(text, encoding="utf-8")
        for old in sorted(self.versions.glob("*-desk.toml"))[:-KEPT_VERSIONS]:
            old.unlink(missing_ok=True)


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
