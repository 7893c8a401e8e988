"""Kinds of values that fields of rows and messages hold, with their limits."""

from __future__ import annotations

from typing import Annotated, Any

from msgspec import Meta


def said(what: str, **limits: Any) -> Any:
    """A remark and limits for a field, as msgspec keeps them."""
    return Meta(description=what, **limits)


# Ids and names, as they stand in files; texts that a person types; whole macro files.
Id = Annotated[str, Meta(max_length=1_000)]
Word = Annotated[str, Meta(max_length=10_000)]
Text = Annotated[str, Meta(max_length=4_000_000)]
Ids = Annotated[list[Id], Meta(max_length=20_000)]
# A place where something is bound: surface, layer, control.
Place = Annotated[list[Id], Meta(min_length=3, max_length=3)]
Places = Annotated[list[Place], Meta(max_length=20_000)]
# What a control sends: the kernel's number of a key or an axis, or a text for what has none.
Signal = int | Id
# One axis: -1 to 1, or 0 to 1.
Share = Annotated[float, Meta(ge=0, le=1)]
Port = Annotated[int, Meta(ge=0, le=65_534)]
Number = Annotated[int, Meta(ge=-2**31, le=2**31)]
Strength = Annotated[int, Meta(ge=0, le=127)]
Percent = Annotated[int, Meta(ge=0, le=100)]
Row = dict[str, Any]
