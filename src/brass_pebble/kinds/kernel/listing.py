"""The input devices of this machine, read from sysfs; no device is opened for it.

Field meanings: Documentation/input/event-codes and /sys/class/input/event*/device of the kernel; lamps are LED_NUML,
LED_CAPSL and LED_SCROLLL of linux/input-event-codes.h.
"""

from __future__ import annotations

import os
from pathlib import Path

from brass_pebble.core.devices.identity import REL_X, REL_Y, DeviceFacts

from .node import readable

OWN_PHYS = "brass-pebble/"
BUSES = {0x03: "USB", 0x05: "Bluetooth", 0x06: "virtual", 0x10: "ISA", 0x11: "built in", 0x18: "I2C", 0x19: "system",
         0x1C: "SPI"}
LAMP_BITS = ((0, "num"), (1, "caps"), (2, "scroll"))
# INPUT_PROP_ACCELEROMETER; BTN_LEFT; BTN_TOUCH and BTN_TOOL_FINGER
_ACCELEROMETER, _BTN_LEFT, _TOUCHES = 6, 0x110, {0x14A, 0x145}
_FULL_KEYBOARD = (*range(2, 12), *range(16, 26), *range(30, 39), *range(44, 51))


def list_devices(root: Path = Path("/sys/class/input"), nodes: Path = Path("/dev/input")) -> list[DeviceFacts]:
    """Devices that a surface can be made of, each with all its nodes, in the order of their first node.

    That are those with keys, with something that turns, or with axes; sensors of motion and the program's own virtual
    devices are left out.  One that cannot be read is left out, too, and hides no other.
    """
    groups: dict[tuple[str, ...], list[tuple[Path, dict[str, str]]]] = {}
    for entry in sorted(root.glob("event*"), key=lambda p: int(p.name[5:])):
        about = _read_node(entry / "device")
        if about is None or about["phys"].startswith(OWN_PHYS) or _ACCELEROMETER in _bits(about["properties"]):
            continue
        # Interfaces of one device share ids and port; without either, every node stands alone.
        port = about["phys"].split("/input")[0]
        alone = "" if port or about["uniq"] else entry.name
        key: tuple[str, ...] = (about["bus"], about["vendor"], about["product"], about["uniq"], port, alone)
        groups.setdefault(key, []).append((nodes / entry.name, about))
    devices = []
    for key, members in groups.items():
        useful = [(node, about) for node, about in members
                  if any(_bits(about[kind]) for kind in ("key", "rel", "abs"))]
        if not useful:
            continue
        _node, about = next(((node, about) for node, about in useful if _bits(about["key"])), useful[0])
        codes, rels, axes, lamps = ({bit for _, item in members for bit in _bits(item[kind])}
                                    for kind in ("key", "rel", "abs", "led"))
        paths = tuple(str(path) for path, _ in members)
        devices.append(DeviceFacts(
            id=paths[0], name=_common_name([item["name"] for _, item in members]),
            bus=BUSES.get(int(about["bus"], 16), f"bus {about['bus']}"), vendor=about["vendor"],
            product=about["product"], serial=about["uniq"], port=key[4], nodes=paths, codes=tuple(sorted(codes)),
            rels=tuple(sorted(rels)), axes=tuple(sorted(axes)),
            lamps=tuple(name for bit, name in LAMP_BITS if bit in lamps),
            readable=all(os.access(path, os.R_OK | os.W_OK) for path in paths),
            full=codes.issuperset(_FULL_KEYBOARD), points=_points(codes, rels, axes)))
    return devices


def _read_node(device: Path) -> dict[str, str] | None:
    """The node's facts, or None if it vanished while being read."""
    files = {"name": "name", "phys": "phys", "uniq": "uniq", "bus": "id/bustype",
             "vendor": "id/vendor", "product": "id/product", "key": "capabilities/key", "rel": "capabilities/rel",
             "abs": "capabilities/abs", "led": "capabilities/led"}
    try:
        about = {field: readable((device / file).read_bytes()).strip("\n").strip(" ") for field, file in files.items()}
        properties = device / "properties"
        about["properties"] = properties.read_text().strip() if properties.exists() else "0"
        # What a kernel writes here is numbers; what is not stops nobody.
        for field in ("bus", "key", "rel", "abs", "led", "properties"):
            _bits(about[field])
        return about
    except (OSError, ValueError):
        return None


def _points(codes: set[int], rels: set[int], axes: set[int]) -> bool:
    """Whether somebody can point and click with it: a mouse, a trackball, a touchpad, a tablet, a touch screen."""
    return ({REL_X, REL_Y} <= rels and _BTN_LEFT in codes) or ({0, 1} <= axes and bool(codes & _TOUCHES))


def _bits(mask: str) -> set[int]:
    """Numbers of the set bits of a sysfs bit mask: words of 64 bits in hex, the highest first."""
    found: set[int] = set()
    for index, word in enumerate(reversed(mask.split())):
        value = int(word, 16)
        found.update(index * 64 + bit for bit in range(64) if value >> bit & 1)
    return found


def _common_name(names: list[str]) -> str:
    """The words that the names of all nodes begin with, or the shortest name."""
    shared: list[str] = []
    for words in zip(*(name.split() for name in names), strict=False):
        if len(set(words)) > 1:
            break
        shared.append(words[0])
    return " ".join(shared) if len(names) > 1 and shared else min(names, key=len)
