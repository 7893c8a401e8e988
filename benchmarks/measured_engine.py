"""A real engine whose surface “pipe” reads input records from a descriptor, and whose output writes to another.

Everything between the two is the product's own: its loop, its input's reader, router, player, records, traces, server.
With --record, the time of every step against its plan is written to a file at the end.
"""

from __future__ import annotations

import argparse
import gc
import json
import os
import sys
import time
from array import array
from collections.abc import Sequence
from pathlib import Path

from brass_pebble import paths
from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.play.player import Effect
from brass_pebble.engine.assemble import assemble
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.engine.main import _end_on_signals, _raise_priority
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.inputs.base import Abilities, KeyEvent
from brass_pebble.kinds.inputs.bench import Bench, read_bench
from brass_pebble.kinds.inputs.evdev import KeyStream
from brass_pebble.kinds.outputs.uinput import RecordOutput


class PipeInput(Abilities):
    """Input records from a descriptor, through the reader that event nodes use."""

    def __init__(self, fileno: int) -> None:
        self.facts = DeviceFacts(id="pipe", name="Pipe")
        self._stream = KeyStream(fileno)

    def filenos(self) -> Sequence[int]:
        return [self._stream.fileno]

    def read(self, fileno: int) -> Sequence[KeyEvent]:
        return self._stream.read()

    def expect(self, wanted: frozenset[int], *, never_lets_go: bool) -> None:
        """It sends keys only."""

    def ranges(self) -> dict[int, tuple[int, int]]:
        return {}

    def node(self, fileno: int) -> str:
        return ""

    def state(self) -> str:
        return "taken"

    def close(self) -> None:
        """The descriptor is the measurer's."""


class TimedOutput(RecordOutput):
    """Notes for every effect of the watched key how long after its plan it had been written."""

    def __init__(self, fileno: int, watched: int) -> None:
        super().__init__(fileno)
        self.watched = watched
        self.late = array("q")
        # Every effect, where the whole order is looked at.
        self.all: list[tuple[int, int, int, int]] | None = None

    def press(self, codes: tuple[int, ...]) -> bool:
        # The watched key is timed only in `send`.
        return self.watched not in codes and super().press(codes)

    def send(self, effects: list[Effect], now: int) -> None:
        super().send(effects, now)
        written = time.monotonic_ns()
        for code, value, planned, run in effects:
            if code == self.watched:
                self.late.append(written - planned)
            if self.all is not None:
                self.all.append((run.id, code * 2 + value, planned, written - planned))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--desk", type=Path, required=True)
    parser.add_argument("--source", type=int, default=-1)
    parser.add_argument("--target", type=int, default=-1)
    parser.add_argument("--record", type=Path)
    parser.add_argument("--record-all", type=Path)
    parser.add_argument("--bench", type=Path)
    parser.add_argument("--real-time", action="store_true")
    options = parser.parse_args()
    target = options.target if options.target >= 0 else os.open(os.devnull, os.O_WRONLY)
    output = TimedOutput(target, 183)  # F13
    store = DeskStore(options.desk, paths.state_folder() / "versions" / paths.desk_key(options.desk))
    store.lock()
    if options.record_all:
        output.all = []
    bench = Bench()
    if options.bench:
        bench = read_bench(options.bench, store.layout)
    engine = assemble(Setup(store, paths.socket_path(options.desk), lambda desk: output, bench, real_devices=False))
    if options.source >= 0:
        engine.path.listen_to("pipe", PipeInput(options.source))
    _end_on_signals(engine)
    if options.real_time:
        _raise_priority()
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)
    sys.setswitchinterval(0.0005)
    print(json.dumps({"socket": str(paths.socket_path(options.desk))}), flush=True)
    engine.run()
    if options.record:
        options.record.write_text(json.dumps(list(output.late)))
    if options.record_all:
        options.record_all.write_text(json.dumps(output.all))


if __name__ == "__main__":
    main()
