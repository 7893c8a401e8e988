"""A scripted class: presses on the bench at given times, with captions."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from brass_pebble import file_access
from brass_pebble.core.say.durations import parse_duration
from brass_pebble.core.say.limits import load_tables


@dataclass(frozen=True)
class Cue:
    """At `at` ns after the start: press or release a control, or only say something.

    `to` are positions to move it to, one for each axis; `turns` are steps of a wheel; `strength` is that of a pad.
    """

    at: int
    surface: str = ""
    control: str = ""
    down: bool = False
    says: str = ""
    to: tuple[float, ...] | None = None
    turns: int = 0
    strength: int = 127


# How often a slide moves on, in ns.
SLIDE_EVERY = 40_000_000


@dataclass(frozen=True)
class Script:
    """Cues in the order of their times."""

    name: str
    length: int
    cues: tuple[Cue, ...]


def read_script(file: Path) -> Script:
    """A script file: `[[cue]]` with at, and surface, control, held for a press, or says for a caption.

    `slide` are positions (numbers, or pairs for sticks), reached evenly within `held`; `turns` are steps of a wheel.
    """
    data = load_tables(file_access.read_text(file))
    cues: list[Cue] = []
    for row in data["cue"]:
        at = parse_duration(row["at"])
        says = row.get("says", "")
        if "slide" in row:
            cues += _slide(row, at, says)
        elif "turns" in row:
            cues.append(Cue(at, row["surface"], row["control"], says=says, turns=row["turns"]))
        elif "control" in row:
            held = parse_duration(row.get("held", "90ms"))
            cues.append(Cue(at, row["surface"], row["control"], True, says, strength=row.get("strength", 127)))
            cues.append(Cue(at + held, row["surface"], row["control"], False))
        else:
            cues.append(Cue(at, says=says))
    cues.sort(key=lambda cue: cue.at)
    return Script(data["name"], parse_duration(data["length"]), tuple(cues))


def _slide(row: dict[str, Any], at: int, says: str) -> list[Cue]:
    """Cues that move a control from place to place."""
    places = [tuple(map(float, place)) if isinstance(place, list) else (float(place),) for place in row["slide"]]
    held = parse_duration(row.get("held", "1s"))
    count = max(1, held // SLIDE_EVERY)
    cues = [Cue(at, says=says)] if says else []
    for step in range(count + 1):
        way = step / count * (len(places) - 1)
        index = min(int(way), len(places) - 2)
        part = way - index
        to = tuple(a + (b - a) * part for a, b in zip(places[index], places[index + 1], strict=True))
        cues.append(Cue(at + held * step // count, row["surface"], row["control"], to=to))
    return cues
