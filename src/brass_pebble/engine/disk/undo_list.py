"""What was changed on the screen since the engine started, to be undone and redone; bounded in what it keeps."""

from __future__ import annotations

import difflib
import zlib
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from brass_pebble.core.say.problem import Problem

from .edits import Edit, dig

# So many changes, and so many bytes, are kept.
MOST_CHANGES, MOST_BYTES = 1_000, 24_000_000
# So far back it is looked whether another program has undone something.
LOOKED_AT = 20


@dataclass(frozen=True)
class UndoRow:
    """One change: in words, the edits that undo it and make it again, and desk.toml before and after, packed."""

    words: str
    back: Edit
    forth: Edit
    packed: tuple[bytes, bytes]

    @property
    def before(self) -> str:
        """desk.toml before it."""
        return zlib.decompress(self.packed[0]).decode("utf-8", "surrogateescape")

    @property
    def after(self) -> str:
        """desk.toml after it."""
        return zlib.decompress(self.packed[1]).decode("utf-8", "surrogateescape")

    @property
    def size(self) -> int:
        """About how many bytes it keeps."""
        return sum(map(len, self.packed)) + sum(len(text or "") * 2 for edit in (self.back, self.forth)
                                                for _, text in edit.files)


@dataclass
class UndoList:
    """Changes that were made, and those that were undone, the latest last."""

    done: list[UndoRow] = field(default_factory=list)
    undone: list[UndoRow] = field(default_factory=list)

    def did(self, words: str, before: str, after: str, back: Edit, forth: Edit) -> None:
        """A change was made."""
        packed = _pack(before), _pack(after)
        if self.done and self.done[-1].packed[1] == packed[0]:
            # The same bytes need not be kept twice.
            packed = self.done[-1].packed[1], packed[1]
        self.done.append(UndoRow(words, _light(back), _light(forth), packed))
        self.undone.clear()
        size = sum(change.size for change in self.done)
        while len(self.done) > 1 and (len(self.done) > MOST_CHANGES or size > MOST_BYTES):
            size -= self.done.pop(0).size

    def went(self, *, back: bool) -> None:
        """The last one was undone, or redone."""
        if back:
            self.undone.append(self.done.pop())
        else:
            self.done.append(self.undone.pop())


def _pack(text: str) -> bytes:
    return zlib.compress(text.encode("utf-8", "surrogateescape"), 1)


def _light(edit: Edit) -> Edit:
    """Without the whole text of desk.toml, which is kept packed."""
    return edit if edit.whole is None else Edit(edit.words, edit.values, edit.files, edit.needs, "")


def changed_since(edit: Edit, expected: Edit, tables: dict[str, Any], read: Callable[[str], str | None], *,
                  look_at_values: bool) -> str:
    """What an edit would overwrite that is not as `expected`, its counterpart, left it; empty if nothing."""
    for name, text in expected.files:
        if read(name) != text:
            return name.removeprefix("here/")
    if not look_at_values:
        return ""
    if edit.whole is not None:
        return "desk.toml"
    # The last value of a path counts.
    for path, value in dict(expected.values).items():
        if _plain(dig(tables, path)) != _plain(value):
            return f"{' '.join(path)} in desk.toml"
    return ""


def undone_by_another(undo: UndoList, text: str, tables: dict[str, Any], read: Callable[[str], str | None],
                      back: str) -> list[Problem]:
    """Changes of this screen that a file no longer has, since it was saved from an older copy."""
    if not undo.done or text == undo.done[-1].after:
        looked_at = [change for change in undo.done[-LOOKED_AT:] if change.forth.files]
    else:
        looked_at = undo.done[-LOOKED_AT:]
    found = []
    for index, change in enumerate(looked_at):
        later = looked_at[index + 1:]
        paths = {path for one in later for path, _ in one.forth.values}
        names = {name for one in later for name, _ in one.forth.files}
        for path, value in change.forth.values:
            now, before = _plain(dig(tables, path)), _plain(dict(change.back.values).get(path))
            if path not in paths and now == before and now != _plain(value):
                found.append(_told(change, "desk.toml", back))
                break
        else:
            for name, after in change.forth.files:
                was = dict(change.back.files).get(name)
                if name not in names and after is not None and was is not None and _goes_back(was, after, read(name)):
                    found.append(_told(change, name.removeprefix("here/"), back))
                    break
    return found


def _told(change: UndoRow, file: str, back: str) -> Problem:
    return Problem(f"another program saved this file from an older copy: “{change.words}” is gone from it", file,
                   hint=back)


def _goes_back(was: str, after: str, now: str | None) -> bool:
    """Whether a text has lost every line that a change brought, and has again those that it took away."""
    if now is None or now == after:
        return False
    came, went = set(), set()
    for line in difflib.ndiff(was.splitlines(), after.splitlines()):
        if line.startswith("+ "):
            came.add(line[2:])
        elif line.startswith("- "):
            went.add(line[2:])
    lines = set(now.splitlines())
    return bool(came or went) and not (came - went) & lines and (went - came) <= lines


def _plain(value: Any) -> Any:
    """A value without what says how it is written."""
    if isinstance(value, dict):
        return {str(key): _plain(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(inner) for inner in value]
    return value
