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
from typing import Any

from brass_pebble.core.desk import ACTION_KINDS, Desk, read_action, read_desk, read_tap_lengths
from brass_pebble.core.layout import Layout, read_layout
from brass_pebble.core.macro import Macro, read_macro
from brass_pebble.core.macro.steps import LONGEST_LABEL
from brass_pebble.core.problem import Problem, ProblemError

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
class Change:
    """A binding to be set: `kind` and `target` of its action, or an empty kind to clear the control."""

    surface: str
    layer: str
    control: str
    kind: str = ""
    target: str = ""
    label: str = ""
    tint: str = ""
    gesture: str = "press"


@dataclass
class _Step:
    words: str
    before: str
    after: str
    back: Change
    forth: Change


@dataclass
class DeskStore:
    """The folder of one desk."""

    folder: Path
    versions: Path
    user_layouts: Path | None = None
    shown_folder: str = ""
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
        tap, gap = read_tap_lengths(data)
        macros, broken = self._read_macros(tap, gap, problems)
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

    def _read_macros(self, tap: int, gap: int,
                     problems: list[Problem]) -> tuple[dict[str, Macro], dict[str, str]]:
        macros: dict[str, Macro] = {}
        broken: dict[str, str] = {}
        for file in sorted((self.folder / "macros").glob("*.macro")):
            shown = f"macros/{file.name}"
            try:
                text = file.read_text(encoding="utf-8")
            except (OSError, UnicodeDecodeError) as error:
                problems.append(Problem(f"cannot be read: {error}", shown))
                broken[file.stem] = f"macro “{file.stem}” cannot be read"
                continue
            macro, found = read_macro(text, id=file.stem, file=shown, tap=tap, gap=gap)
            if found:
                problems.extend(found)
                broken[file.stem] = f"macro “{macro.name}” has a mistake in line {found[0].line}: {found[0].what}"
            else:
                macros[file.stem] = macro
        return macros, broken

    def _layout_files(self) -> dict[str, Path]:
        folders = [SHIPPED_LAYOUTS, self.user_layouts, self.folder / "layouts"]
        return {file.stem: file for folder in folders if folder for file in sorted(folder.glob("*.toml"))}

    def change(self, change: Change) -> str:
        """Set or clear a binding, save, and return what was done in words.

        Raises:
            ProblemError: the desk has no such surface or layer, or the action cannot be; nothing was written.
        """
        back = self._current(change)
        before = self._fresh_text()
        after = self._edited(before, change)
        what = f"{change.surface} {change.control}"
        words = f"{what}: {change.kind} {change.target}" if change.kind else f"{what}: cleared"
        self._save(before, after)
        self._undo.append(_Step(words, before, after, back, change))
        self._redo.clear()
        return words

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
                way: Callable[[_Step], tuple[str, str, Change]]) -> str:
        if not source:
            raise ProblemError(f"there is {empty}", hint="Changes made on this screen since the engine started count")
        step = source[-1]
        expected, wanted, change = way(step)
        text = self._fresh_text()
        # The file was edited elsewhere in between: only this one binding goes back, the other edits stay.
        self._save(text, wanted if text == expected else self._edited(text, change))
        target.append(source.pop())
        return step.words

    def _current(self, change: Change) -> Change:
        row = _dig(tomllib.loads(self._fresh_text()), "surface", change.surface, "layer", change.layer,
                   change.gesture, change.control)
        kind = next((kind for kind in ACTION_KINDS if kind in row), "")
        return Change(change.surface, change.layer, change.control, kind, str(row.get(kind, "")),
                      str(row.get("label", "")), str(row.get("tint", "")), change.gesture)

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

    def _edited(self, text: str, change: Change) -> str:
        import tomlkit
        document: Any = tomlkit.parse(text)
        layer = _dig(document, "surface", change.surface, "layer", change.layer)
        if not layer:
            raise ProblemError(f"the desk has no layer “{change.layer}” on a surface “{change.surface}”",
                               hint="Look at desk.toml for the names there are")
        rows = layer.get(change.gesture)
        if not change.kind:
            if rows is not None:
                rows.pop(change.control, None)
            return tomlkit.dumps(document)
        macros = {file.stem for file in (self.folder / "macros").glob("*.macro")}
        read_action(change.kind, change.target, macros)
        if len(change.label) > LONGEST_LABEL:
            raise ProblemError(f"a label has at most {LONGEST_LABEL} characters, “{change.label}” has "
                               f"{len(change.label)}", hint="Shorten it")
        if rows is None:
            layer.add(change.gesture, tomlkit.table())
            rows = layer[change.gesture]
        row = tomlkit.inline_table()
        row.add(change.kind, change.target)
        for name in ("label", "tint"):
            if getattr(change, name):
                row.add(name, getattr(change, name))
        old = rows.get(change.control)
        if old is not None and hasattr(old, "trivia"):
            row.trivia.comment_ws, row.trivia.comment = old.trivia.comment_ws, old.trivia.comment
            row.trivia.trail = old.trivia.trail
        rows[change.control] = row
        return tomlkit.dumps(document)

    def _save(self, before: str, after: str) -> None:
        """Keep the earlier version, then replace the file in one step."""
        tomllib.loads(after)
        self._keep(before)
        temporary = self.folder / f".desk.toml.{os.getpid()}"
        with temporary.open("w", encoding="utf-8") as stream:
            stream.write(after)
            stream.flush()
            os.fsync(stream.fileno())
        if self.file.exists():
            os.chmod(temporary, self.file.stat().st_mode & 0o777)
        os.replace(temporary, self.file)
        self._text = after

    def _keep(self, text: str) -> None:
        self.versions.mkdir(parents=True, exist_ok=True)
        stamp = time.strftime("%Y%m%d-%H%M%S") + f"-{time.time_ns() % 1_000_000_000:09d}"
        (self.versions / f"{stamp}-desk.toml").write_text(text, encoding="utf-8")
        for old in sorted(self.versions.glob("*-desk.toml"))[:-KEPT_VERSIONS]:
            old.unlink(missing_ok=True)


def _dig(data: Any, *path: str) -> Any:
    for key in path:
        data = data.get(key, {}) if hasattr(data, "get") else {}
    return data if hasattr(data, "get") else {}


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
