"""The reader of input records: repeats, overruns, and the end."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterable

import pytest

from brass_pebble.kinds.inputs import evdev as evdev_input
from brass_pebble.kinds.inputs.base import DeviceGone
from brass_pebble.kinds.inputs.evdev import KeyStream
from brass_pebble.kinds.kernel.node import EVENT

REPORT, DROPPED = (0, 0, 0), (0, 3, 0)


class Stream(KeyStream):
    """A stream whose device says what is down."""

    says: tuple[int, ...] = ()

    def held_now(self) -> Iterable[int]:
        return self.says


@pytest.fixture
def pipe() -> Iterable[tuple[Stream, int]]:
    source, target = os.pipe()
    os.set_blocking(source, False)
    yield Stream(source), target
    os.close(source)


def put(target: int, *records: tuple[int, int, int], second: int = 7) -> None:
    os.write(target, b"".join(EVENT.pack(second, 500, *record) for record in records))


def test_keys_with_their_times_and_without_repeats(pipe: tuple[Stream, int]) -> None:
    stream, target = pipe
    put(target, (4, 4, 458756), (1, 30, 1), REPORT, (1, 30, 2), REPORT, (1, 30, 0), REPORT)
    assert stream.read() == [(30, 1, 7_000_500_000), (30, 0, 7_000_500_000)]
    assert stream.read() == []
    os.close(target)


def test_an_overrun_is_made_good_by_asking_the_device(pipe: tuple[Stream, int]) -> None:
    stream, target = pipe
    put(target, (1, 30, 1), REPORT, (1, 31, 1), REPORT)
    stream.read()
    # A was let go, and C pressed, in what was lost; of the rest of the broken report nothing is believed.
    stream.says = (31, 46)
    put(target, DROPPED, (1, 99, 1), REPORT, (1, 31, 0), REPORT)
    events = [(code, value) for code, value, _ in stream.read()]
    assert events == [(30, 0), (46, 1), (31, 0)]
    assert stream.down == {46}
    os.close(target)


def test_a_flood_is_read_in_order(pipe: tuple[Stream, int]) -> None:
    stream, target = pipe
    for code in range(1, 200):
        put(target, (1, code, 1), REPORT, (1, code, 0), REPORT)
    found = []
    while batch := stream.read():
        found += [(code, value) for code, value, _ in batch]
    assert found == [(code, value) for code in range(1, 200) for value in (1, 0)]
    os.close(target)


def test_the_end_is_told(pipe: tuple[Stream, int]) -> None:
    stream, target = pipe
    os.close(target)
    with pytest.raises(DeviceGone):
        stream.read()


class FakeNode:
    """A mouse as the kernel keeps it: asking what is down takes the key events away that wait to be read."""

    def __init__(self, source: int) -> None:
        self.fileno, self.path, self.name = source, "/dev/input/event0", "Mouse"
        self.down: set[int] = set()
        self.asked = 0

    def has(self, kind: int) -> set[int]:
        return {0x01: {0x111, 0x113}, 0x02: {0, 1}}.get(kind, set())

    def held(self) -> set[int]:
        self.asked += 1
        with contextlib.suppress(BlockingIOError):
            os.read(self.fileno, 4096)
        return set(self.down)


class FakePassage:
    """What is passed on: right away, somebody lets go of what went down."""

    def __init__(self, react: Callable[[], None]) -> None:
        self.fileno, self._out = os.pipe()[::-1]
        self.down: set[int] = set()
        self._react = react

    def tell(self, events: Iterable[tuple[int, int, int]]) -> None:
        for _, code, value in list(events):
            (self.down.add if value else self.down.discard)(code)
        self._react()

    def write(self, records: bytes) -> None:
        os.write(self.fileno, records)

    def passed(self) -> list[tuple[int, int]]:
        return [(code, value) for _, _, kind, code, value in EVENT.iter_unpack(os.read(self._out, 4096)) if kind == 1]


def test_a_release_right_after_an_overrun_is_not_lost(monkeypatch: pytest.MonkeyPatch) -> None:
    source, target = os.pipe()
    os.set_blocking(source, False)
    kernel = FakeNode(source)
    monkeypatch.setattr(evdev_input, "EventNode", lambda path: kernel)
    node = evdev_input._Node("")
    # The side button is taken, the right one passes; it was pressed while nobody could read.
    kernel.down = {0x111}

    def let_go() -> None:
        kernel.down.clear()
        put(target, (1, 0x111, 0), REPORT)
    passage = FakePassage(let_go)
    node.passage, node.passing = passage, True  # type: ignore[assignment]
    node.set_taken(lambda signal: signal == 0x113)
    put(target, DROPPED, (2, 0, 1), REPORT)
    assert node.read() == []
    assert passage.down == {0x111} and kernel.asked == 1
    assert node.read() == [] and passage.passed() == [(0x111, 0)]
    assert passage.down == set() == node.down
