"""What differs between two states of a desk, in words that a person reads.  Pure; desks are TOML tables as parsed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from brass_pebble.core.desk.action import ACTION_KINDS
from brass_pebble.core.say.counts import say_count

Table = dict[str, Any]
# surface, its id, layer, its id, gesture, control
BINDING = 6


@dataclass(frozen=True)
class Difference:
    """One thing that differs: a sentence, and the surface and control that it is about, if any."""

    words: str
    surface: str = ""
    control: str = ""


def differences(before: Table, after: Table, macros_before: Mapping[str, str] | None = None,
                macros_after: Mapping[str, str] | None = None) -> list[Difference]:
    """Everything that differs, in the order of the desk; macros are texts by id."""
    found = list(_tables(before, after, ()))
    one, other = macros_before or {}, macros_after or {}
    for name in sorted({*one, *other}):
        if name not in one:
            found.append(Difference(f"macro {name}: new"))
        elif name not in other:
            found.append(Difference(f"macro {name}: deleted"))
        elif one[name] != other[name]:
            count = abs(len(other[name].splitlines()) - len(one[name].splitlines()))
            found.append(Difference(f"macro {name}: changed" + (f", {say_count(count, 'line')} more or "
                                                                "less" if count else "")))
    return found


def _tables(one: Table, other: Table, path: tuple[str, ...]) -> list[Difference]:
    found = []
    for key in [*other, *(key for key in one if key not in other)]:
        a, b, here = one.get(key), other.get(key), (*path, key)
        if a == b:
            continue
        if isinstance(a, dict) and isinstance(b, dict) and len(here) < BINDING:
            found += _tables(a, b, here)
        elif len(here) == BINDING and here[0] == "surface" and here[2] == "layer":
            found.append(_binding(here, a, b))
        elif len(here) < BINDING and (a is None or b is None) and isinstance(b if a is None else a, dict) and (
                len(here) == 5 and here[2] == "layer"):
            # A gesture that came or went: each of its bindings did.
            found += _tables(a or {}, b or {}, here)
        else:
            found.append(_setting(here, a, b))
    return found


def _binding(path: tuple[str, ...], a: Any, b: Any) -> Difference:
    _, surface, _, layer, gesture, control = path
    what = f"{surface} {control}" + ("" if gesture == "press" else f", {gesture}") + f", in {layer}: "
    if a is None:
        what += f"new, {say_row(b)}"
    elif b is None:
        what += f"cleared, was {say_row(a)}"
    elif say_row(a) == say_row(b):
        changed = [key for key in (*a, *b) if a.get(key) != b.get(key)] if isinstance(a, dict) and isinstance(b, dict) \
            else []
        what += ", ".join(f"{key} {a.get(key, 'none')} → {b.get(key, 'none')}" for key in dict.fromkeys(changed))
    else:
        what += f"{say_row(a)} → {say_row(b)}"
    return Difference(what, surface, control)


def say_row(row: Any) -> str:
    """A binding's row in a few words."""
    if not isinstance(row, dict):
        return str(row)
    kind = next((key for key in row if key in ACTION_KINDS), "")
    target = row.get(kind, "")
    return f"{kind} {' / '.join(map(str, target)) if isinstance(target, list) else target}".strip()


def _setting(path: tuple[str, ...], a: Any, b: Any) -> Difference:
    surface = path[1] if len(path) > 1 and path[0] == "surface" else ""
    name = " ".join(path[1:] if surface else path)
    thing = {2: "surface", 4: "layer"}.get(len(path)) if surface and isinstance(a if b is None else b, dict) else None
    if thing:
        name = f"{thing} {path[-1]}" + (f" of {surface}" if thing == "layer" else "")
        return Difference(f"{name}: {'new' if a is None else 'deleted'}", surface)
    if a is None:
        return Difference(f"{name}: {_say(b)}", surface)
    if b is None:
        return Difference(f"{name}: as usual again, was {_say(a)}", surface)
    return Difference(f"{name}: {_say(a)} → {_say(b)}", surface)


def _say(value: Any) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{key} {_say(inner)}" for key, inner in value.items()) or "empty"
    if isinstance(value, list):
        return ", ".join(map(_say, value)) if len(value) < 9 else f"{len(value)} values"
    return {True: "yes", False: "no"}.get(value, str(value)) if isinstance(value, bool) else str(value)
