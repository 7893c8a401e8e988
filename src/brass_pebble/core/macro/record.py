"""What was played, as macro text: key pairs become taps, even gaps a rhythm, and the stop key is left out."""

from __future__ import annotations

import itertools
from collections.abc import Iterable
from dataclasses import dataclass

from brass_pebble.core.effects.kinds import KEY, kind_of
from brass_pebble.core.effects.pointer import BUTTONS, REL_HWHEEL, REL_WHEEL, REL_X, REL_Y
from brass_pebble.core.say.durations import MS, write_duration
from brass_pebble.core.signals.keys import key_table

# How time is kept.
PLAYED, EVEN, NONE = "as played", "evened out", "none"
KEEPING = (PLAYED, EVEN, NONE)
# Fingers are not more exact than this.
GRAIN = 5 * MS
# Gaps that differ by less are meant to be the same.
EVENLY = 0.18
# A pointer's way is kept in pieces of so long.
PIECE = 40 * MS
_SIDES = {code: side for side, code in BUTTONS.items()}


@dataclass(frozen=True)
class Stroke:
    """A key that went down and up, in ns; `keys` are those that were held around it."""

    code: int
    down: int
    up: int


def strokes_of(events: Iterable[tuple[int, int, int]], end: int) -> list[Stroke]:
    """Pairs out of (code, 1 or 0, ns); what is still down at `end` goes up then, and a release without a press is
    left out."""
    down: dict[int, tuple[int, int]] = {}
    strokes: list[tuple[int, Stroke]] = []
    for number, (code, value, at) in enumerate(events):
        if value:
            down.setdefault(code, (number, at))
        elif code in down:
            first, began = down.pop(code)
            strokes.append((first, Stroke(code, began, at)))
    strokes += [(first, Stroke(code, began, end)) for code, (first, began) in down.items()]
    # Keys of one instant stay in the order in which they came.
    return [stroke for _, stroke in sorted(strokes, key=lambda item: item[0])]


def without_stop(events: list[tuple[int, int, int]], stop: int) -> list[tuple[int, int, int]]:
    """The events without the last press of the key that ended the recording, and without releases from before it."""
    last = next((index for index in range(len(events) - 1, -1, -1) if events[index][0] == stop and events[index][1]),
                None)
    return [event for index, event in enumerate(events)
            if last is None or not (event[0] == stop and index >= last)]


def write_recording(events: Iterable[tuple[int, int, int]], *, end: int, keep: str = PLAYED,
                    tap: int = 40 * MS) -> str:
    """Macro text of what was played: (code, 1 or 0, ns), ended at `end`."""
    played = list(events)
    ways = _ways([event for event in played if kind_of(event[0]) is not KEY])
    strokes = strokes_of([event for event in played if kind_of(event[0]) is KEY], end)
    if ways:
        return _with_ways(_groups(strokes), ways, keep, tap)
    if not strokes:
        return ""
    groups = _groups(strokes)
    lines: list[str] = []
    if keep == EVEN and (rhythm := _rhythm(groups)) is not None:
        lines.append(f"beat {write_duration(rhythm)}")
        for group in groups:
            inner = _group_lines(group, keep, tap)
            # A beat wants one step: several lines of a group would each take a beat.
            lines += [f"  {line}" for line in inner] if len(inner) == 1 else []
            if len(inner) != 1:
                return write_recording(played, end=end, keep=PLAYED, tap=tap)
        return "\n".join([*lines, ""])
    before: int | None = None
    for group in groups:
        if before is not None and keep != NONE:
            pause = _round(group[0].down - before)
            if pause > 0:
                lines.append(f"wait {write_duration(pause)}")
        lines += _group_lines(group, keep, tap)
        before = max(stroke.up for stroke in group)
    return "\n".join([*lines, ""])


def _ways(events: list[tuple[int, int, int]]) -> list[tuple[int, int, str]]:
    """The pointer's way in short pieces: (begin, end, line)."""
    pieces: list[tuple[int, int, str]] = []
    x = y = 0
    began = last = -PIECE
    for code, value, at in events:
        if code in (REL_WHEEL, REL_HWHEEL):
            word = ("up" if value > 0 else "down") if code == REL_WHEEL else ("right" if value > 0 else "left")
            pieces.append((at, at, f"scroll {word}" + (f" {abs(value)}" if abs(value) > 1 else "")))
            continue
        if (x or y) and at - began >= PIECE:
            pieces.append((began, last, f"move by {x} {y}"))
            x = y = 0
        if not (x or y):
            began = at
        x, y, last = x + value * (code == REL_X), y + value * (code == REL_Y), at
    if x or y:
        pieces.append((began, last, f"move by {x} {y}"))
    return sorted(pieces)


def _with_ways(groups: list[list[Stroke]], ways: list[tuple[int, int, str]], keep: str, tap: int) -> str:
    """Keys and the pointer's way in their order.  A click in the middle of a way is where it was."""
    parts = [(way[0], way[1], [way[2]]) for way in ways]
    parts += [(group[0].down, max(s.up for s in group), _group_lines(group, keep, tap)) for group in groups]
    lines: list[str] = []
    at: int | None = None
    for began, ended, words in sorted(parts):
        if at is not None and keep != NONE and (pause := _round(began - at)) > 0:
            lines.append(f"wait {write_duration(pause)}")
        lines += words
        # A way takes no time of its own: what it took is waited behind it.
        at = began if len(words) == 1 and words[0].startswith(("move", "scroll")) else ended
    return "\n".join([*lines, ""])


def _groups(strokes: list[Stroke]) -> list[list[Stroke]]:
    """Strokes that overlap belong together."""
    groups: list[list[Stroke]] = []
    end = -1
    for stroke in strokes:
        if groups and stroke.down < end:
            groups[-1].append(stroke)
        else:
            groups.append([stroke])
            end = -1
        end = max(end, stroke.up)
    return groups


def _group_lines(group: list[Stroke], keep: str, tap: int) -> list[str]:
    names = key_table()
    if len(group) == 1:
        return [_tap(names.name(group[0].code), group[0], keep, tap)]
    outer, inner = group[0], group[1:]
    chord = [group[0]]
    # Held keys that end together with, or after, the last one make a chord.
    nested = all(stroke.up <= outer.up for stroke in inner)
    if nested and len({stroke.code for stroke in group}) == len(group) and all(
            later.down >= earlier.down and later.up <= earlier.up
            for earlier, later in itertools.pairwise(group)):
        chord = group
        name = "+".join(names.name(stroke.code) for stroke in chord)
        return [_tap(name, chord[-1], keep, tap)]
    if nested:
        lines = [f"keep {names.name(outer.code)} down"]
        before: int | None = None
        for part in _groups(inner):
            if before is not None and keep != NONE and (pause := _round(part[0].down - before)) > 0:
                lines.append(f"  wait {write_duration(pause)}")
            lines += [f"  {line}" for line in _group_lines(part, keep, tap)]
            before = max(stroke.up for stroke in part)
        return lines
    # Keys that overlap like fingers on a piano: each down and up by itself.
    moves = sorted([(s.down, 1, s.code) for s in group] + [(s.up, 0, s.code) for s in group])
    lines, at = [], moves[0][0]
    for when, value, code in moves:
        if keep != NONE and (pause := _round(when - at)) > 0:
            lines.append(f"wait {write_duration(pause)}")
            at = when
        lines.append(f"{'down' if value else 'up'} {names.name(code)}")
    return lines


def _tap(name: str, stroke: Stroke, keep: str, tap: int) -> str:
    if stroke.code in _SIDES:
        side = _SIDES[stroke.code]
        return "click" if side == "left" else f"click {side}"
    length = _round(stroke.up - stroke.down)
    # Where time is not kept, nor the length of a tap that is as good as the usual one.
    usual = keep != PLAYED or abs(length - tap) <= 3 * GRAIN
    return f"tap {name}" if usual else f"tap {name} for {write_duration(max(MS, length))}"


def _round(ns: int) -> int:
    return (ns + GRAIN // 2) // GRAIN * GRAIN


def _rhythm(groups: list[list[Stroke]]) -> int | None:
    """The beat, if the strokes come evenly."""
    if len(groups) < 3:
        return None
    gaps = [b[0].down - a[0].down for a, b in itertools.pairwise(groups)]
    middle = sorted(gaps)[len(gaps) // 2]
    if middle <= 0 or any(abs(gap - middle) > EVENLY * middle for gap in gaps):
        return None
    longest = max(max(s.up for s in group) - group[0].down for group in groups)
    return max(_round(sum(gaps) // len(gaps)), _round(longest) + GRAIN)
