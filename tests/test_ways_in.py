"""What is never taken from somebody who has only that: the last keyboard and the last pointer, however they come."""

from __future__ import annotations

from dataclasses import dataclass, field
from types import SimpleNamespace
from typing import Any, cast

import pytest

from brass_pebble.core.desk.model import Surface
from brass_pebble.core.devices.identity import DeviceFacts, DeviceRule
from brass_pebble.engine.devices.memory import Memory
from brass_pebble.engine.devices.ways_in import COMES_TOGETHER, WaysIn

RULE = DeviceRule((("name", "Harbour keyboard"),))
SPARE = DeviceFacts("/dev/input/event4", "Harbour keyboard", "USB", "4842", "0001", port="usb-a", full=True)
MOUSE = DeviceFacts("/dev/input/event5", "Petrel mouse", "USB", "7e42", "0002", port="usb-m", points=True)
KEYS = Surface("keys", "Keys", rule=RULE)
OTHERS = {
    "another keyboard": DeviceFacts("/dev/input/event6", "Tern keyboard", "USB", "7e42", "0009", port="usb-b",
                                    full=True),
    "a program's": DeviceFacts("/dev/input/event7", "Some program", "virtual", "0001", "0001", full=True),
    "a mouse that types": DeviceFacts("/dev/input/event8", "Gannet mouse", "USB", "7e42", "0007", port="usb-c",
                                      full=True, points=True),
    "a simulated one": DeviceFacts("bench/keyboard", "Harbour keyboard", "USB", kind="bench", full=True),
}


@dataclass
class Room:
    """The devices that are here, what time it is, and what the rule says of them."""

    here: list[DeviceFacts]
    time: int = 1
    memory: Memory = field(default_factory=Memory)

    def __post_init__(self) -> None:
        ports = SimpleNamespace(now=lambda: self.time, desk=SimpleNamespace(surfaces={"keys": KEYS}),
                                alarms=SimpleNamespace(at=lambda *_: None, cancel=lambda *_: None))
        self.ways = WaysIn(cast(Any, ports), cast(Any, self))

    def owner(self, device: str) -> str:
        return ""

    def kind_of(self, facts: DeviceFacts) -> object:
        return SimpleNamespace(simulated=facts.kind == "bench")

    def says(self, facts: DeviceFacts = SPARE) -> str:
        return self.ways.refusal(KEYS, facts)


@pytest.mark.parametrize("other", OTHERS)
def test_a_keyboard_is_taken_only_beside_one_that_surely_can_be_typed_on(other: str) -> None:
    refused = Room([SPARE, OTHERS[other]]).says()
    assert (not refused) == (other == "another keyboard")
    if refused:
        assert "only full keyboard here" in refused and "brass-pebble wake" in refused


def test_what_is_marked_counts_whatever_it_is() -> None:
    room = Room([SPARE, OTHERS["a mouse that types"]])
    room.memory.main = OTHERS["a mouse that types"].rule()
    assert room.says() == ""
    room.memory.main = SPARE.rule()
    assert "main keyboard" in room.says()


@pytest.mark.parametrize(("facts", "more"), [(SPARE, OTHERS["another keyboard"]),
                                             (MOUSE, DeviceFacts("/dev/input/event9", "Ball", "USB", points=True))])
def test_plugging_in_never_turns_a_refusal_into_a_taking(facts: DeviceFacts, more: DeviceFacts) -> None:
    room = Room([facts])
    assert room.says(facts)
    # What comes with it, as after sleep, is no new thing.
    room.here, room.time = [facts, more], room.time + COMES_TOGETHER
    assert room.says(facts) == ""
    room.here = [facts]
    assert room.says(facts)
    room.here, room.time = [facts, more], room.time + COMES_TOGETHER + 1
    assert "plugged in since" in room.says(facts)
    # A trial is a deliberate act, and so is marking the other one.
    room.ways.try_out("keys", 10, lambda now: None)
    assert room.says(facts) == ""
    room.ways.end_trial("keys")
    assert "plugged in since" in room.says(facts)
    # Somebody keeps it.
    other = Room([facts])
    assert other.says(facts)
    other.here, other.time = [facts, more], other.time + COMES_TOGETHER + 1
    other.ways.try_out("keys", 10, lambda now: None)
    other.ways.keep("keys")
    assert other.says(facts) == ""
    room.memory.main = more.rule()
    assert (room.says(facts) == "") == facts.full


def test_a_keyboard_that_somebody_types_on_is_left_alone_until_it_is_pulled_out() -> None:
    other = OTHERS["another keyboard"]
    room = Room([SPARE, other])
    assert room.says() == ""
    assert room.ways.was_typed_on(SPARE) and not room.ways.was_typed_on(SPARE)
    assert "types on" in room.says() and room.ways.askable((SPARE, other)) == (other,)
    assert room.ways.is_last_keyboard(SPARE, Surface("", "")) and room.ways.needs_trial(SPARE, Surface("", ""))
    room.ways.forget_absent([other])
    assert room.says() == "" and room.ways.askable((SPARE,)) == (SPARE,)
