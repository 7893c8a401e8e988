"""The gesture recogniser: every sequence up to a length, recorded streams, and what its table is drawn as."""

from __future__ import annotations

import itertools
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from brass_pebble.core.play.gesture import (
    AGAIN,
    DOUBLE,
    EVENTS,
    HOLD,
    PRESS,
    RELEASE,
    STATES,
    TABLE,
    TAP,
    UP,
    USED,
    WAITING,
    Recogniser,
)
from brass_pebble.core.signals.keys import key_table

MS = 1_000_000
HERE = Path(__file__).parent
SETS = [frozenset(extra) for count in range(5) for extra in itertools.combinations((TAP, DOUBLE, HOLD, "adds"), count)
        if "adds" not in extra or DOUBLE in extra]
# What can be done: the control goes down or up, or a short or a long time passes.
DEEDS = ("down", "up", "short", "long")


class Finger:
    """Does things to one recogniser; `made` has (when in ms, gesture)."""

    def __init__(self, bound: frozenset[str]) -> None:
        self.recogniser = Recogniser(bound, 250 * MS, 200 * MS)
        self.now, self.made = 0, list[tuple[int, str]]()
        self.is_down = False

    def feed(self, event: str, at: int) -> None:
        self.made += [(at // MS, gesture) for gesture in self.recogniser.feed(event, at)]

    def pass_time(self, ms: int) -> None:
        end = self.now + ms * MS
        while self.recogniser.due and self.recogniser.due <= end:
            self.feed("time", self.recogniser.due)
        self.now = end

    def do(self, deed: str) -> None:
        if deed in ("short", "long"):
            self.pass_time(60 if deed == "short" else 400)
        else:
            self.is_down = deed == "down"
            self.feed(deed, self.now)
        self.pass_time(1)

    def names(self) -> list[str]:
        return [gesture for _, gesture in self.made]


def sequences() -> Iterator[tuple[str, ...]]:
    """All that a control can really do: it goes down when it is up, and up when it is down."""
    for length in range(1, 7):
        for deeds in itertools.product(DEEDS, repeat=length):
            down, real = False, True
            for deed in deeds:
                real &= deed not in ("down", "up") or down == (deed == "up")
                down = deed == "down" if deed in ("down", "up") else down
            if real:
                yield deeds


ALL = list(sequences())


@pytest.mark.parametrize("bound", SETS, ids=lambda bound: "+".join(sorted(bound)) or "press only")
def test_every_sequence_up_to_six(bound: frozenset[str]) -> None:
    assert len(ALL) > 1000
    for deeds in ALL:
        finger = Finger(bound)
        for deed in deeds:
            finger.do(deed)
            state, due = finger.recogniser.state, finger.recogniser.due
            # It knows whether the control is down; it waits only where something is bound that needs it.
            assert (state not in (UP, WAITING)) == finger.is_down, deeds
            assert not due or due > finger.now, deeds
            assert (state != WAITING or DOUBLE in bound) and (not due or bound & {DOUBLE, HOLD}), deeds
        finger.pass_time(1000)
        if finger.is_down:
            finger.do("up")
            finger.pass_time(1000)
        assert finger.recogniser.state == UP and finger.recogniser.due == 0, deeds
        names = finger.names()
        downs = deeds.count("down")
        # Each press and each release once, in turns; what belongs to a press comes after it.
        assert [name for name in names if name in (PRESS, RELEASE)] == [PRESS, RELEASE] * downs, deeds
        # Each press is one thing and one only: a tap, a hold, or the second half of a double tap.
        adds = names.count(DOUBLE) if "adds" in bound else 0
        swallowed = 0 if "adds" in bound else names.count(DOUBLE)
        assert names.count(TAP) + names.count(HOLD) + names.count(DOUBLE) + swallowed == downs, (deeds, names, adds)
        assert HOLD in bound or HOLD not in names
        assert DOUBLE in bound or DOUBLE not in names
        if not bound & {DOUBLE}:
            # Without a double tap, a tap comes with the release, not a moment later.
            taps = [at for at, name in finger.made if name == TAP]
            assert taps == [at for at, name in finger.made if name == RELEASE and at in taps], deeds


def test_times_of_a_tap_a_hold_and_a_double_tap() -> None:
    finger = Finger(frozenset((TAP, DOUBLE, HOLD)))
    finger.do("down")
    finger.pass_time(99)
    finger.do("up")
    assert finger.made == [(0, PRESS), (100, RELEASE)]
    finger.pass_time(500)
    assert finger.made[2:] == [(300, TAP)]
    finger = Finger(frozenset((TAP, DOUBLE, HOLD)))
    for deed in ("down", "up", "short", "down", "long", "up"):
        finger.do(deed)
    assert finger.names() == [PRESS, RELEASE, PRESS, DOUBLE, RELEASE]
    finger = Finger(frozenset((TAP, HOLD)))
    finger.do("down")
    finger.do("long")
    assert finger.made == [(0, PRESS), (250, HOLD)]


def test_a_control_used_with_another_is_no_tap_and_no_hold() -> None:
    finger = Finger(frozenset((TAP, HOLD)))
    finger.do("down")
    finger.feed("used", finger.now)
    finger.do("long")
    finger.do("up")
    assert finger.names() == [PRESS, RELEASE] and finger.recogniser.state == UP
    finger.do("down")
    finger.do("up")
    assert finger.names()[2:] == [PRESS, TAP, RELEASE]


@pytest.mark.parametrize(("deeds", "event", "expected"), [
    (("down",), "gone", [PRESS, RELEASE]), (("down", "long"), "gone", [PRESS, HOLD, RELEASE]),
    (("down", "up"), "gone", [PRESS, RELEASE, TAP]), (("down", "up"), "stop", [PRESS, RELEASE]),
    (("down", "up"), "other", [PRESS, RELEASE, TAP]), (("down", "up", "down"), "gone", [PRESS, RELEASE, PRESS, DOUBLE,
                                                                                     RELEASE]),
])
def test_unplugged_stopped_and_overtaken(deeds: tuple[str, ...], event: str, expected: list[str]) -> None:
    finger = Finger(frozenset((TAP, DOUBLE, HOLD)))
    for deed in deeds:
        finger.do(deed)
    finger.feed(event, finger.now)
    finger.pass_time(1000)
    assert finger.names() == expected and finger.recogniser.state in (UP, USED)


def test_the_table_is_whole_and_drawn_as_it_is() -> None:
    assert {rule.state for rule in TABLE} == set(STATES) and {rule.event for rule in TABLE} == set(EVENTS)
    # From every state that a held control can be in, letting go leads back.
    for state in STATES:
        if state not in (UP, WAITING):
            assert {rule.to for rule in TABLE if rule.state == state and rule.event in ("up", "gone")} <= {UP, WAITING}
    assert {rule.to for rule in TABLE if AGAIN in rule.to} == {AGAIN}
    done = subprocess.run([sys.executable, HERE.parent / "tools" / "draw_gestures.py", "--check"], check=False,
                          capture_output=True, text=True)
    assert done.returncode == 0, done.stdout


@pytest.mark.parametrize("file", sorted((HERE / "recorded").glob("*.tsv")), ids=lambda file: file.stem)
def test_recorded_streams(file: Path) -> None:
    """Key events as the kernel told them, with what the person meant written at the top of each file."""
    lines = file.read_text().splitlines()
    expected = next(line for line in lines if line.startswith("# meant:")).removeprefix("# meant:").split(",")
    controls: dict[int, Finger] = {}
    for line in lines:
        if line.startswith("#"):
            continue
        ns, key, value = line.split("\t")
        finger = controls.setdefault(key_table().find(key).code, Finger(frozenset((TAP, DOUBLE, HOLD))))
        at = int(ns)
        finger.pass_time((at - finger.now) // MS)
        finger.now = at
        finger.feed("down" if value == "1" else "up", at)
    for finger in controls.values():
        finger.pass_time(1000)
    made = sorted((at, name) for finger in controls.values() for at, name in finger.made)
    assert [name for _, name in made if name not in (PRESS, RELEASE)] == [name.strip() for name in expected]
