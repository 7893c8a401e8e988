"""Edits of desk.toml: values set or taken away at paths, with comments and order kept, and each with its way back."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

from brass_pebble.core.desk.action import ACTION_KINDS, BETWEEN, read_action
from brass_pebble.core.desk.binding import PLAYS, POLICIES
from brass_pebble.core.desk.read.bindings import TIMES, is_gesture
from brass_pebble.core.desk.rearrange import Change
from brass_pebble.core.label.icons import check_icon
from brass_pebble.core.play.gesture import DOUBLE, GESTURES, HOLD, MOTIONS, MOVE, PRESS, PUSHES, TURN_LEFT, TURN_RIGHT
from brass_pebble.core.say.durations import parse_duration
from brass_pebble.core.say.limits import LONGEST_LABEL
from brass_pebble.core.say.problem import ProblemError

from .partial_edit import edited_fragment

Path = tuple[str, ...]
# surface, its id, layer, its id, gesture, control
BINDING_DEPTH = 6


class Row(dict[str, Any]):
    """A table that is written on one line, in braces."""


@dataclass(frozen=True)
class Edit:
    """What is to be changed: a value for each path (None takes it away), and whole files beside desk.toml.

    `needs` is a table that must be there already, so that nothing is bound on a layer that went away meanwhile.
    `whole` is another text in place of desk.toml's, before the values are set.
    """

    words: str
    values: tuple[tuple[Path, Any], ...] = ()
    files: tuple[tuple[str, str | None], ...] = ()
    needs: Path = ()
    whole: str | None = None


def binding_edit(surface: str, layer: str, control: str, kind: str = "", target: str = "", *,
                 gesture: str = PRESS, macros: Iterable[str] | None = None, adds: bool = False,
                 by_strength: bool = False, **extra: str) -> Edit:
    """Give a gesture of a control another action, or none with an empty kind; `extra` are a binding's other fields.

    Raises:
        ProblemError: unknown gesture, kind, deed, key, layer switch or macro, a time that is none, or a label that is
            too long.
    """
    path = ("surface", surface, "layer", layer, gesture, control)
    what, needs = f"{surface} {control}" + ("" if gesture == PRESS else f", {gesture}"), path[:4]
    if not is_gesture(gesture):
        raise ProblemError(f"“{gesture}” is not a gesture",
                           hint=f"Known are {', '.join((*GESTURES, *MOTIONS))}, “with” another control, "
                                "strike 1 to 79, and at 0 to 33 %")
    if not kind:
        return Edit(f"{what}: cleared", ((path, None),), needs=needs)
    action = read_action(kind, target, macros)
    check_extra(extra)
    own = ACTION_KINDS[kind].settings
    fits = {**{name: name in own for known in ACTION_KINDS.values() for name in known.settings},
            "hold_after": gesture == HOLD, "second_within": gesture == DOUBLE,
            "each": gesture in (TURN_LEFT, TURN_RIGHT, MOVE)}
    fits["plays"] = fits["plays"] and extra.get("plays") != "once"
    if bool(action.drives) != (gesture == MOVE):
        raise ProblemError(f"“{gesture}” cannot be bound to {kind} {target}",
                           hint=f"Only “{MOVE}” drives something, and it does nothing else")
    row = Row({kind: target.split(BETWEEN) if action.steps or len(action.drives) > 1 else target})
    row |= {name: int(value) if name == "each" and value.isdigit() else value for name, value in extra.items()
            if value and fits.get(name, True)}
    if by_strength and gesture in PUSHES and "by_strength" in own:
        row["by_strength"] = True
    if adds and gesture == DOUBLE:
        row["adds"] = True
    return Edit(f"{what}: {kind} {target}", ((path, row),), needs=needs)


def check_extra(extra: dict[str, str]) -> None:
    """Look at what a binding has beside its action.

    Raises:
        ProblemError: something of it cannot be.
    """
    label, plays, again = (extra.get(name, "") for name in ("label", "plays", "again"))
    if len(label) > LONGEST_LABEL:
        raise ProblemError(f"a label has at most {LONGEST_LABEL} characters, “{label}” has {len(label)}",
                           hint="Shorten it")
    if plays and not PLAYS.fullmatch(plays):
        raise ProblemError(f"“{plays}” is not a way to play",
                           hint="Write once, while held, until pressed again, or 3 times")
    if again and again not in POLICIES:
        raise ProblemError(f"“{again}” is not what a second press can do", hint=f"Known are {', '.join(POLICIES)}")
    check_icon(extra.get("icon", ""))
    for name in TIMES:
        if extra.get(name):
            parse_duration(extra[name])


def rearranging_edit(words: str, changes: Iterable[Change]) -> Edit:
    """Many bindings set or cleared in one change."""
    values = tuple((("surface", surface, "layer", layer, gesture, control), None if row is None else Row(row))
                   for surface, layer, gesture, control, row in changes)
    return Edit(words, values)


def apply_edit(text: str, edit: Edit) -> str:
    """The text with the edit made.

    Raises:
        ProblemError: the table that it needs is not there.
    """
    import tomlkit
    text = text if edit.whole is None else edit.whole
    if not (edit.values or edit.needs):
        return text

    def change(document: Any) -> None:
        if edit.needs and dig(document, edit.needs) is None:
            raise ProblemError(f"the desk has no {_say(edit.needs)}", hint="Look at desk.toml for the names there are")
        for path, value in edit.values:
            _set(document, path, value)
    surfaces = {path[1] for path, _ in edit.values if len(path) > 2 and path[0] == "surface"}
    if len(surfaces) == 1 and all(len(path) > 2 and path[0] == "surface" for path, _ in edit.values):
        part = edited_fragment(text, surfaces.pop(), change)
        if part is not None:
            return part
    document: Any = tomlkit.parse(text)
    change(document)
    return tomlkit.dumps(document)


def reverse(edit: Edit, data: dict[str, Any], read_file: Callable[[str], str | None], text: str = "") -> Edit:
    """The edit that takes another one back, made from the desk before it, whose text is `text`."""
    values = tuple((path, _rows(dig(data, path), path)) for path, _ in reversed(edit.values))
    files = tuple((name, read_file(name)) for name, _ in edit.files)
    return Edit(edit.words, values if edit.whole is None else (), files, whole=None if edit.whole is None else text)


def dig(data: Any, path: Path) -> Any:
    """The value at a path, or None."""
    for key in path:
        if not hasattr(data, "get"):
            return None
        data = data.get(key)
        if data is None:
            return None
    return data


def _rows(value: Any, path: Path) -> Any:
    """A value as read, with the tables marked that desks write on one line: devices, bindings, members of lists."""
    if isinstance(value, list):
        return [Row(inner) if isinstance(inner, dict) else inner for inner in value]
    if not isinstance(value, dict):
        return value
    if path[-1] == "device" or len(path) >= BINDING_DEPTH:
        return Row(value)
    return {name: _rows(inner, (*path, name)) for name, inner in value.items()}


def _set(document: Any, path: Path, value: Any) -> None:
    table = document
    for key in path[:-1]:
        if key not in table:
            if value is None:
                return
            table[key] = _item({})
        table = table[key]
    key = path[-1]
    old = table.get(key)
    if value is None:
        if old is not None:
            table.remove(key)
        return
    item = _item(value)
    if old is not None and hasattr(old, "trivia") and hasattr(item, "trivia"):
        # The remark at the end of the line belongs to the control, not to what was bound.
        item.trivia.comment_ws, item.trivia.comment = old.trivia.comment_ws, old.trivia.comment
        item.trivia.trail = old.trivia.trail
    table[key] = item


def _item(value: Any) -> Any:
    # Imported where it is needed, since an engine starts sooner without it.
    import tomlkit
    if isinstance(value, Row):
        row = tomlkit.inline_table()
        for name, inner in value.items():
            row.add(name, _item(inner))
        return row
    if isinstance(value, dict):
        nested = [name for name, inner in value.items() if isinstance(inner, dict) and not isinstance(inner, Row)]
        table = tomlkit.table(is_super_table=len(nested) == len(value))
        # What belongs to the table itself stands before the tables below it.
        for name in [*(name for name in value if name not in nested), *nested]:
            table.add(name, _item(value[name]))
        return table
    if isinstance(value, list | tuple):
        items = tomlkit.array()
        for inner in value:
            items.append(_item(inner))
        return items
    return tomlkit.item(value)


def _say(path: Path) -> str:
    """A path in words: `layer “base” on a surface “left”`."""
    pairs = list(zip(path[::2], path[1::2], strict=False))
    return " on a ".join(f"{kind} “{name}”" for kind, name in reversed(pairs))
