"""Simulated receiving programs: a table of shortcuts, a state, and quirks.  Pure; time is an argument.

A program looks for keys once in a while: a key must be down for `notices` ns to count.  A window that takes a
moment to open misses what is typed before.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from heapq import heappop, heappush
from typing import Any

from brass_pebble.core.say.durations import parse_duration, say_duration
from brass_pebble.core.signals.keymap import Typist, keymap
from brass_pebble.core.signals.keys import key_table, modifier_codes, parse_chord

# A dial is told when it has not been turned for so long, in ns.
RESTS = 250_000_000
_SHIFTS = frozenset(key_table().find(name).code for name in ("Shift", "RightShift"))
_SHIFT = key_table().find("Shift").code
_ENTER = key_table().find("Enter").code
_BACKSPACE = key_table().find("Backspace").code
_ESCAPE = key_table().find("Escape").code


@dataclass(frozen=True)
class Shortcut:
    """A chord and what it does: see the tables in the demo's stage folder."""

    chord: str
    says: str = ""
    put: dict[str, Any] = field(default_factory=dict)
    hold: dict[str, Any] = field(default_factory=dict)
    turn: dict[str, list[Any]] = field(default_factory=dict)
    add: dict[str, int] = field(default_factory=dict)
    lasts: int = 0
    opens: str = ""
    opens_in: int = 0
    released: str = ""
    learns: str = ""


@dataclass(frozen=True)
class Dial:
    """Something of a program that a message sets: `hears` begins what is sent (“cc 7 on 1”), `of` is what it sets.

    The number behind it is brought from 0..`full` to `low`..`high`; `says` is said when it rests.
    """

    hears: str
    of: str
    full: float = 127
    low: float = 0
    high: float = 100
    says: str = ""


@dataclass(frozen=True)
class Reaction:
    """Something a program did, or failed to notice (`good` is then False).  `cause` came with the key."""

    program: str
    text: str
    at: int
    cause: object
    good: bool = True


def _begins(message: str, words: str) -> bool:
    """Whether a message begins with these words, and not just with the beginning of a longer number."""
    return message.startswith(words) and message[len(words):len(words) + 1] in (" ", ",")


class StageProgram:
    """One program: feed it keys, advance its time, read its state."""

    def __init__(self, data: dict[str, Any], typist: Typist | None = None) -> None:
        # What keys type in it.
        self._characters = (typist or keymap()).characters
        self.name: str = data["name"]
        self.what: str = data.get("what", "")
        self.panels: list[dict[str, Any]] = data.get("panel", [])
        self.notices = parse_duration(data.get("notices", "0ms"))
        # Whether its shortcuts work while another program has the focus.
        self.hears_always = data.get("hears", "always") == "always"
        self.values: dict[str, Any] = dict(data["state"])
        self._first = dict(self.values)
        self._limits: dict[str, list[int]] = data.get("limits", {})
        self._windows: dict[str, dict[str, str]] = data.get("window", {})
        self._shortcuts: dict[tuple[frozenset[int], int], Shortcut] = {}
        for row in data.get("shortcut", []):
            codes = parse_chord(row["chord"]).codes
            fields = {**row, "lasts": parse_duration(row.get("lasts", "0ms")),
                      "opens_in": parse_duration(row.get("opens_in", "0ms")), "put": row.get("set", {})}
            fields.pop("set", None)
            # For people who look for clashes.
            fields.pop("does", None)
            self._shortcuts[frozenset(codes[:-1]), codes[-1]] = Shortcut(**fields)
        self._dials = [Dial(**row) for row in data.get("dial", [])]
        self._struck = {row["hears"]: row for row in data.get("struck", [])}
        self._down: dict[int, int] = {}
        self._acting: dict[int, tuple[Shortcut, dict[str, Any]]] = {}
        self._due: list[tuple[int, int, str, Any]] = []
        self._order = 0
        self._causes: dict[str, object] = {}
        self.window = ""
        self.opening = ""
        self._focused = True
        # The shortcut that gets the next chord, while its dialog is open.
        self._learning: Shortcut | None = None

    def hear(self, message: str, now: int, cause: object, out: list[Reaction]) -> None:
        """A message arrived, in words: `cc 7 on 1 = 64`, `controller x 200`, `note 36 on 10, strength 90`."""
        for dial in self._dials:
            if _begins(message, dial.hears):
                number = float(message[len(dial.hears):].strip(" =").split(" ")[0])
                value = round(dial.low + min(1.0, number / dial.full) * (dial.high - dial.low))
                if self.values[dial.of] != value:
                    self.values[dial.of] = value
                    # What is turned quickly is told once it rests.
                    self._due = [item for item in self._due if item[3] != ("rests", dial)]
                    self._due.sort()
                    self._book(now + RESTS, "rest", ("rests", dial), cause)
        row = next((row for hears, row in self._struck.items() if _begins(message, hears) and "off" not in message),
                   None)
        if row is not None:
            self.values.update(row["set"])
            self._say(row["says"], now, cause, out)

    def has_down(self, code: int) -> bool:
        """Whether it saw this key go down."""
        return code in self._down

    def take_key(self, code: int, value: int, now: int, cause: object, out: list[Reaction], *,
                 focused: bool = True) -> None:
        """A key went down (1) or up (0); `focused` tells whether it has the focus."""
        self._focused = focused
        self.advance(now, out)
        if value:
            self._down[code] = now
            if code not in modifier_codes():
                held = frozenset(self._down) & modifier_codes()
                if not focused and self._learning is None and (held, code) not in self._shortcuts:
                    # What is meant for the program that has the focus is none of its business.
                    return
                self._book(now + self.notices, "look", (code, held, cause))
            return
        since = self._down.pop(code, now)
        for index, (_, _, what, about) in enumerate(self._due):
            if what == "look" and about[0] == code:
                del self._due[index]
                self._due.sort()
                name = key_table().name(code)
                self._say(f"missed {name}: {say_duration(now - since)} is too short, it looks every "
                          f"{say_duration(self.notices)}", now, about[2], out, good=False)
                break
        acting = self._acting.pop(code, None)
        if acting:
            shortcut, before = acting
            self.values.update(before)
            if shortcut.released:
                self._say(shortcut.released, now, None, out)

    def next_deadline(self) -> int | None:
        """When `advance` has something to do, in ns."""
        return self._due[0][0] if self._due else None

    def advance(self, now: int, out: list[Reaction]) -> None:
        """Do what is due."""
        while self._due and self._due[0][0] <= now:
            when, _, what, about = heappop(self._due)
            if what == "look":
                code, held, cause = about
                self._notice(code, held, cause, when, out)
            elif what == "open":
                self.window, self.opening = about[0], ""
                for name in self._windows.get(self.window, {}).values():
                    self.values[name] = ""
                self._say(f"{self.window} is open", when, about[1], out)
            elif what == "rest":
                dial = about[1]
                if dial.says:
                    self._say(dial.says.format_map(self.values), when, self._causes.pop(dial.of, None), out)
            else:
                self.values.update(about)

    def _book(self, when: int, what: str, about: Any, cause: object = None) -> None:
        self._order += 1
        if what == "rest":
            self._causes[about[1].of] = cause
        heappush(self._due, (when, self._order, what, about))

    def _say(self, text: str, when: int, cause: object, out: list[Reaction], *, good: bool = True) -> None:
        out.append(Reaction(self.name, text, when, cause, good))

    def _notice(self, code: int, held: frozenset[int], cause: object, when: int,
                out: list[Reaction]) -> None:
        if self._learning is not None:
            self._learn(self._learning, code, held, cause, when, out)
        elif self.opening:
            self._say(f"missed {key_table().name(code)}: {self.opening} is still opening", when, cause, out,
                      good=False)
        elif self.window and self._focused and (held <= _SHIFTS or (held, code) in self._characters):
            self._type(code, held, cause, when, out)
        else:
            shortcut = self._shortcuts.get((held, code))
            if shortcut is None and not self._focused:
                return
            if shortcut is None:
                chord = "+".join(key_table().name(c) for c in (*sorted(held), code))
                self._say(f"has no shortcut {chord}", when, cause, out, good=False)
            else:
                self._react(shortcut, code, cause, when, out)

    def _learn(self, shortcut: Shortcut, code: int, held: frozenset[int], cause: object, when: int,
               out: list[Reaction]) -> None:
        """The dialog that asks for a key: what comes next is the shortcut from now on."""
        self._shortcuts = {shape: known for shape, known in self._shortcuts.items() if known is not shortcut}
        self._shortcuts[held, code] = shortcut
        self._learning = None
        chord = "+".join(key_table().name(c) for c in (*sorted(held), code))
        self._say(f"learnt {chord}", when, cause, out)

    def _react(self, shortcut: Shortcut, code: int, cause: object, when: int, out: list[Reaction]) -> None:
        before = {name: self.values[name] for name in {**shortcut.hold, **shortcut.put}}
        self.values.update(shortcut.put)
        if shortcut.hold or shortcut.released:
            self._acting[code] = (shortcut, {name: before[name] for name in shortcut.hold})
            self.values.update(shortcut.hold)
        for name, values in shortcut.turn.items():
            here = values.index(self.values[name]) if self.values[name] in values else -1
            self.values[name] = values[(here + 1) % len(values)]
        for name, step in shortcut.add.items():
            low, high = self._limits.get(name, [0, 100])
            self.values[name] = min(high, max(low, self.values[name] + step))
        if shortcut.lasts:
            self._due = [item for item in self._due if item[2] != "back" or set(item[3]) != set(shortcut.put)]
            self._due.sort()
            self._book(when + shortcut.lasts, "back", {name: self._first[name] for name in shortcut.put})
        if shortcut.opens:
            self.opening = shortcut.opens
            self._book(when + shortcut.opens_in, "open", (shortcut.opens, cause))
        if shortcut.learns:
            codes = parse_chord(shortcut.learns).codes
            self._learning = self._shortcuts.get((frozenset(codes[:-1]), codes[-1]))
        if shortcut.says:
            self._say(shortcut.says.format_map(self.values), when, cause, out)

    def _type(self, code: int, held: frozenset[int], cause: object, when: int, out: list[Reaction]) -> None:
        target = self._windows.get(self.window, {}).get("text", "")
        if code in (_ENTER, _ESCAPE):
            self._say(f"{self.window} closed: “{self.values.get(target, '')}”", when, cause, out)
            self.window = ""
        elif code == _BACKSPACE:
            self.values[target] = self.values[target][:-1]
        else:
            char = self._characters.get((frozenset({_SHIFT} if held & _SHIFTS else ()) | (held - _SHIFTS), code))
            if char and target:
                self.values[target] += char
