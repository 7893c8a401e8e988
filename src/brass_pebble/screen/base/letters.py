"""What each letter means, in every view: small ones act on what is chosen, capital ones lead somewhere or concern all.

The table is `letters.tsv`: a letter, its meaning, and the actions that bindings may give it.
"""

from __future__ import annotations

import csv
import re
from collections.abc import Iterator
from importlib import import_module, resources
from pkgutil import walk_packages
from typing import NamedTuple

from textual.binding import Binding

import brass_pebble.screen

from .desk_actions import VISITS

_GIVEN = re.compile(r"^(?:do|edit|whole|visit)\('(.+)'\)$")


class Letter(NamedTuple):
    """A letter: what it means, and the actions that it may stand for."""

    letter: str
    meaning: str
    actions: tuple[str, ...]


class Bound(NamedTuple):
    """A letter where it is bound: the class that binds it, the action, and its words."""

    letter: str
    owner: type
    action: str
    words: str


def read_letters() -> list[Letter]:
    """The table, small letters first."""
    file = resources.files("brass_pebble.screen.base").joinpath("letters.tsv")
    rows = csv.DictReader(file.read_text(encoding="utf-8").splitlines(), delimiter="\t", quoting=csv.QUOTE_NONE)
    return [Letter(row["letter"], row["meaning"], tuple(row["actions"].split())) for row in rows]


def letters_bound() -> Iterator[Bound]:
    """Every letter that a view, sheet or widget of the screen binds, without modifiers."""
    for module in walk_packages(brass_pebble.screen.__path__, "brass_pebble.screen."):
        for kind in vars(import_module(module.name)).values():
            if isinstance(kind, type) and kind.__module__ == module.name:
                for row in Binding.make_bindings(kind.__dict__.get("BINDINGS", ())):
                    if len(row.key) == 1 and row.key.isalpha() and row not in VISITS:
                        given = _GIVEN.match(row.action)
                        yield Bound(row.key, kind, given[1] if given else row.action.removeprefix("app."),
                                    row.description)
