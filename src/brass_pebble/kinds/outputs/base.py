"""What an output offers to the engine."""

from __future__ import annotations

from typing import Protocol, TypeVar, runtime_checkable

from brass_pebble.core.desk.layer_switch import FocusedWindow
from brass_pebble.core.effects.kinds import KEY, MOTION, EffectKind
from brass_pebble.core.play.player import Effect
from brass_pebble.core.signals.key_places import Places
from brass_pebble.core.stage.program import Reaction, StageProgram

# What most outputs take.
POINTING = frozenset((KEY, MOTION))


class OutputLost(OSError):
    """What is sent does not arrive for now; the text says why, `hint` what happens next."""

    def __init__(self, why: str, hint: str) -> None:
        super().__init__(None, why)
        self.strerror, self.hint = why, hint


class OutputError(Exception):
    """An output cannot be opened; the text says why and what to do."""


class Taker(Protocol):
    """Takes effects of some kinds."""

    takes: frozenset[EffectKind]

    def send(self, effects: list[Effect], now: int) -> None:
        """Send effects, in order, at once.  `now` is the engine's time in ns."""

    def close(self) -> None:
        """Release everything and end."""


@runtime_checkable
class HasWindows(Protocol):
    """An output whose own programs are the windows that macros wait for and layers follow."""

    def windows(self) -> list[FocusedWindow]:
        """Those that are there."""

    def focused_window(self) -> FocusedWindow | None:
        """The one that has the focus."""

    def is_there(self, pattern: str, *, focused: bool) -> bool:
        """Whether a window whose title fits is there (and has the focus)."""

    def focus(self, name: str) -> None:
        """Give a program the focus."""


@runtime_checkable
class Reacts(Protocol):
    """An output whose programs tell what they did with what was sent."""

    reactions: list[Reaction]
    changed: bool
    programs: dict[str, StageProgram]
    focused: str


Ability = TypeVar("Ability")


class Abilities:
    """What an output can do beside sending is asked for by name: `ability(HasWindows)` is itself, or None."""

    def ability(self, wanted: type[Ability]) -> Ability | None:
        """This output as something that has the ability, if it has it."""
        return self if isinstance(self, wanted) else None


class Output(Taker, Protocol):
    """A way out to programs: at least keys and the pointer."""

    def ability(self, wanted: type[Ability]) -> Ability | None:
        """This output as something that has the ability, if it has it."""

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
