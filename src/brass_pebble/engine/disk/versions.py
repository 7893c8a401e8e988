"""The history of a desk: every change, when it was made and what it was in words, and every file as it was then.

A folder holds `log.jsonl`, a line for each change with a checksum, and `texts/`, each text once, named after its
content.  It is the way back when everything else fails, so nothing in it is believed that does not prove whole: a line
that is damaged is left out and the others stand, a text whose content does not give its name is not there.
"""

from __future__ import annotations

import hashlib
import json
import os
import time
import zlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from brass_pebble import file_access

KEPT = 500
# How much the texts may take, in bytes as they are stored; some versions are kept however large they are.
MOST_BYTES, LEAST_KEPT = 100_000_000, 20
# A stored text unpacks to at most so much.
LARGEST_TEXT = 64_000_000
BEGIN = "initial state"
OUTSIDE = "edited in another program"
_PACKED = ".z"


class Damaged(Exception):
    """A text of the history is not whole."""


@dataclass(frozen=True)
class Version:
    """The desk after a change.  `at` is s since 1970; `files` are those it changed, by the name of their text (empty:
    taken away)."""

    number: int
    at: float
    words: str
    files: dict[str, str] = field(default_factory=dict)


def text_name(text: str) -> str:
    """What a text is kept under."""
    return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()[:24]


class VersionLog:
    """The history of one desk.  Nothing is read before it is asked for.  `damaged` counts lines that were left out."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.damaged = 0
        self._entries: list[Version] | None = None
        self._now: dict[str, str] = {}
        self._bytes: int | None = None

    @property
    def _file(self) -> Path:
        return self.folder / "log.jsonl"

    def entries(self) -> list[Version]:
        """All versions that are kept, the oldest first."""
        if self._entries is None:
            self._entries, self.damaged = [], 0
            try:
                lines = file_access.read_bytes(self._file).split(b"\n")
            except OSError:
                lines = []
            for line in lines:
                if not line.strip():
                    continue
                try:
                    self._entries.append(_read_line(line))
                except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
                    # Cut off by a crash, or spoilt on the disk: the others stand.
                    self.damaged += 1
            self._now = self.state()
        return self._entries

    def state(self, number: int | None = None) -> dict[str, str]:
        """The names of all texts after a version, or after the last: by file."""
        found: dict[str, str] = {}
        for version in self.entries() if self._entries is None else self._entries:
            if number is not None and version.number > number:
                break
            found |= version.files
        return {name: text for name, text in found.items() if text}

    def texts(self, number: int) -> dict[str, str]:
        """Every file as it was after a version.

        Raises:
            KeyError: there is no such version.
            Damaged: one of its files is not whole any more; the text names it.
        """
        if not any(version.number == number for version in self.entries()):
            raise KeyError(number)
        return self.all_texts(self.state(number))

    def all_texts(self, names: Mapping[str, str]) -> dict[str, str]:
        """Texts by file, from their names by file.

        Raises:
            Damaged: one is not whole any more; the text names its file.
        """
        found = {}
        for file, name in names.items():
            try:
                found[file] = self.text(name)
            except Damaged:
                raise Damaged(f"{file} of that time is damaged in the history") from None
        return found

    def text(self, name: str) -> str:
        """A text by the name it is kept under.

        Raises:
            Damaged: it was lost, or is not what it was.
        """
        data = self._stored(name)
        if data is None:
            raise Damaged("a text of the history is damaged")
        return data.decode("utf-8", "surrogateescape")

    def _stored(self, name: str) -> bytes | None:
        for file in (self.folder / "texts" / f"{name}{_PACKED}", self.folder / "texts" / name):
            try:
                data = file_access.read_bytes(file)
                if file.suffix == _PACKED:
                    opened = zlib.decompressobj()
                    data = opened.decompress(data, LARGEST_TEXT)
            except (OSError, zlib.error):
                continue
            if hashlib.sha256(data).hexdigest()[:24] == name:
                return data
        return None

    def earlier(self, file: str, most: int = 20) -> Iterable[str]:
        """A file's texts as they were, the newest first; those that are damaged are left out."""
        seen: set[str] = set()
        for version in reversed(self.entries()):
            name = version.files.get(file, "")
            if not name or name in seen:
                continue
            seen.add(name)
            if len(seen) > most:
                return
            data = self._stored(name)
            if data is not None:
                yield data.decode("utf-8", "surrogateescape")

    def record(self, words: str, files: Mapping[str, str | None], at: float | None = None) -> None:
        """A change was made: its words, and the new texts of the files that it changed (None: taken away).

        Raises:
            OSError: it could not be written; the history is as it was.
        """
        entries = self.entries()
        names = {name: "" if text is None else text_name(text) for name, text in files.items()}
        changed = {name: text for name, text in names.items() if self._now.get(name, "") != text}
        if not changed:
            return
        file_access.private_folder(self.folder / "texts")
        for name, text_id in changed.items():
            if text_id and self._stored(text_id) is None:
                self._store(text_id, (files[name] or "").encode("utf-8", "surrogateescape"))
        version = Version(entries[-1].number + 1 if entries else 1, time.time() if at is None else at, words, changed)
        self._append(_line(version))
        entries.append(version)
        for name, text_id in changed.items():
            if text_id:
                self._now[name] = text_id
            else:
                self._now.pop(name, None)
        if len(entries) > KEPT * 1.2 or (self._size() > MOST_BYTES and len(entries) > 2 * LEAST_KEPT):
            self._forget_the_oldest()

    def _store(self, name: str, data: bytes) -> None:
        packed = zlib.compress(data, 6)
        file_access.write_bytes(self.folder / "texts" / f"{name}{_PACKED}", packed, file_access.PRIVATE_FILE)
        if self._bytes is not None:
            self._bytes += len(packed)

    def _append(self, line: bytes) -> None:
        """Put a line behind the others.  One that was cut off before is closed, so that it spoils itself only."""
        fileno = file_access.layer.open(str(self._file), os.O_RDWR | os.O_CREAT, file_access.PRIVATE_FILE)
        try:
            end = os.lseek(fileno, 0, os.SEEK_END)
            if end and os.pread(fileno, 1, end - 1) != b"\n":
                line = b"\n" + line
            try:
                written = 0
                while written < len(line):
                    written += file_access.layer.write(fileno, line[written:])
                file_access.layer.sync(fileno)
            except OSError:
                os.ftruncate(fileno, end)
                raise
        finally:
            os.close(fileno)

    def _size(self) -> int:
        if self._bytes is None:
            try:
                self._bytes = sum(entry.stat().st_size for entry in os.scandir(self.folder / "texts"))
            except OSError:
                self._bytes = 0
        return self._bytes

    def notice(self, texts: Mapping[str, str]) -> None:
        """The desk as it was read now: what differs from the last version was changed by somebody else."""
        entries = self.entries()
        if self._seen == texts:
            return
        changed: dict[str, str | None] = {name: text for name, text in texts.items()
                                          if (self._seen or {}).get(name) != text
                                          and self._now.get(name) != text_name(text)}
        changed |= {name: None for name in self._now if name not in texts}
        if changed:
            said = [name for name in changed if entries] or [""]
            words = f"{OUTSIDE}: {', '.join(said[:3])}" + (f" and {len(said) - 3} more" if len(said) > 3 else "")
            self.record(words if entries else BEGIN, changed)
        self._seen = dict(texts)

    _seen: dict[str, str] | None = None

    def saw(self, files: Mapping[str, str | None]) -> None:
        """The desk itself wrote these: they are no news when it is read again."""
        if self._seen is not None:
            for name, text in files.items():
                if text is None:
                    self._seen.pop(name, None)
                else:
                    self._seen[name] = text

    def _forget_the_oldest(self) -> None:
        """Fold the oldest versions into one, and drop texts that nothing names any more."""
        entries = self.entries()
        keep = min(KEPT, len(entries) - 1)
        if self._size() > MOST_BYTES:
            keep = max(LEAST_KEPT, min(keep, len(entries) // 2))
        old, kept = entries[:-keep], entries[-keep:]
        first = Version(old[-1].number, old[-1].at, old[-1].words, self.state(old[-1].number))
        file_access.write_bytes(self._file, b"".join(map(_line, [first, *kept])), file_access.PRIVATE_FILE)
        self._entries = [first, *kept]
        named = {text for version in self._entries for text in version.files.values()}
        for file in (self.folder / "texts").iterdir():
            if file.name.removesuffix(_PACKED) not in named:
                file_access.remove(file)
        self._bytes = None


def _line(version: Version) -> bytes:
    row = {"number": version.number, "at": round(version.at, 3), "words": version.words, "files": version.files}
    text = json.dumps({**row, "check": _check(row)}, ensure_ascii=False)
    return text.encode("utf-8", "surrogateescape") + b"\n"


def _check(row: object) -> str:
    """A checksum over what a line says."""
    return f"{zlib.crc32(json.dumps(row, sort_keys=True).encode()):08x}"


def _read_line(line: bytes) -> Version:
    """A version from its line.

    Raises:
        ValueError, KeyError, TypeError, AttributeError: it is not whole.
    """
    row = json.loads(line.decode("utf-8"))
    # Lines of the first versions of this program have no checksum.
    check = row.pop("check", None)
    if check is not None and check != _check(row):
        raise ValueError("the checksum is another one")
    return Version(int(row["number"]), float(row["at"]), str(row["words"]),
                   {str(name): str(text) for name, text in row["files"].items()})


def diff_lines(before: Mapping[str, str], after: Mapping[str, str], names: Iterable[str] = ()) -> list[tuple[str, str]]:
    """What differs between two states of the files: (file, a line with its sign), as unified diffs have it."""
    import difflib
    found = []
    for name in sorted(set(names) or set(before) | set(after)):
        one, other = before.get(name, ""), after.get(name, "")
        if one != other:
            lines = difflib.unified_diff(one.splitlines(), other.splitlines(), "before", "after", n=1, lineterm="")
            found += [(name, line) for line in list(lines)[2:]]
    return found
