"""Which parts of a device a surface takes, and when that is the last way in; pure."""

from __future__ import annotations

import tomllib

import pytest

from brass_pebble.core.desk.model import Surface
from brass_pebble.core.desk.read.desk import read_desk
from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.layout import read_layout
from brass_pebble.core.say.problem import Problem
from brass_pebble.core.signals.signal import find_signal
from brass_pebble.paths import SHIPPED_LAYOUTS

LAYERS = """
[surface.s.layer.base.press]
back = { tap = "F13" }
[surface.s.layer.aim]
[surface.s.layer.aim."push right"]
motion = { sustain = "D" }
"""
EVERYTHING = ["PointerLeft", "PointerRight", "ButtonSide", "turn x", "turn y", "turn wheel", "turn 11"]


def surface(fields: str) -> tuple[Surface, list[Problem]]:
    file = SHIPPED_LAYOUTS / "mouse.toml"
    layout, _ = read_layout(tomllib.loads(file.read_text()), id="mouse", file="")
    text = f'[surface.s]\nlayout = "mouse"\n{fields}{LAYERS}'
    desk, problems = read_desk(tomllib.loads(text), text=text, file="desk.toml", layouts={"mouse": layout}.get,
                               layout_names=("mouse",), macros={}, broken_macros={})
    return desk.surfaces["s"], problems


@pytest.mark.parametrize(("fields", "stack", "taken"), [
    ("", ("base",), EVERYTHING),
    ('takes = ["back"]\n', ("base",), ["ButtonSide"]),
    ('takes = ["back", "motion while aim"]\n', ("base",), ["ButtonSide"]),
    ('takes = ["back", "motion while aim"]\n', ("base", "aim"), ["ButtonSide", "turn x", "turn y"]),
    ('takes = ["buttons"]\n', ("base",), ["PointerLeft", "PointerRight", "ButtonSide"]),
    # The fine steps of a wheel belong to it.
    ('takes = ["wheel"]\n', ("base",), ["turn wheel", "turn 11"]),
    ('takes = ["motion"]\n', ("base",), ["turn x", "turn y"]),
    ('takes = ["PointerRight"]\n', ("base",), ["PointerRight"]),
    # What nothing is bound to passes: motion as it came, keys by a virtual one.
    ('unbound = "pass"\n', ("base",), ["PointerLeft", "PointerRight", "ButtonSide"]),
    ('unbound = "pass"\n', ("base", "aim"), ["PointerLeft", "PointerRight", "ButtonSide", "turn x", "turn y"]),
])
def test_what_is_taken(fields: str, stack: tuple[str, ...], taken: list[str]) -> None:
    found, problems = surface(fields)
    assert not problems
    now = found.taken_now(stack)
    assert [name for name in EVERYTHING if now(find_signal(name))] == taken
    if found.shares is not None:
        # Always is less than now, and ever more.
        assert all(found.shares.ever(find_signal(name)) for name in taken)
        assert all(name in taken for name in EVERYTHING if found.shares.always(find_signal(name)))


@pytest.mark.parametrize(("fields", "points"), [
    ("", True), ('takes = ["back"]\n', False), ('takes = ["back", "motion while aim"]\n', False),
    ('takes = ["motion"]\n', True), ('takes = ["left"]\n', True), ('unbound = "pass"\n', False),
    ('takes = ["keys"]\n', False), ('takes = ["no such"]\n', False)])
def test_when_it_is_a_way_in_that_is_taken(fields: str, points: bool) -> None:
    assert surface(fields)[0].takes_pointing == points


def test_parts_that_are_none_are_told_and_never_become_the_whole_device() -> None:
    found, problems = surface('takes = ["bakc", "motion while aim-high"]\n')
    assert [(problem.what, problem.hint.partition("?")[0]) for problem in problems] == [
        ("this device has no part “bakc”", "Did you mean back"),
        ("there is no layer “aim-high” here", problems[1].hint.partition("?")[0])]
    assert not any(found.taken_now(("base", "aim"))(find_signal(name)) for name in EVERYTHING)


@pytest.mark.parametrize(("facts", "offered"), [
    (DeviceFacts("a", "Mouse", codes=(0x110, 0x111, 0x113, 0x114), rels=(0, 1, 8), points=True),
     [("ButtonSide", "ButtonExtra"), ()]),
    (DeviceFacts("a", "Receiver", codes=(30, 0x110), rels=(0, 1, 8), points=True, full=True),
     [("keys",), ("buttons", "motion", "wheel"), ()]),
    (DeviceFacts("a", "Pad with a dial", codes=(30, 31), rels=(7,)), [(), ("dials",), ("keys",)]),
    (DeviceFacts("a", "Pad", codes=(30, 31)), []), (DeviceFacts("a", "Dial", rels=(7,)), [])])
def test_what_may_be_wanted_of_a_device(facts: DeviceFacts, offered: list[tuple[str, ...]]) -> None:
    assert [parts for _, parts in facts.parts] == offered
