"""Which drawing a device probably wants, from what it says it can send and from its name."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache

from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.data_table import read_table
from brass_pebble.core.signals.keys import key_table
from brass_pebble.core.signals.signal import MIDI_FAMILIES, NOTE, family_of

from .identity import DeviceFacts
from .layout import Layout

# A device that names more keys than this has copied a keyboard's list, whatever it is.
CLAIMS_ALL = 80
LEAST_COVERED = 0.6
LEAST_POINTS = 20.0
DRAWN_BEFORE, HINTED = 1000.0, 120.0
_KNOB = {key_table().find(name).code for name in ("VolumeDown", "Mute", "VolumeUp")}
# Only keyboards of one of two shapes have it, and most others claim it, too.
_EXTRA = key_table().find("ExtraKey").code


@dataclass(frozen=True)
class Proposal:
    """A drawing for a device, why it was chosen, and the key that each of its controls probably sends.

    `learn` says that these keys are a guess: pressing the controls in order puts them right.
    """

    layout: Layout
    points: float
    why: str
    keys: dict[str, int]
    learn: bool = False


def propose(facts: DeviceFacts, layouts: Iterable[Layout], *, plays_notes: bool = False) -> list[Proposal]:
    """The drawings that may suit, the likeliest first.  What `plays_notes` sends MIDI instead of keys."""
    known = list(layouts)
    if plays_notes:
        return _midi_drawings(known)
    if not facts.codes:
        return []
    drawable = {c.code for layout in known if not layout.any_keys for c in layout.controls} - {_EXTRA}
    found = []
    for layout in known:
        proposal = _places(facts, layout) if layout.any_keys else _keyed(facts, layout, drawable)
        if proposal is not None:
            found.append(proposal)
    return sorted(found, key=lambda p: (-p.points, p.layout.id))


def _midi_drawings(layouts: list[Layout]) -> list[Proposal]:
    """What MIDI devices may look like: they do not tell what they have, so pressing puts it right."""
    found = [Proposal(layout, LEAST_POINTS + 10 * sum(family_of(c.code) is NOTE for c in layout.controls),
                      "it sends MIDI", {}, learn=True)
             for layout in layouts if layout.controls and all(family_of(c.code) in MIDI_FAMILIES
                                                              for c in layout.controls)]
    # Most such devices are pads.
    return sorted(found, key=lambda p: (-p.points, p.layout.id))


def _bonus(facts: DeviceFacts, layout: Layout) -> tuple[float, str]:
    if f"{facts.vendor}:{facts.product}" in layout.fits:
        return DRAWN_BEFORE, "drawn for this make before"
    for pattern, prefix in _hints():
        if layout.id.startswith(prefix) and pattern.search(facts.name):
            return HINTED, "its name matches"
    return 0.0, ""


def _keyed(facts: DeviceFacts, layout: Layout, drawable: set[int]) -> Proposal | None:
    wanted, has = {c.code for c in layout.controls}, set(facts.codes)
    if not wanted:
        return None
    covered = len(wanted & has) / len(wanted)
    bonus, why = _bonus(facts, layout)
    if covered < LEAST_COVERED and bonus < DRAWN_BEFORE:
        return None
    excess = len((has & drawable) - wanted) / max(1, len(has & drawable))
    points = 100 * covered - 60 * excess + bonus
    if not why:
        why = (f"it can send all of its {say_count(len(wanted), 'key')}" if covered == 1
               else f"it can send {len(wanted & has)} of its {say_count(len(wanted), 'key')}")
    return Proposal(layout, points, why, {})


def _places(facts: DeviceFacts, layout: Layout) -> Proposal | None:
    count, wanted = len(facts.codes), len(layout.controls)
    bonus, why = _bonus(facts, layout)
    knobs = any(c.code in _KNOB for c in layout.controls)
    points = bonus
    if count <= CLAIMS_ALL:
        points += 90 - 15 * abs(count - wanted) + (15 if knobs and set(facts.codes) >= _KNOB else 0)
        points -= 40 if knobs and not set(facts.codes) >= _KNOB else 0
        # Few keys are more often under feet than under fingers.
        points += 3 if layout.id.startswith("pedals-") else 0
    if not why or bonus < DRAWN_BEFORE:
        keys = say_count(wanted, "key")
        why = f"it has {keys}" if count == wanted else f"{keys}, and it has {count}"
    if points < LEAST_POINTS:
        return None
    if count != wanted:
        return Proposal(layout, points, why, {}, learn=True)
    return Proposal(layout, points, why, _in_order(facts, layout), learn=True)


def _in_order(facts: DeviceFacts, layout: Layout) -> dict[str, int]:
    """Give the device's keys to the controls: the same key where both have it, then by number."""
    has = set(facts.codes)
    keys = {c.id: c.code for c in layout.controls if c.code in has}
    rest = iter(sorted(has - set(keys.values())))
    return {c.id: keys[c.id] if c.id in keys else next(rest) for c in layout.controls}


@cache
def _hints() -> list[tuple[re.Pattern[str], str]]:
    """The table `data/device-hints.tsv`."""
    return [(re.compile(pattern, re.IGNORECASE), prefix) for pattern, prefix in read_table("device-hints.tsv")]
