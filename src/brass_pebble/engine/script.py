"""A scripted class: presses on the bench at given times, with captions."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from pathlib import Path

from brass_pebble.core.durations import parse_duration


@dataclass(frozen=True)
class Cue:
    """At `at` ns after the start: press or release a control, or only say something."""

    at: int
    surface: str = ""
    control: str = ""
    down: bool = False
    says: str = ""


@dataclass(frozen=True)
class Script:
    """Cues in the order of their times."""

    name: str
    length: int
    cues: tuple[Cue, ...]


def read_script(file: Path) -> Script:
    """A script file: `[[cue]]` with at, and surface, control, held for a press, or says for a caption."""
    with file.open("rb") as stream:
        data = tomllib.load(stream)
    cues: list[Cue] = []
    for row in data["cue"]:
        at = parse_duration(row["at"])
        says = row.get("says", "")
        if "control" in row:
            held = parse_duration(row.get("held", "90ms"))
            cues.append(Cue(at, row["surface"], row["control"], True, says))
            cues.append(Cue(at + held, row["surface"], row["control"], False))
        else:
            cues.append(Cue(at, says=says))
    cues.sort(key=lambda cue: cue.at)
    return Script(data["name"], parse_duration(data["length"]), tuple(cues))
