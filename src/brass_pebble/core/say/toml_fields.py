"""Reading TOML tables with exact complaints: file, line, column, and the nearest known word."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from functools import cached_property
from typing import Any

from .durations import parse_duration
from .problem import Problem, ProblemError, nearest

_KEY = r"""(?:[A-Za-z0-9_-]+|"(?:\\.|[^"\\])*"|'[^']*')"""
_DOTTED = rf"{_KEY}(?:\s*\.\s*{_KEY})*"
_HEADER = re.compile(rf"\s*(\[\[?)\s*({_DOTTED})\s*\]")
_LINE = re.compile(rf"\s*({_DOTTED})\s*=")
_PART = re.compile(_KEY)

Path = tuple[str | int, ...]


class Places:
    """Where each key of a TOML text stands: `find(path)` gives line and column, from 1."""

    def __init__(self, text: str) -> None:
        self._text = text

    @cached_property
    def _lines(self) -> list[str]:
        return self._text.splitlines()

    @cached_property
    def _at(self) -> dict[Path, tuple[int, int]]:
        # Only a text with a mistake in it has its places looked for.
        at: dict[Path, tuple[int, int]] = {}
        prefix: Path = ()
        counts: dict[Path, int] = {}
        for number, line in enumerate(self._lines, 1):
            if header := _HEADER.match(line):
                prefix = _parts(header[2])
                if header[1] == "[[":
                    index = counts.get(prefix, 0)
                    counts[prefix] = index + 1
                    prefix = (*prefix, index)
                for depth in range(1, len(prefix) + 1):
                    at.setdefault(prefix[:depth], (number, header.start(2) + 1))
            elif pair := _LINE.match(line):
                path = (*prefix, *_parts(pair[1]))
                at.setdefault(path, (number, pair.start(1) + 1))
        return at

    def find(self, path: Path, word: str = "") -> tuple[int, int]:
        """Where `path` stands, or the nearest table around it; with `word`, its column in that line."""
        while path:
            if path in self._at:
                line, column = self._at[path]
                inside = self._lines[line - 1].find(word, column - 1) if word else -1
                return line, inside + 1 if inside >= 0 else column
            path = path[:-1]
        return 0, 0


def _parts(dotted: str) -> Path:
    return tuple(part[1:-1] if part[0] in "\"'" else part for part in _PART.findall(dotted))


class Fields:
    """One table being read.  Every key asked for is known; `done` complains about the others."""

    def __init__(self, data: dict[str, Any], path: Path, places: Places, file: str,
                 problems: list[Problem]) -> None:
        self.data = data
        self.path = path
        self._places = places
        self._file = file
        self._problems = problems
        self._known: set[str] = set()

    def problem(self, key: str, what: str, hint: str = "", word: str = "") -> None:
        """Report something wrong with the value of `key`."""
        line, column = self._places.find((*self.path, key) if key else self.path, word)
        self._problems.append(Problem(what, self._file, line, column, hint))

    def known(self, *keys: str) -> None:
        """Say that keys belong here, whether they are there or not, and in whichever way they are read."""
        self._known.update(keys)

    def _get(self, key: str, kind: type | tuple[type, ...], what: str, default: Any) -> Any:
        self._known.add(key)
        value = self.data.get(key, default)
        if value is default:
            return default
        if not isinstance(value, kind) or isinstance(value, bool):
            self.problem(key, f"“{key}” must be {what}")
            return default
        return value

    def text(self, key: str, default: str) -> str:
        """A string."""
        value: str = self._get(key, str, "a text in quotes", default)
        return value

    def number(self, key: str, default: float) -> float:
        """A number, as float."""
        return float(self._get(key, (int, float), "a number", default))

    def flag(self, key: str, default: bool = False) -> bool:
        """true or false."""
        self._known.add(key)
        value = self.data.get(key, default)
        if not isinstance(value, bool):
            self.problem(key, f"“{key}” must be true or false")
            return default
        return value

    def choice(self, key: str, known: Iterable[str], default: str) -> str:
        """One of a set of words."""
        value = self.text(key, default)
        words = list(known)
        if value not in words:
            self.problem(key, f"“{value}” is not a value for “{key}”",
                         nearest(value, words) or f"Available: {', '.join(words)}", word=value)
            return default
        return value

    def duration(self, key: str, default: int) -> int:
        """A duration such as "40ms", in ns."""
        value = self._get(key, str, 'a duration in quotes, like "40ms"', "")
        if not value:
            return default
        try:
            return parse_duration(value)
        except ProblemError as error:
            self.problem(key, error.problem.what, error.problem.hint, word=value)
            return default

    def pair(self, key: str, default: tuple[float, float] | None) -> tuple[float, float] | None:
        """Two numbers in brackets."""
        value = self._get(key, list, "two numbers, like [0, 2]", None)
        if value is None:
            return default
        if len(value) != 2 or not all(isinstance(v, int | float) for v in value):
            self.problem(key, f"“{key}” must be two numbers, like [0, 2]")
            return default
        return float(value[0]), float(value[1])

    def texts(self, key: str) -> tuple[str, ...]:
        """A list of texts; an empty one without it."""
        value = self._get(key, list, "a list of texts in quotes", [])
        if not all(isinstance(item, str) for item in value):
            self.problem(key, f"“{key}” must be a list of texts in quotes")
            return ()
        return tuple(value)

    def table(self, key: str) -> Fields:
        """The table below `key`; an empty one if there is none."""
        self._known.add(key)
        value = self.data.get(key, {})
        if not isinstance(value, dict):
            self.problem(key, f"“{key}” must be a table")
            value = {}
        return self._below(value, key)

    def entries(self, key: str) -> Iterator[tuple[str, Fields]]:
        """The named tables below `key`: `[surface.left]`, `[surface.right]`."""
        return self.table(key).entries_here()

    def entries_here(self) -> Iterator[tuple[str, Fields]]:
        """The named tables right in this one."""
        for name, value in self.data.items():
            if isinstance(value, dict):
                yield name, self._below(value, name)
            else:
                self.problem(name, f"“{name}” must be a table")

    def tables(self, key: str) -> Iterator[Fields]:
        """The tables of a list: `[[control]]`."""
        self._known.add(key)
        value = self.data.get(key, [])
        if not isinstance(value, list):
            self.problem(key, f"“{key}” must be a list of tables, each headed [[{key}]]")
            return
        for index, item in enumerate(value):
            if not isinstance(item, dict):
                self.problem(key, f"row {index + 1} of “{key}” must be a table", f"Head each with [[{key}]]")
            else:
                yield Fields(item, (*self.path, key, index), self._places, self._file, self._problems)

    def _below(self, value: dict[str, Any], key: str) -> Fields:
        return Fields(value, (*self.path, key), self._places, self._file, self._problems)

    def done(self, *also: str) -> None:
        """Complain about keys nobody asked for."""
        known = self._known | set(also)
        for key in self.data:
            if key not in known:
                self.problem(key, f"“{key}” is not known here",
                             nearest(key, known) or f"Available: {', '.join(sorted(known))}", word=key)
