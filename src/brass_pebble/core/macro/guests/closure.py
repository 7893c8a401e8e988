"""What a macro leads to as a whole: its text, all that it plays, and all that shares a kept value with it.  Pure.

An approval is for this whole.  It is worked out from texts alone, so that a text that cannot be read has one, too.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from functools import lru_cache

from brass_pebble.core.macro.naming import kept_names, played_names, written_name
from brass_pebble.core.macro.text_lines import content_lines

# A macro that leads to more than this counts as leading to everything.
MOST_MACROS = 300
# So much of a whole is kept, to show later what has changed.
MOST_TEXT = 100_000


@dataclass(frozen=True)
class Called:
    """How a macro can be called: its id, its name, and from whom it came (nothing: the person's own)."""

    id: str
    name: str
    origin: str = ""


@dataclass
class Callers:
    """Finds the macro that a name means, for whoever says it: one's own come first, and no stranger's takes their
    place."""

    macros: Iterable[Called]
    _by_origin: dict[str, dict[str, str]] = field(default_factory=dict)
    _any: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for by_id in (True, False):
            for called in self.macros:
                word = called.id if by_id else called.name
                for known in (self._by_origin.setdefault(called.origin, {}), self._any):
                    known.setdefault(word, called.id)

    def find(self, word: str, origin: str = "") -> str | None:
        """The id of the macro that is meant; None if there is none."""
        for group in (self._by_origin.get(origin, {}), self._by_origin.get("", {}), self._any):
            if (found := group.get(word)) is not None:
                return found
        return None


@lru_cache(maxsize=4096)
def _essence(text: str) -> str:
    """A text without its remarks and empty lines."""
    lines = text.splitlines()
    content = content_lines(lines)
    return "\n".join(line.rstrip() for index, line in enumerate(lines)
                     if index in content or (line.strip() and not line.strip().startswith("#")))


@lru_cache(maxsize=4096)
def _links(text: str) -> tuple[tuple[str, ...], tuple[str, ...], str]:
    """What a text plays, what it keeps, and its name."""
    return tuple(played_names(text)), tuple(kept_names(text)), written_name(text)


@dataclass(frozen=True)
class Whole:
    """What a macro leads to, as a text that can be read, and what it is known by."""

    text: str

    @property
    def mark(self) -> str:
        """What it is known by."""
        return hashlib.sha256(self.text.encode("utf-8", "surrogateescape")).hexdigest()[:32]


class Wholes:
    """The wholes of the macros of a desk.  `origin(id)` tells from whom one came; nothing is the person's own.  `came`
    are texts of kept values that came from somebody else, by name."""

    def __init__(self, texts: Mapping[str, str], origin: Callable[[str], str],
                 came: Mapping[str, str] | None = None) -> None:
        self._texts, self._origin, self._came = texts, origin, came or {}
        self._callers: Callers | None = None
        self._keep: dict[str, list[str]] = {}
        self._found: dict[str, Whole] = {}

    def of(self, name: str) -> Whole:
        """What a macro leads to."""
        if name not in self._found:
            if self._callers is None:
                self._look()
            self._found[name] = self._work_out(name)
        return self._found[name]

    def _look(self) -> None:
        self._callers = Callers([Called(name, _links(text)[2] or name, self._origin(name))
                                 for name, text in self._texts.items()])
        for name, text in self._texts.items():
            for kept in _links(text)[1]:
                self._keep.setdefault(kept, []).append(name)

    def _work_out(self, name: str) -> Whole:
        assert self._callers is not None
        reached, waiting = {name: None}, [name]
        while waiting and len(reached) <= MOST_MACROS:
            one = waiting.pop()
            plays, keeps, _ = _links(self._texts.get(one, ""))
            found = [self._callers.find(word, self._origin(one)) for word in plays]
            for other in (*found, *(other for kept in keeps for other in self._keep.get(kept, ()))):
                if other is not None and other not in reached:
                    reached[other] = None
                    waiting.append(other)
        if len(reached) > MOST_MACROS:
            reached = {name: None, **dict.fromkeys(self._texts)}
        others = sorted(other for other in reached if other != name)
        parts = [_essence(self._texts.get(name, ""))]
        parts += [f"# {other}\n{_essence(self._texts[other])}" for other in others]
        kept = sorted({value for other in reached for value in _links(self._texts.get(other, ""))[1]} & {*self._came})
        parts += [f"# {value}\n{self._came[value].strip()}" for value in kept]
        return Whole("\n".join(parts))
