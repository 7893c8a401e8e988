"""The last way in: a keyboard to type on and something to point with stay free, whatever a desk says.

Something counts as a way in only if a person can surely use it: what exists as a program's device only, or is a
keyboard and a pointer in one, does not, unless it is marked as the main keyboard.  What was refused once is taken
later by a deliberate act only, on trial, and gives itself back unless somebody keeps it: plugging in is not one.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple, Protocol

from brass_pebble.core.desk.model import Surface
from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.telling import IN_WORDS
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Ports
from brass_pebble.kinds.inputs.kind import InputKind

from .memory import Memory

# For so long, in s, what was refused is taken on trial.
TRIAL_SECONDS = 10.0
# What comes so soon after a refusal, in ns, comes together with it: at the start, behind one hub, after sleep.
COMES_TOGETHER = 10_000_000_000
# The bus of devices that exist as a program's only (BUS_VIRTUAL of linux/input.h).
VIRTUAL = "virtual"
TO_TRY = "To take it over on trial, select the surface and press o, or run brass-pebble wake"


class Present(Protocol):
    """The devices that are here, and whose they are."""

    here: list[DeviceFacts]
    memory: Memory

    def owner(self, device: str) -> str:
        """The surface that has a device, or an empty text."""

    def kind_of(self, facts: DeviceFacts) -> InputKind:
        """The kind of a device."""


class Refused(NamedTuple):
    """A surface whose device somebody may need: by what it was asked for, and since when, in ns."""

    rules: object
    since: int


class WaysIn:
    """Says why a device is not taken; remembers what was refused, what is on trial, and what somebody types on."""

    def __init__(self, ports: Ports, devices: Present) -> None:
        self._ports, self._devices = ports, devices
        # Taken over on trial: until when, in ns.
        self.trials: dict[str, int] = {}
        self._refused: dict[str, Refused] = {}
        # Full keyboards that somebody typed on while they were no surface, until they are pulled out.
        self._typed: list[DeviceFacts] = []

    # What is refused.

    def refusal(self, surface: Surface, facts: DeviceFacts) -> str:
        """Why a surface does not get a device, or an empty text."""
        if surface.id in self.trials:
            return ""
        types = facts.full and surface.takes_typing and not surface.may_be_only_keyboard
        points = facts.points and surface.takes_pointing and not surface.may_be_only_pointer
        if types and self._devices.memory.is_main(facts):
            return (f"“{facts.shown}” is marked as your main keyboard. Press M, then one key on the keyboard that is "
                    "your main one now")
        why = ""
        if points and not self.other_pointer(facts):
            why = (f"“{facts.shown}” is the only device here to point with, and taken over it would neither point nor "
                   f"click. Name the parts that are wanted, such as takes = [\"back\"] in desk.toml. {TO_TRY}")
        elif types and facts in self._typed:
            why = f"somebody types on “{facts.shown}”, so it is left to type on. {TO_TRY}"
        elif types and not self.other_keyboard(facts):
            why = (f"“{facts.shown}” is the only full keyboard here that is surely one to type on, and you would be "
                   f"left without one. {TO_TRY}")
        now, before = self._ports.now(), self._refused.get(surface.id)
        if before is not None and before.rules != _rules_of(surface):
            before = None
        if why:
            self._refused[surface.id] = before or Refused(_rules_of(surface), now)
            return why
        if before is not None and (types or points) and now - before.since > COMES_TOGETHER and not (
                types and self._main_is_free(facts)):
            return (f"“{facts.shown}” was the last one here, and what was plugged in since is not known to be what you "
                    f"use. {TO_TRY}; or mark the keyboard that you type on: M, then F3")
        self._refused.pop(surface.id, None)
        return ""

    def needs_trial(self, facts: DeviceFacts, meant: Surface) -> bool:
        """Whether taking a device for a surface like this one may leave somebody without a way in."""
        return self.is_last_keyboard(facts, meant) or (
            facts.points and meant.takes_pointing and not self.other_pointer(facts))

    def is_last_keyboard(self, facts: DeviceFacts, meant: Surface) -> bool:
        """Whether it is the one that somebody types on, or the only one left for it."""
        return facts.full and meant.takes_typing and (facts in self._typed or not self.other_keyboard(facts))

    def other_keyboard(self, facts: DeviceFacts) -> bool:
        """Whether a full keyboard stays free that surely can be typed on."""
        memory = self._devices.memory
        return any(other.full and (memory.is_main(other) or (self._is_real(other, facts) and not other.points))
                   and not self._taken_by(other, lambda s: s.takes_typing) for other in self._others(facts))

    def other_pointer(self, facts: DeviceFacts) -> bool:
        """Whether something stays free that surely can be pointed with."""
        return any(other.points and self._is_real(other, facts)
                   and not self._taken_by(other, lambda s: s.takes_pointing) for other in self._others(facts))

    def types_for_programs(self, facts: DeviceFacts) -> bool:
        """Whether a device's keys go to programs: it is not a surface, or one that takes other parts of it."""
        return not self._taken_by(facts, lambda surface: surface.takes_typing)

    def _others(self, facts: DeviceFacts) -> list[DeviceFacts]:
        return [other for other in self._devices.here if other.id != facts.id]

    def _main_is_free(self, facts: DeviceFacts) -> bool:
        return any(self._devices.memory.is_main(other) and self.types_for_programs(other)
                   for other in self._others(facts))

    def _is_real(self, other: DeviceFacts, facts: DeviceFacts) -> bool:
        """On the bench a simulated one will do for a simulated one."""
        kind_of = self._devices.kind_of
        return other.bus != VIRTUAL and kind_of(other).simulated == kind_of(facts).simulated

    def _taken_by(self, facts: DeviceFacts, takes: Callable[[Surface], bool]) -> bool:
        surface = self._ports.desk.surfaces.get(self._devices.owner(facts.id))
        return surface is not None and takes(surface)

    # What somebody types on.

    def was_typed_on(self, facts: DeviceFacts) -> bool:
        """Somebody types on a keyboard that is not a surface: no press takes it any more.  False if that was known."""
        if facts in self._typed:
            return False
        log.info("%s at %s was typed on: it is left alone", facts.shown, facts.port)
        self._typed.append(facts)
        return True

    def askable(self, asked: tuple[DeviceFacts, ...]) -> tuple[DeviceFacts, ...]:
        """Of devices that may be meant, those that a press may tell."""
        return tuple(facts for facts in asked if facts not in self._typed)

    def say_typed(self, asked: tuple[DeviceFacts, ...]) -> str:
        """Why nobody is asked which of these is meant."""
        return (f"“{asked[0].shown}” may be its device, but somebody types on it, so it is left to type on. If it is "
                f"the one, pull it out, plug it in again, and {IN_WORDS}")

    def forget_absent(self, present: list[DeviceFacts]) -> None:
        """What was pulled out is as if it had never been here."""
        self._typed = [facts for facts in self._typed if facts in present]

    # Trials.

    def was_refused(self, surface_id: str) -> bool:
        """Whether a surface's device was refused because somebody may need it."""
        return surface_id in self._refused

    def try_out(self, surface_id: str, seconds: float, then: Callable[[int], None]) -> None:
        """Allow a surface its device for a while; call `then` at its end if it was not kept."""
        self.trials[surface_id] = until = self._ports.now() + int(seconds * 1e9)
        self._ports.alarms.at(f"trial {surface_id}", until, then)

    def end_trial(self, surface_id: str) -> None:
        """Nobody kept it: from now on only the desk counts."""
        self.trials.pop(surface_id, None)
        self._ports.alarms.cancel(f"trial {surface_id}")

    def keep(self, surface_id: str) -> None:
        """Somebody kept it, so that it is refused no more."""
        self.end_trial(surface_id)
        self._refused.pop(surface_id, None)


def _rules_of(surface: Surface) -> object:
    return surface.rule, surface.takes
