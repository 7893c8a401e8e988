"""The history of a desk: every change, when it was made and what it was in words, and every file as it was then.

A folder holds `log.jsonl`, a line for each change, and `texts/`, each text once, named after its content.
"""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

KEPT = 500
BEGIN = "as it was found"
OUTSIDE = "edited outside"


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
    """The history of one desk.  Nothing is read before it is asked for."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._entries: list[Version] | None = None
        self._now: dict[str, str] = {}

    @property
    def _file(self) -> Path:
        return self.folder / "log.jsonl"

    def entries(self) -> list[Version]:
        """All versions that are kept, the oldest first."""
        if self._entries is None:
            self._entries = []
            try:
                lines = self._file.read_text(encoding="utf-8").splitlines()
            except OSError:
                lines = []
            for line in lines:
                try:
                    row = json.loads(line)
                    self._entries.append(Version(int(row["number"]), float(row["at"]), str(row["words"]),
                                                 {str(k): str(v) for k, v in row["files"].items()}))
                except (ValueError, KeyError, TypeError, AttributeError):
                    # A line that was cut off by a crash; those before it stand.
                    continue
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
        """
        if not any(version.number == number for version in self.entries()):
            raise KeyError(number)
        return {name: self.text(text) for name, text in self.state(number).items()}

    def text(self, name: str) -> str:
        """A text by the name it is kept under; empty if it was lost."""
        try:
            return (self.folder / "texts" / name).read_bytes().decode("utf-8", "surrogateescape")
        except OSError:
            return ""

    def record(self, words: str, files: Mapping[str, str | None], at: float | None = None) -> None:
        """A change was made: its words, and the new texts of the files that it changed (None: taken away)."""
        entries = self.entries()
        names = {name: "" if text is None else text_name(text) for name, text in files.items()}
        changed = {name: text for name, text in names.items() if self._now.get(name, "") != text}
        if not changed:
            return
        folder = self.folder / "texts"
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        for name, text_id in changed.items():
            place = folder / text_id
            if text_id and not place.exists():
                place.write_bytes((files[name] or "").encode("utf-8", "surrogateescape"))
        version = Version(entries[-1].number + 1 if entries else 1, time.time() if at is None else at, words, changed)
        entries.append(version)
        for name, text_id in changed.items():
            if text_id:
                self._now[name] = text_id
            else:
                self._now.pop(name, None)
        with self._file.open("a", encoding="utf-8") as stream:
            stream.write(_line(version))
        if len(entries) > KEPT * 1.2:
            self._forget_the_oldest()

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
        old, kept = entries[:-KEPT], entries[-KEPT:]
        first = Version(old[-1].number, old[-1].at, old[-1].words, self.state(old[-1].number))
        self._entries = [first, *kept]
        temporary = self.folder / ".log.jsonl.new"
        temporary.write_text("".join(_line(version) for version in self._entries), encoding="utf-8")
        temporary.replace(self._file)
        named = {text for version in self._entries for text in version.files.values()}
        for file in (self.folder / "texts").iterdir():
            if file.name not in named:
                file.unlink(missing_ok=True)


def _line(version: Version) -> str:
    return json.dumps({"number": version.number, "at": round(version.at, 3), "words": version.words,
                       "files": version.files}, ensure_ascii=False) + "\n"


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
