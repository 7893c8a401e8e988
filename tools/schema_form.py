"""One form for JSON Schema, whichever version of the library wrote it.

What is declared decides what stands in the schema; how a library orders alternatives, keys and the lines of a docstring
does not.  The page that is made of it is compared byte by byte, so its form has to be ours.
"""

from __future__ import annotations

import inspect
import json
from collections.abc import Mapping
from typing import Any


def description(kind: type) -> str:
    """A class's docstring without the indentation of its source; empty without one."""
    return inspect.cleandoc(kind.__doc__ or "")


def in_our_form(components: Mapping[str, Any], kinds: Mapping[str, type]) -> dict[str, Any]:
    """The components of a schema with descriptions read from `kinds`, by name, and everything in a fixed order.

    Names are sorted, so are the keys of an object and alternatives (“null” last); properties stay as they are declared.
    """
    found = {}
    for name in sorted(components):
        whole = {key: value for key, value in components[name].items() if key != "description"}
        if said := description(kinds[name]) if name in kinds else components[name].get("description", ""):
            whole["description"] = said
        found[name] = _ordered(whole)
    return found


def _ordered(node: Any) -> Any:
    if isinstance(node, list):
        return [_ordered(part) for part in node]
    if not isinstance(node, dict):
        return node
    made: dict[str, Any] = {}
    for key in sorted(node):
        value = node[key]
        if key == "properties":
            made[key] = {name: _ordered(kind) for name, kind in value.items()}
        elif key in ("anyOf", "oneOf"):
            made[key] = sorted(map(_ordered, value), key=lambda kind: (kind == {"type": "null"}, json.dumps(kind)))
        elif key == "enum":
            made[key] = sorted(value, key=str)
        elif key == "required" and isinstance(node.get("properties"), dict):
            made[key] = [name for name in node["properties"] if name in value]
        else:
            made[key] = _ordered(value)
    return made
