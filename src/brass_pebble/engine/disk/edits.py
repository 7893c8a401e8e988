"""Edits of desk.toml: values set or taken away at paths, with comments and order kept, and each with its way back."""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from functools import partial
from itertools import groupby
from typing import Any

from brass_pebble.core.desk.action import BETWEEN, read_action
from brass_pebble.core.desk.binding import Binding, fits
from brass_pebble.core.desk.read.bindings import is_gesture
from brass_pebble.core.desk.rearrange import Change
from brass_pebble.core.play.gesture import GESTURES, MOTIONS, MOVE, PRESS
from brass_pebble.core.say.problem import ProblemError, nearest
from brass_pebble.core.say.setting import check_setting, settings_of

from .parsed_toml import parse_tables
from .partial_edit import edited_parts

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
                 gesture: str = PRESS, macros: Iterable[str] | None = None,
                 settings: Mapping[str, Any] | None = None) -> Edit:
    """Give a gesture of a control another action, or none with an empty kind; `settings` are the binding's, as they are
    written.  Those that do not fit the action or the gesture are left out.

    Raises:
        ProblemError: unknown gesture, kind, deed, key, layer switch, macro or setting, or a value that it cannot have.
    """
    path = ("surface", surface, "layer", layer, gesture, control)
    what, needs = f"{surface} {control}" + ("" if gesture == PRESS else f", {gesture}"), path[:4]
    if not is_gesture(gesture):
        raise ProblemError(f"“{gesture}” is not a gesture",
                           hint=f"Available: {', '.join((*GESTURES, *MOTIONS))}, “with” another control, "
                                "strike 1 to 79, and at 0 to 33 %")
    if not kind:
        return Edit(f"{what}: cleared", ((path, None),), needs=needs)
    action = read_action(kind, target, macros)
    if bool(action.drives) != (gesture == MOVE):
        raise ProblemError(f"“{gesture}” cannot be bound to {kind} {target}",
                           hint=f"Only “{MOVE}” drives something, and it does nothing else")
    row = Row({kind: target.split(BETWEEN) if action.steps or len(action.drives) > 1 else target})
    row |= _written(settings or {}, kind, gesture)
    return Edit(f"{what}: {kind} {target}", ((path, row),), needs=needs)


def _written(settings: Mapping[str, Any], kind: str, gesture: str) -> dict[str, Any]:
    """The settings of a binding that fit, and say something else than without them."""
    known, written = settings_of(Binding), {}
    for name, value in settings.items():
        if name not in known:
            raise ProblemError(f"a binding has no setting “{name}”", hint=nearest(name, known))
        check_setting(known[name], value)
        if value and value != known[name].default and fits(known[name], kind, gesture):
            written[name] = value
    return written


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
    if all(len(path) > 2 for path, _ in edit.values):
        known = parse_tables(text)
        if edit.needs and dig(known, edit.needs) is None:
            raise ProblemError(f"the desk has no {_say(edit.needs)}", hint="Look at desk.toml for the names there are")
        parts = edited_parts(text, [(path, partial(_set_all, values=list(values))) for path, values in groupby(
            edit.values, lambda row: row[0][:-1])])
        if parts is not None:
            return parts
    document: Any = tomlkit.parse(text)
    change(document)
    return _parted(text, tomlkit.dumps(document))


def _parted(before: str, after: str) -> str:
    """The text with a blank line before each table that had one, also where another table was put in front of it."""
    lines = before.splitlines()
    parted = {line for line, last in zip(lines[1:], lines, strict=False) if line.startswith("[") and not last.strip()}
    shown: list[str] = []
    within = False
    for line in after.splitlines(keepends=True):
        header = not within and line.rstrip("\r\n") in parted
        if header and shown and shown[-1].strip() and not shown[-1].startswith("#"):
            shown.append("\n")
        shown.append(line)
        # In a text of several lines a line may look like a table's.
        within ^= (line.count('"""') + line.count("'''")) % 2 == 1
    text = "".join(shown)
    return text if tomllib.loads(text) == tomllib.loads(after) else after


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


def _set_all(document: Any, values: list[tuple[Path, Any]]) -> None:
    for path, value in values:
        _set(document, path, value)


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
