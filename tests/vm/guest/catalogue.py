"""The devices of the tests, each a file in `devices/`: its facts, its report descriptor or its event nodes.

A device with a `descriptor` is made through uhid, so that the kernel's own driver makes its nodes of it; one with
`nodes` is made through uinput.  `controls` are what can be pressed: the kernel's code for it, and for a descriptor the
usage (page:usage of the HID Usage Tables) that reports it.  `turns` are what is moved by counts, in the same way.
"""

from __future__ import annotations

import os
import struct
import time
import tomllib
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

import evdev

FOLDER = Path(__file__).parent / "devices"
_DESTROY, _CREATE2, _INPUT2 = 1, 11, 12
_BUS_USB = 3
CODES = evdev.ecodes.ecodes


# Items of a report descriptor, by their first byte without the size.
_INPUT, _USAGE, _LOW = 0x80, 0x08, 0x14
_GLOBAL = {0x04: "page", _LOW: "low", 0x74: "size", 0x84: "report", 0x94: "count"}
_SPAN = {0x18: "from", 0x28: "to"}
# Input, Output, Feature, Collection, End Collection: what is local ends with them.
_MAIN = (_INPUT, 0x90, 0xB0, 0xA0, 0xC0)


@dataclass(frozen=True)
class Field:
    """A field of a report: where its bits are, and what it reports."""

    report: int
    at: int
    size: int
    usages: tuple[int, ...]
    array: bool
    low: int


def fields_of(descriptor: bytes) -> list[Field]:
    """The input fields of a report descriptor (Device Class Definition for HID 1.11, chapter 6.2.2)."""
    found: list[Field] = []
    state: dict[str, int] = {"page": 0, "report": 0, "size": 0, "count": 0, "low": 0}
    local: list[int] = []
    span: dict[str, int] = {}
    used: dict[int, int] = {}
    at = 0
    while at < len(descriptor):
        head = descriptor[at]
        size = (0, 1, 2, 4)[head & 3]
        raw = descriptor[at + 1:at + 1 + size]
        value, signed = int.from_bytes(raw, "little"), int.from_bytes(raw, "little", signed=True)
        at += 1 + size
        kind = head & 0xFC
        if kind in _GLOBAL:
            state[_GLOBAL[kind]] = signed if kind == _LOW else value
        elif kind == _USAGE:
            local.append(state["page"] << 16 | value if size < 4 else value)
        elif kind in _SPAN:
            span[_SPAN[kind]] = state["page"] << 16 | value
        elif kind == _INPUT:
            start = used.get(state["report"], 0)
            usages = tuple(local) or tuple(range(span.get("from", 0), span.get("to", -1) + 1))
            if not value & 1:
                array = not value & 2
                for index in range(state["count"]):
                    own = usages if array else usages[min(index, len(usages) - 1):][:1]
                    found.append(Field(state["report"], start + index * state["size"], state["size"], own, array,
                                       state["low"]))
            used[state["report"]] = start + state["size"] * state["count"]
        if kind in _MAIN:
            local, span = [], {}
    return found


@dataclass
class Model:
    """A device file as read."""

    id: str
    data: dict[str, Any]

    @property
    def name(self) -> bytes:
        """What it calls itself, in bytes."""
        return bytes.fromhex(self.data["name_hex"]) if "name_hex" in self.data else str(self.data["name"]).encode()

    @property
    def features(self) -> set[str]:
        """What tests ask for: what is pressed, turned, shared, odd."""
        return set(self.data.get("features", ())) | {key for key in ("controls", "turns") if self.data.get(key)}

    @property
    def codes(self) -> dict[str, int]:
        """The kernel's codes of its controls, by their names."""
        return {name: CODES[name] for name in self.data.get("controls", {})}

    def make(self, port: str = "") -> Made:
        """Plug one in."""
        return Made(self, port or self.data.get("port", f"usb-catalogue-{self.id}"))


def models(*features: str) -> list[Model]:
    """Every device that has all these features."""
    found = [Model(file.stem, tomllib.loads(file.read_text())) for file in sorted(FOLDER.glob("*.toml"))]
    return [model for model in found if set(features) <= model.features]


def model(name: str) -> Model:
    """One of them."""
    return next(found for found in models() if found.id == name)


@dataclass
class Made:
    """A device that is plugged in."""

    model: Model
    port: str
    nodes: list[str] = field(default_factory=list)
    _down: set[str] = field(default_factory=set)
    _uhid: int = -1
    _uinput: list[evdev.UInput] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.plug_in()

    def plug_in(self) -> None:
        """Plug it in (again)."""
        data = self.model.data
        if "descriptor" in data:
            descriptor = bytes.fromhex("".join(data["descriptor"].split()))
            self._uhid = os.open("/dev/uhid", os.O_RDWR | os.O_CLOEXEC)
            os.write(self._uhid, struct.pack(
                "<I128s64s64sHHIIII4096s", _CREATE2, self.model.name[:127], f"{self.port}/input0".encode(), b"",
                len(descriptor), _BUS_USB, data["vendor"], data["product"], 0, 0, descriptor))
        for index, node in enumerate(data.get("nodes", [])):
            if node.get("after"):
                continue
            self._make_node(index, node)
        self.wait()

    def _make_node(self, index: int, node: dict[str, Any]) -> None:
        events: dict[int, Any] = {}
        for name in node["events"]:
            kind = {"KEY": 1, "BTN": 1, "REL": 2, "ABS": 3, "MSC": 4, "LED": 17}[name[:3]]
            code = CODES[name]
            if kind == 3:
                low, high = node.get("range", [-512, 511])
                events.setdefault(3, []).append((code, evdev.AbsInfo(0, low, high, 0, 0, 0)))
            else:
                events.setdefault(kind, []).append(code)
        self._uinput.append(evdev.UInput(
            events, name=self.model.name.decode() + node.get("suffix", ""), vendor=self.model.data["vendor"],
            product=self.model.data["product"], version=1, bustype=_BUS_USB, phys=f"{self.port}/input{index}",
            input_props=[CODES[name] for name in node.get("properties", [])]))

    def add_late_nodes(self) -> None:
        """The nodes that come a while after the others."""
        for index, node in enumerate(self.model.data.get("nodes", [])):
            if node.get("after"):
                self._make_node(index, node)
        self.wait(len(self._uinput))

    def wait(self, count: int = 0) -> None:
        """Wait until its nodes are there."""
        count = count or self.model.data.get("count", len(self._uinput) or 1)
        end = time.monotonic() + 20
        while len(self.nodes) < count:
            assert time.monotonic() < end, f"{self.model.id}: {self.nodes}"
            self.nodes = [f"/dev/input/{entry.name}" for entry in
                          sorted(Path("/sys/class/input").glob("event*"), key=lambda p: int(p.name[5:]))
                          if _phys(entry).startswith(f"{self.port}/input") and Path("/dev/input", entry.name).exists()]
            time.sleep(0.01)

    def press(self, control: str) -> None:
        """Press a control, by the kernel's name for it."""
        self._down.add(control)
        self._report(control, 1)

    def release(self, control: str) -> None:
        """Let it go."""
        self._down.discard(control)
        self._report(control, 0)

    def tap(self, control: str, seconds: float = 0.02) -> None:
        """Press it for a moment."""
        self.press(control)
        time.sleep(seconds)
        self.release(control)

    def turn(self, **counts: int) -> None:
        """Turn or move by counts, all in one report: `turn(REL_X=3, REL_Y=-1)`."""
        if self._uhid >= 0:
            self._send({self.model.data["turns"][name]: value for name, value in counts.items()})
            return
        device = self._having(next(iter(counts)))
        for name, value in counts.items():
            device.write(3 if name.startswith("ABS") else 2, CODES[name], value)
        device.syn()

    def write(self, *events: tuple[str, int]) -> None:
        """Any events as one report, for devices that are made of nodes."""
        device = self._having(events[0][0])
        for name, value in events:
            device.write({"KEY": 1, "BTN": 1, "REL": 2, "ABS": 3, "MSC": 4}[name[:3]], CODES[name], value)
        device.syn()

    def _having(self, name: str) -> evdev.UInput:
        index = next(index for index, node in enumerate(self.model.data["nodes"]) if name in node["events"])
        return self._uinput[index]

    def _report(self, control: str, value: int) -> None:
        if self._uhid < 0:
            device = self._having(control)
            device.write(1, CODES[control], value)
            device.syn()
            return
        usages = self.model.data["controls"]
        self._send({usages[name]: 1 for name in self._down},
                   {one.report for one in self._fields if _usage(usages[control]) in one.usages})

    @cached_property
    def _fields(self) -> list[Field]:
        return fields_of(bytes.fromhex("".join(self.model.data["descriptor"].split())))

    def _send(self, values: dict[str, int], reports: set[int] | None = None) -> None:
        """The reports that tell these usages; everything else in them is at rest."""
        wanted = {_usage(text): value for text, value in values.items()}
        if reports is None:
            reports = {one.report for one in self._fields if wanted.keys() & set(one.usages)}
        for report in sorted(reports):
            mine = [one for one in self._fields if one.report == report]
            bits = 0
            told: set[int] = set()
            for one in mine:
                here = [usage for usage in one.usages if usage in wanted and usage not in told]
                if not here:
                    continue
                told.add(here[0])
                value = one.usages.index(here[0]) + one.low if one.array else wanted[here[0]]
                bits |= (value & (1 << one.size) - 1) << one.at
            length = -(-max(one.at + one.size for one in mine) // 8)
            data = (bytes([report]) if report else b"") + bits.to_bytes(length, "little")
            os.write(self._uhid, struct.pack("<IH4096s", _INPUT2, len(data), data))

    def pull_out(self) -> None:
        """Pull it out."""
        if self._uhid >= 0:
            os.write(self._uhid, struct.pack("<I", _DESTROY))
            os.close(self._uhid)
        for device in self._uinput:
            device.close()
        self._uhid, self._uinput, self.nodes, self._down = -1, [], [], set()


def _usage(text: str) -> int:
    page, _, usage = text.partition(":")
    return int(page, 16) << 16 | int(usage, 16)


def _phys(entry: Path) -> str:
    try:
        return (entry / "device/phys").read_bytes().decode(errors="replace").strip()
    except OSError:
        return ""
