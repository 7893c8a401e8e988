"""Which devices an engine has open, and why: told by its own descriptors, so that none is missed."""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import Any

from brass_pebble.core.desk.model import Desk
from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.engine.devices.ownership import Devices

WATCHED = ("/dev/input/", "/dev/uinput", "/dev/snd/", "/dev/hidraw")
ASKED = "asked which modifiers are down and whether Caps Lock is on; no key of it is read"
UNKNOWN = "Unknown cause. Please report it."


def open_devices(desk: Desk, devices: Devices, asked: Iterable[str],
                 listened: Iterable[tuple[Iterable[str], str]],
                 met: Iterable[DeviceFacts] = ()) -> list[dict[str, Any]]:
    """One row for each device node or microphone that is open: the node, the device's name, why, and whether that is
    known.

    `met` are microphones that are no surface yet.
    `asked` are nodes of which only the state is asked, `listened` those that a part listens to, and why.
    """
    reasons: dict[str, tuple[str, str]] = {
        "/dev/uinput": ("virtual devices", "keys are sent by it"),
        "/dev/snd/seq": ("MIDI ports", "the ports that the desk names are read and sent to")}
    for node in asked:
        reasons[node] = "", ASKED
    for who, why in listened:
        for node in who:
            reasons[node] = "", why
    for name, holding in devices.holdings.items():
        for facts in holding.parts if holding.source is not None else ():
            surface = desk.surfaces.get(name)
            for node in facts.nodes:
                reasons[node] = facts.shown, f"it is the surface “{surface.name if surface else name}”"
    names = {node: facts.shown for facts in devices.here for node in facts.nodes}
    microphones = [{"node": facts.port, "device": facts.shown, "why": why, "known": True} for facts, why in (
        *((facts, f"it is the surface “{desk.surfaces[name].name if name in desk.surfaces else name}”")
          for name, holding in devices.holdings.items() if holding.source is not None for facts in holding.parts
          if facts.spoken_to and facts.kind != "bench"),
        *((facts, "it is being met; only how loud it is counts") for facts in met))]
    found = {link for link in _descriptors() if link.startswith(WATCHED)}
    return [{"node": node, "device": reasons.get(node, ("", ""))[0] or names.get(node, ""),
             "why": reasons.get(node, ("", UNKNOWN))[1], "known": node in reasons}
            for node in sorted(found)] + microphones


def _descriptors() -> set[str]:
    links = set()
    for entry in os.scandir("/proc/self/fd"):
        try:
            links.add(os.readlink(entry.path))
        except OSError:
            continue
    return links
