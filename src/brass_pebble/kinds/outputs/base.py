"""What an output offers to the engine."""

from __future__ import annotations

from typing import Protocol

from brass_pebble.core.play.player import Effect
from brass_pebble.core.signals.key_places import Places


class OutputLost(OSError):
    """What is sent does not arrive for now; the text says why, `hint` what happens next."""

    def __init__(self, why: str, hint: str) -> None:
        super().__init__(None, why)
        self.strerror, self.hint = why, hint


class OutputError(Exception):
    """An output cannot be opened; the text says why and what to do."""


class Output(Protocol):
    """A way out to programs."""

    def send(self, effects: list[Effect], now: int) -> None:
        """Send effects, in order, at once.  `now` is the engine's time in ns."""

    def press(self, codes: tuple[int, ...]) -> bool:
        """Send these keys down at once if this output has a quicker way than `send`; else return False."""

    def use(self, places: Places) -> None:
        """The receiving programs have this keyboard layout from now on."""

    def left_down(self) -> list[int]:
        """The keys and buttons that were sent down and not up again, the latest first."""

    def next_deadline(self) -> int | None:
        """When `advance` wants to be called, in ns, or None."""

    def advance(self, now: int) -> None:
        """Do what is due."""

    def close(self) -> None:
        """Release everything and end."""
