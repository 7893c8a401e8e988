"""Bindings read from desk.toml, with exact complaints; and written as rows there."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from fractions import Fraction
from typing import TYPE_CHECKING, Any

from brass_pebble.core.desk.action import ACTION_KINDS, BETWEEN, PASS, TIMES_OF, Action, read_action
from brass_pebble.core.desk.binding import PLAYS, POLICIES, RAPID_FASTEST, Binding
from brass_pebble.core.desk.layer_switch import EVERY, parse_target
from brass_pebble.core.desk.model import find_layer
from brass_pebble.core.devices.layout import MISSING
from brass_pebble.core.effects.reach import Reach
from brass_pebble.core.label.icons import check_icon
from brass_pebble.core.play.gesture import (
    AT,
    DOUBLE,
    GESTURES,
    HOLD,
    LONGEST_WAIT,
    MOTIONS,
    MOVE,
    STRIKE,
    WITH,
    ends_at_once,
    read_band,
)
from brass_pebble.core.say.durations import MS, say_duration, write_duration
from brass_pebble.core.say.limits import LONGEST_LABEL
from brass_pebble.core.say.problem import Problem, ProblemError, nearest
from brass_pebble.core.say.tints import TINTS
from brass_pebble.core.say.toml_fields import Fields
from brass_pebble.core.signals.keys import is_sendable

if TYPE_CHECKING:
    from brass_pebble.core.desk.model import Surface

def check_target(text: str, own: Surface, surfaces: dict[str, Surface]) -> Problem | None:
    """What is wrong with a switch of layers on a desk: unknown surfaces, or no such layer on any of them."""
    target = parse_target(text)
    if target.surfaces and target.surfaces != (EVERY,):
        for name in target.surfaces:
            if name not in surfaces:
                return Problem(f"there is no surface “{name}”", hint=f"Known are {', '.join(surfaces)}")
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
                   hint=f"Known are {', '.join(known)}" if known else "It has no layers yet")

# Something to look at once all surfaces are read.
Check = Callable[[dict[str, "Surface"]], None]

if TYPE_CHECKING:
    from brass_pebble.core.desk.model import Surface


@dataclass
class Reading:
    """What the reading of bindings needs to know: the macros there are, where to put what is checked later, and whether
    what a layer does outside the keyboard has to sleep; `plays` is what a macro of the person's own does there, for a
    layer that came from somebody else."""

    macros: Iterable[str]
    checks: list[Check]
    sleeps: Callable[[Reach], bool] = lambda reach: False
    plays: Callable[[str], tuple[Reach, ...]] = lambda macro: ()


# The times a binding may have, and the gesture or the action that each belongs to.
TIMES = {"hold_after": HOLD, "second_within": DOUBLE, **TIMES_OF}
EXTRAS = ("label", "tint", "note", "icon", "plays", "again", "adds", "each", "by_strength", *TIMES)


def read_wait(fields: Fields, key: str, default: int) -> int:
    """A time of a hold or a double tap, in ns; complained about if nobody would wait for it."""
    time = fields.duration(key, default)
    if not 20 * MS <= time <= LONGEST_WAIT and time != default:
        fields.problem(key, f"“{key}” lies between 20 ms and {say_duration(LONGEST_WAIT)}", "Most people use 150 to "
                       "400 ms")
        return default
    return time



def read_tint(fields: Fields) -> str:
    """A tint of the palette, or an empty text."""
    tint = fields.text("tint", "")
    if tint and tint not in TINTS:
        fields.problem("tint", f"there is no tint called “{tint}”",
                       nearest(tint, TINTS) or f"The tints are {', '.join(TINTS)}", word=tint)
        return ""
    return tint



def check_holder(fields: Fields, gesture: str, surface: Surface, reading: Reading) -> None:
    """Look later whether the control that a gesture is together with is there."""
    holder, control = surface.holder_of(gesture)

    def check(surfaces: dict[str, Surface]) -> None:
        other = surfaces.get(holder)
        if other is None:
            fields.problem(gesture, f"there is no surface “{holder}”", nearest(holder, surfaces) or
                           f"Known are {', '.join(surfaces)}", word=holder)
        elif other.code_of(control) is None and other.layout is not MISSING:
            fields.problem(gesture, f"“{other.name}” has no control “{control}”",
                           nearest(control, [c.id for c in other.layout.controls]), word=control)
    reading.checks.append(check)



def read_binding(control: str, gesture: str, row: Fields, surface: Surface, reading: Reading) -> Binding | None:
    """One binding from its row; what is wrong with it is reported, and it is left out if it does nothing then."""
    plays, again = row.text("plays", "once"), row.text("again", "")
    if not PLAYS.fullmatch(plays):
        row.problem("plays", f"“{plays}” is not a way to play",
                    "Write once, while held, until pressed again, or 3 times", word=plays)
        plays = "once"
    if again and again not in POLICIES:
        row.problem("again", f"“{again}” is not what a second press can do", f"Known are {', '.join(POLICIES)}",
                    word=again)
        again = ""
    label, tint, note = row.text("label", ""), read_tint(row), row.text("note", "")
    if len(label) > LONGEST_LABEL:
        row.problem("label", f"a label has at most {LONGEST_LABEL} characters, this one has {len(label)}",
                    "Shorten it", word=label)
        label = label[:LONGEST_LABEL]
    icon = _read_icon(row)
    waits = read_wait(row, "hold_after", 0), read_wait(row, "second_within", 0)
    adds, every, back = row.flag("adds"), row.duration("every", 0), row.duration("back", 0)
    if every and every < RAPID_FASTEST:
        row.problem("every", f"no program keeps up with a tap every {say_duration(every)}",
                    f"Write {say_duration(RAPID_FASTEST)} or more")
        every = RAPID_FASTEST
    each, by_strength = _read_each(row), row.flag("by_strength")
    action = _read_action(control, gesture, row, surface, reading)
    if action is None:
        return None
    if bool(action.drives) != (gesture == MOVE):
        what = (f"“{gesture}” cannot drive anything: only “{MOVE}” has a position" if action.drives
                else f"“{MOVE}” is every change of the position, and can only drive something")
        row.problem(action.kind, what, "Bind turn left and turn right, a push or a zone to other actions")
        return None
    return Binding(control, gesture, action, label, tint, note, plays, again, *waits, adds, every, back, each,
                   by_strength, icon, _sleeps(action, reading))



def _sleeps(action: Action, reading: Reading) -> bool:
    """Whether it came from somebody else and reaches outside, by itself or by a macro of the person's own."""
    return any(map(reading.sleeps, action.reaches())) or any(
        map(reading.sleeps, (reach for macro in action.macros() for reach in reading.plays(macro))))



def _read_icon(row: Fields) -> str:
    try:
        return check_icon(row.text("icon", ""))
    except ProblemError as error:
        row.problem("icon", error.problem.what, error.problem.hint, word=str(row.data["icon"]))
        return ""



def _read_each(row: Fields) -> Fraction:
    """How far one step of a turn is: “5 %”, or a number of counts."""
    value = row.data.get("each")
    if isinstance(value, int) and not isinstance(value, bool) and 1 <= value <= 1000:
        row.number("each", 1)
        return Fraction(value)
    text = row.text("each", "")
    try:
        share = Fraction(text.removesuffix("%").strip()) / 100 if text else Fraction(0)
    except (ValueError, ZeroDivisionError):
        share = Fraction(-1)
    if text and not (text.endswith("%") and 0 < share < 1):
        row.problem("each", f"“{text}” is not how far a step can be", 'Write each = "5 %", or each = 2 for a knob '
                    "without ends", word=text)
        return Fraction(0)
    return share



def _read_action(control: str, gesture: str, row: Fields, surface: Surface, reading: Reading) -> Action | None:
    words = [kind for kind in ACTION_KINDS if kind in row.data]
    if len(words) != 1:
        unknown = [key for key in row.data if key not in EXTRAS and key not in ACTION_KINDS]
        hint = (nearest(unknown[0], ACTION_KINDS) if unknown else "") or f"Write one of {', '.join(ACTION_KINDS)}"
        what = f"“{control}” has no action" if not words else f"“{control}” has {len(words)} actions"
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
        row.problem(kind, f"“{control}” cannot be passed through: no virtual device can send it",
                    "Leave it out of what is taken: name the parts that are wanted with takes = [\"…\"]", word=target)

    def check(surfaces: dict[str, Surface]) -> None:
        for step in (action, *action.steps):
            problem = check_target(step.target, surfaces[surface.id], surfaces) if step.layer else None
            if problem is not None:
                row.problem(kind, problem.what, problem.hint)
            if ends_at_once(gesture) and step.layer and step.holds:
                row.problem(kind, f"the layer would be off again at once: a {gesture} ends when it is made",
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
    extra: dict[str, Any] = {
        "label": binding.label, "tint": binding.tint, "note": binding.note,
        "icon": binding.icon, "plays": "" if binding.plays == "once" else binding.plays, "again": binding.again,
        "adds": binding.adds, "by_strength": binding.by_strength}
    extra |= {name: write_duration(getattr(binding, name)) for name in TIMES if getattr(binding, name)}
    if binding.each:
        extra["each"] = write_each(binding.each)
    return row | {name: value for name, value in extra.items() if value}



def write_each(each: Fraction) -> str | int:
    """How far one step is, as desk.toml has it."""
    if each >= 1:
        return int(each)
    share = each * 100
    return f"{share.numerator} %" if share.denominator == 1 else f"{float(share):g} %" \
        if Fraction(f"{float(share):g}") == share else f"{share} %"
