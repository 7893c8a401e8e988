"""Simulated devices: for the demo, for tests, and for trying a desk without the hardware."""

from __future__ import annotations

import tomllib
from collections.abc import Sequence
from pathlib import Path

from brass_pebble.core.identity import DeviceFacts

from .base import KeyEvent


class BenchInput:
    """A device that is pressed by messages instead of fingers."""

    def __init__(self, facts: DeviceFacts) -> None:
        self.facts = facts
        self._resting = False

    def filenos(self) -> Sequence[int]:
        return ()

    def read(self, fileno: int) -> Sequence[KeyEvent]:
        return ()

    def state(self) -> str:
        return "resting" if self._resting else "taken"

    def rest(self) -> None:
        self._resting = True

    def wake(self) -> None:
        self._resting = False

    def close(self) -> None:
        """Nothing to give back."""


def read_bench(file: Path) -> list[DeviceFacts]:
    """The devices of a bench file: `[[device]]` with id, name, bus, port, vendor, product, keys."""
    with file.open("rb") as stream:
        data = tomllib.load(stream)
    return [DeviceFacts(id=row["id"], name=row["name"], bus=row.get("bus", "bench"), vendor=row.get("vendor", ""),
                        product=row.get("product", ""), serial=row.get("serial", ""), port=row.get("port", ""),
                        nodes=(), keys=row.get("keys", 0), kind="bench", note=row.get("note", ""))
            for row in data.get("device", [])]
