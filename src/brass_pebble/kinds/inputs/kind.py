"""What a kind of input offers: it lists what is there, opens one, listens to one, and tells when something changes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.parts import Shares

from .base import Input
from .listening import Heard


class Ear(Protocol):
    """A device that is heard without being taken over."""

    facts: DeviceFacts

    def filenos(self) -> Sequence[int]:
        """File descriptors to wait for."""

    def read(self, fileno: int) -> Sequence[Heard]:
        """What has arrived.  Raises: DeviceGone."""

    def close(self) -> None:
        """Stop listening.  It may wait for the kernel."""


class Watch(Protocol):
    """A descriptor that is ready when devices come or go."""

    fileno: int

    def read(self) -> bool:
        """Whether anything has changed."""

    def close(self) -> None:
        """Stop watching."""


class InputKind:
    """What is true of most kinds; a kind changes what is otherwise with it.

    `name` is what its devices' facts say.  `of_machine` kinds are left alone by an engine that has the bench only.
    Where one that is started again is there twice for a moment, two at once are no twins: `has_twins` is false.
    What a kind sends `by_messages` no program gets as keys: nobody types on it, and nothing has to be held back; what
    `plays_notes` sends MIDI.
    `simulated` devices are pressed from the screen.  Those that go `silently` are only missing from the list then.
    What is not to be listened to `unasked` is only heard when it was chosen by name: a microphone.
    """

    name = ""
    of_machine = True
    has_twins = True
    by_messages = False
    plays_notes = False
    simulated = False
    goes_silently = False
    listens_unasked = True

    @property
    def takes_from_programs(self) -> bool:
        """Whether programs get what it sends as long as it is not taken over."""
        return not (self.by_messages or self.simulated)

    def present(self) -> list[DeviceFacts]:
        """Those that are here.  Not for the loop."""
        return []

    def open(self, facts: DeviceFacts, parts: Sequence[DeviceFacts], shares: Shares | None) -> Input:
        """Take one over, with the other devices of the same thing (`parts`, itself first).

        Raises:
            InputError: it cannot be taken over; the text says why and what to do.
        """
        raise NotImplementedError

    def listen(self, facts: DeviceFacts, *, motion: bool) -> Ear | None:
        """Hear one without taking it over; None if nothing can be heard so.  Not for the loop.

        Raises:
            InputError: it cannot be opened.
        """
        return None

    def watches(self) -> list[Watch]:
        """What tells when some come or go.  Raises: OSError."""
        return []
