"""What an input offers to the engine."""

from __future__ import annotations

import errno
from collections.abc import Callable, Sequence
from typing import Protocol, TypeVar, runtime_checkable

from brass_pebble.core.devices.identity import DeviceFacts

# An event: signal (core/signals/signal.py), 1 down or 0 up (for what is struck its strength, for what moves a raw
# position or a turn), arrival in ns of CLOCK_MONOTONIC.
KeyEvent = tuple[int, int, int]


class DeviceGone(Exception):
    """The device was pulled out; `told` is what a person is to know of it, if there is more to know."""

    def __init__(self, why: str, told: str = "") -> None:
        super().__init__(why)
        self.told = told


class InputError(Exception):
    """A device cannot be taken over; the text says why and what to do."""


Ability = TypeVar("Ability")


@runtime_checkable
class HasLights(Protocol):
    """Pads that can be lit by MIDI messages."""

    def light(self, message: bytes) -> None:
        """Send a message back to the device; one that only sends does not hear it."""


@runtime_checkable
class Rumbles(Protocol):
    """A device that may shake."""

    def rumble(self, strength: float, ms: int) -> bool:
        """Shake for a while, 0 to 1; false if it cannot."""


@runtime_checkable
class HasLamps(Protocol):
    """Keyboard lamps: num, caps, scroll."""

    def show_lamps(self, lamps: dict[str, bool]) -> None:
        """Light the device's own lamps, as far as it has them; given back they are as before."""


class Abilities:
    """What an input can do beside being read is asked for by name: `ability(Rumbles)` is itself, or None."""

    def ability(self, wanted: type[Ability]) -> Ability | None:
        """This input as something that has the ability, if it has it."""
        return self if isinstance(self, wanted) else None


class RestsByItself(Abilities):
    """For inputs that nothing has to be given back of: whether they rest is only remembered."""

    _resting = False

    def share(self, taken: Callable[[int], bool]) -> None:
        """It is taken whole."""

    def state(self) -> str:
        """"taken" or "resting"."""
        return "resting" if self._resting else "taken"

    def rest(self) -> None:
        """What it sends commands nothing from now on."""
        self._resting = True

    def wake(self) -> None:
        """It acts again."""
        self._resting = False


class Input(Protocol):
    """A device that has been taken over."""

    facts: DeviceFacts

    def filenos(self) -> Sequence[int]:
        """File descriptors to wait for; none for an input that is fed by hand."""

    def node(self, fileno: int) -> str:
        """The short name of what a descriptor reads; empty where there is none."""

    def read(self, fileno: int) -> Sequence[KeyEvent]:
        """What has arrived.

        Raises:
            DeviceGone: there will be no more.
        """

    def expect(self, wanted: frozenset[int], *, never_lets_go: bool) -> None:
        """Which signals the surface's controls have; with `never_lets_go` each note is let go at once."""

    def share(self, taken: Callable[[int], bool]) -> None:
        """Which signals are taken from now on; the others go on as they came, where only a part was taken over."""

    def ranges(self) -> dict[int, tuple[int, int]]:
        """The lowest and highest raw value of its axes, by signal, as far as it tells them."""

    def ability(self, wanted: type[Ability]) -> Ability | None:
        """This input as something that has the ability, if it has it."""

    def state(self) -> str:
        """"taken", "waiting" until its keys have been let go, or "resting"."""

    def rest(self) -> None:
        """Let its events go where they went before it was taken over; they can still be read here."""

    def wake(self) -> None:
        """Take it over again.

        Raises:
            InputError: somebody else has it now.
        """

    def close(self) -> None:
        """Give the device back."""

def explain(error: OSError, facts: DeviceFacts) -> str:
    """Why a device cannot be opened, and what to do."""
    if error.errno in (errno.EACCES, errno.EPERM):
        return (f"“{facts.shown}” may not be read by you ({', '.join(facts.nodes)}). Add yourself to the group "
                "“input” with: sudo usermod -aG input $USER, then log in again")
    if error.errno == errno.EBUSY:
        return (f"“{facts.shown}” is already taken over by another program. Close that program, or stop the other "
                "engine with: brass-pebble stop --quit")
    if error.errno in (errno.ENODEV, errno.ENOENT, errno.ENXIO):
        return f"“{facts.shown}” was pulled out while it was being opened. Plug it in again"
    return f"“{facts.shown}” cannot be taken over: {error.strerror}. See the log for more"
