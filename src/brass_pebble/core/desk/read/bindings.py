"""Bindings read from desk.toml, with exact complaints; and written as rows there."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Protocol

from brass_pebble.core.desk.action import ACTION_KINDS, BETWEEN, PASS, Action, read_action
from brass_pebble.core.desk.binding import Binding
from brass_pebble.core.desk.layer_switch import EVERY, parse_target
from brass_pebble.core.desk.model import find_layer
from brass_pebble.core.devices.layout import MISSING
from brass_pebble.core.effects.gate import Opening, Rights
from brass_pebble.core.effects.reach import Reach
from brass_pebble.core.play.gesture import (
    AT,
    GESTURES,
    MOTIONS,
    MOVE,
    STRIKE,
    WITH,
    ends_at_once,
    read_band,
)
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.memo import Memo
from brass_pebble.core.say.problem import Problem, ProblemError, nearest
from brass_pebble.core.say.setting import read_all, settings_of, write_all
from brass_pebble.core.say.toml_fields import Fields
from brass_pebble.core.signals.keys import is_sendable

if TYPE_CHECKING:
    from brass_pebble.core.desk.model import Layer, Surface

def check_target(text: str, own: Surface, surfaces: dict[str, Surface]) -> Problem | None:
    """What is wrong with a switch of layers on a desk: unknown surfaces, or no such layer on any of them."""
    target = parse_target(text)
    if target.surfaces and target.surfaces != (EVERY,):
        for name in target.surfaces:
            if name not in surfaces:
                return Problem(f"there is no surface “{name}”", hint=f"Available: {', '.join(surfaces)}")
    if not target.layer:
        return None
    if target.surfaces == (EVERY,):
        meant = list(surfaces.values())
    else:
        meant = [surfaces[name] for name in target.surfaces] or [own]
    if any(find_layer(surface, target.layer) for surface in meant):
        return None
    known = dict.fromkeys(layer.id for surface in meant for layer in surface.layers)
    return Problem(f"there is no layer “{target.layer}” on {', '.join(s.name for s in meant)}",
                   hint=f"Available: {', '.join(known)}" if known else "It has no layers yet")

# Something to look at once all surfaces are read.
Check = Callable[[dict[str, "Surface"]], None]

if TYPE_CHECKING:
    from brass_pebble.core.desk.model import Surface


@dataclass
class Reading:
    """What the reading of bindings needs to know: the macros there are, where to put what is checked later, and who
    judges what of `place` (surface/layer) came from somebody else."""

    macros: Iterable[str]
    checks: list[Check]
    problems: list[Problem]
    # Layers that were read before, and what they depend on beside their table and their surface's drawing.
    layers: Memo[tuple[str, str], Layer]
    depends: object
    strangers: Strangers
    place: str = ""


def check_holder(fields: Fields, gesture: str, surface: Surface, reading: Reading) -> None:
    """Look later whether the control that a gesture is together with is there."""
    holder, control = surface.holder_of(gesture)

    def check(surfaces: dict[str, Surface]) -> None:
        other = surfaces.get(holder)
        if other is None:
            fields.problem(gesture, f"there is no surface “{holder}”", nearest(holder, surfaces) or
                           f"Available: {', '.join(surfaces)}", word=holder)
        elif other.code_of(control) is None and other.layout is not MISSING:
            fields.problem(gesture, f"“{other.name}” has no control “{control}”",
                           nearest(control, [c.id for c in other.layout.controls]), word=control)
    reading.checks.append(check)


def read_binding(control: str, gesture: str, row: Fields, surface: Surface, reading: Reading) -> Binding | None:
    """One binding from its row; what is wrong with it is reported, and it is left out if it does nothing then."""
    settings = read_all(Binding, row)
    action = _read_action(control, gesture, row, surface, reading)
    if action is None:
        return None
    if bool(action.drives) != (gesture == MOVE):
        what = (f"“{gesture}” cannot drive anything; only “{MOVE}” has a position" if action.drives
                else f"“{MOVE}” stands for every change of position, and can only drive something")
        row.problem(action.kind, what, "Bind turn left and turn right, a push or a zone to other actions")
        return None
    origin = reading.strangers.of_place(reading.place)
    if not origin:
        return Binding(control, gesture, action, **settings)
    reached = reading.strangers.reached(reading.place, action)
    asleep = not all(reading.strangers.approves(reach.mark) for reach in reached)
    rights = Rights(f"{reading.place} from {origin}", opening=reading.strangers.opening)
    if reached:
        rights = rights.granted(reached[0].mark)
    return Binding(control, gesture, action, asleep=asleep, rights=rights, **settings)


class Strangers(Protocol):
    """Knows what came from somebody else, and what of it is approved."""

    def of_place(self, place: str) -> str:
        """From whom surface/layer came, in words; nothing for one of the person's own."""

    def brought(self, surface: str, *, spoken: bool) -> bool:
        """Whether a whole surface is known to have come from somebody else: then it takes no device by itself.  One of
        a desk that is only new on this computer does, but for a microphone, if it is `spoken` to."""

    def approves(self, mark: str) -> bool:
        """Whether a mark is approved."""

    @property
    def opening(self) -> Opening:
        """Chords that open a place for text or commands on this computer."""

    def reached(self, place: str, action: Action) -> tuple[Reach, ...]:
        """What a stranger's action does outside the keyboard, by itself and by macros that are not the same
        stranger's."""


class _Nobody:
    """Everything is the person's own."""

    opening: Opening = frozenset()

    def of_place(self, place: str) -> str:
        return ""

    def brought(self, surface: str, *, spoken: bool) -> bool:
        return False

    def approves(self, mark: str) -> bool:
        return True

    def reached(self, place: str, action: Action) -> tuple[Reach, ...]:
        return ()


NO_STRANGERS: Strangers = _Nobody()


def _read_action(control: str, gesture: str, row: Fields, surface: Surface, reading: Reading) -> Action | None:
    words = [kind for kind in ACTION_KINDS if kind in row.data]
    if len(words) != 1:
        unknown = [key for key in row.data if key not in settings_of(Binding) and key not in ACTION_KINDS]
        hint = (nearest(unknown[0], ACTION_KINDS) if unknown else "") or f"Write one of {', '.join(ACTION_KINDS)}"
        what = f"“{control}” has no action" if not words else f"“{control}” has {say_count(len(words), 'action')}"
        row.problem("", what, hint, word=unknown[0] if unknown else "")
        return None
    kind = words[0]
    listed = isinstance(row.data[kind], list) and kind in ("cycle", "drive")
    target = BETWEEN.join(row.texts(kind)) if listed or kind == "cycle" else row.text(kind, "")
    row.done(*ACTION_KINDS)
    try:
        action = read_action(kind, target, reading.macros)
    except ProblemError as error:
        row.problem(kind, error.problem.what, error.problem.hint, word=target)
        return None

    code = surface.code_of(control)
    if any(step.target == PASS and step.kind == "do" for step in (action, *action.steps)) and code is not None and \
            not is_sendable(code):
        row.problem(kind, f"“{control}” cannot be passed through, because no virtual device can send it",
                    "Leave it out of what is taken: name the parts that are wanted with takes = [\"…\"]", word=target)

    def check(surfaces: dict[str, Surface]) -> None:
        for step in (action, *action.steps):
            problem = check_target(step.target, surfaces[surface.id], surfaces) if step.layer else None
            if problem is not None:
                row.problem(kind, problem.what, problem.hint)
            if ends_at_once(gesture) and step.layer and step.holds:
                row.problem(kind, f"the layer would switch off again at once, because a {gesture} ends immediately",
                            "Bind it to press, hold or double tap, or write “on or off”")
    if action.layer or action.steps:
        reading.checks.append(check)
    return action


def is_gesture(text: str) -> bool:
    """Whether a text names a gesture, alone or together with another control."""
    return (text in GESTURES or text in MOTIONS or (text.startswith(WITH) and len(text) > len(WITH))
            or (text.startswith((STRIKE, AT)) and read_band(text) is not None))


def row_of(binding: Binding) -> dict[str, Any]:
    """A binding as desk.toml has it."""
    action = binding.action
    several = action.steps or len(action.drives) > 1
    row: dict[str, Any] = {action.kind: action.target.split(BETWEEN) if several else action.target}
    return row | write_all(binding)
