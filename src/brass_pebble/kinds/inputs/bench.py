"""Simulated devices: for the demo, for tests, and for trying a desk without the hardware."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from brass_pebble import file_access
from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.layout import EMPTY, Layout
from brass_pebble.core.devices.parts import Shares
from brass_pebble.core.say.limits import load_tables
from brass_pebble.core.signals.keys import key_table
from brass_pebble.core.signals.signal import find_signal

from .base import Input, KeyEvent, RestsByItself
from .kind import InputKind


class BenchInput(RestsByItself):
    """A device that is pressed by messages instead of fingers."""

    def __init__(self, facts: DeviceFacts) -> None:
        self.facts = facts
        self.lamps: dict[str, bool] = {}
        # What was sent back last, for those who look at it.
        self.lit: deque[bytes] = deque(maxlen=512)
        self.rumbled: deque[tuple[float, int]] = deque(maxlen=64)

    def filenos(self) -> Sequence[int]:
        return ()

    def node(self, fileno: int) -> str:
        return ""

    def read(self, fileno: int) -> Sequence[KeyEvent]:
        return ()

    def expect(self, wanted: frozenset[int], *, never_lets_go: bool) -> None:
        """Whatever is pressed on the bench is known to be there."""

    def ranges(self) -> dict[int, tuple[int, int]]:
        return {}

    def light(self, message: bytes) -> None:
        self.lit.append(message)

    def rumble(self, strength: float, ms: int) -> bool:
        self.rumbled.append((strength, ms))
        return True

    def show_lamps(self, lamps: dict[str, bool]) -> None:
        self.lamps = {name: lit for name, lit in lamps.items() if name in self.facts.lamps}

    def close(self) -> None:
        self.lamps = {}


@dataclass
class Bench:
    """The simulated devices: as they look, and which are plugged in."""

    devices: dict[str, DeviceFacts] = field(default_factory=dict)
    shapes: dict[str, Layout] = field(default_factory=dict)
    doubled: dict[str, dict[int, int]] = field(default_factory=dict)
    pulled: set[str] = field(default_factory=set)

    def present(self) -> list[DeviceFacts]:
        """What is plugged in."""
        return [facts for name, facts in self.devices.items() if name not in self.pulled]

    def plug(self, device: str, *, there: bool, port: str = "") -> None:
        """Pull a device out, or plug it in, in another port if one is named."""
        (self.pulled.discard if there else self.pulled.add)(device)
        if port:
            self.devices[device] = replace(self.devices[device], port=port)


def read_bench(file: Path, layouts: Callable[[str], Layout | None]) -> Bench:
    """The devices of a bench file: `[[device]]` with id, name, bus, port, vendor, product, serial, lamps, full, points
    and rels (EV_REL codes).

    What a device looks like and sends is told by `layout` and `keys` (control = "key"), as in a desk; `twice` names
    keys that come along with others (key = "key that comes, too").
    """
    data = load_tables(file_access.read_text(file))
    bench, table = Bench(), key_table()
    known_shapes: dict[str, Layout] = {}
    for row in data.get("device", []):
        name = row.get("layout", "")
        if name not in known_shapes:
            known_shapes[name] = (layouts(name) if name else None) or EMPTY
        shape = known_shapes[name]
        shape = shape.with_keys({name: find_signal(key) for name, key in row.get("keys", {}).items()})
        twice = {table.find(key).code: table.find(other).code for key, other in row.get("twice", {}).items()}
        signals = {signal for c in shape.controls for signal in (c.code, *c.moves)} | set(twice.values())
        codes = tuple(sorted(signals))
        known = {name: row[name] for name in ("vendor", "product", "serial", "port", "full", "points")
                 if name in row}
        bench.devices[row["id"]] = DeviceFacts(
            id=row["id"], name=row["name"], bus=row.get("bus", "bench"), codes=codes, kind="bench",
            lamps=tuple(row.get("lamps", ())), rels=tuple(row.get("rels", ())), **known)
        bench.shapes[row["id"]] = shape
        bench.doubled[row["id"]] = twice
    return bench


class BenchKind(InputKind):
    """Devices of the bench."""

    name = "bench"
    of_machine = False
    simulated = True

    def __init__(self, bench: Bench) -> None:
        self._bench = bench

    def present(self) -> list[DeviceFacts]:
        return self._bench.present()

    def open(self, facts: DeviceFacts, parts: Sequence[DeviceFacts], shares: Shares | None) -> Input:
        return BenchInput(facts)
