"""What messages have in common, and the kinds of values that fields hold."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, TypeVar

from msgspec import UNSET, Meta, Struct, UnsetType

from .version import VERSION

LONGEST_NUMBER = 100


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


class Reply(Struct, frozen=True, kw_only=True):
    """What comes back for a request."""


class Done(Reply, frozen=True, kw_only=True):
    """It was done."""


class Changed(Reply, frozen=True, kw_only=True):
    """The desk was changed; it is saved and live, and can be undone."""

    words: Annotated[str, said("what was changed")]


class Request(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True, tag_field="do"):
    """Something that a client asks for.  `id` comes back with the reply."""

    reply: ClassVar[type[Reply]] = Done

    id: int | Annotated[str, Meta(max_length=LONGEST_NUMBER)] | None = None


class News(Struct, frozen=True, kw_only=True, tag_field="topic"):
    """Something that clients are told without asking again, once they follow its topic."""


R = TypeVar("R", bound=Request)

__all__ = [
    "UNSET",
    "VERSION",
    "Changed",
    "Done",
    "Id",
    "Ids",
    "News",
    "Number",
    "Percent",
    "Place",
    "Places",
    "Port",
    "Reply",
    "Request",
    "Row",
    "Share",
    "Signal",
    "Strength",
    "Text",
    "UnsetType",
    "Word",
    "said",
]
