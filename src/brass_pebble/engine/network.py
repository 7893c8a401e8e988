"""Devices that are reached over the network: MIDI sessions and OSC."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from brass_pebble.core.identity import DeviceFacts
from brass_pebble.inputs.base import Input, InputError

if TYPE_CHECKING:
    from .engine import Engine


class Network:
    """What is connected over the network."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine

    def follow(self) -> None:
        """Open and close what the desk wants."""

    def present(self) -> list[DeviceFacts]:
        """The devices that are connected."""
        return []

    def open(self, facts: DeviceFacts) -> Input:
        """The input of a connected device."""
        raise InputError(f"“{facts.shown}” is not connected")

    def session(self, name: str) -> Any:
        """The session called `name`, or None."""
        return None

    def close(self) -> None:
        """End everything."""
