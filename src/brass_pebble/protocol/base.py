"""What messages have in common, and the kinds of values that fields hold."""

from __future__ import annotations

from typing import Annotated, ClassVar, TypeVar

from msgspec import UNSET, Meta, Struct, UnsetType

from brass_pebble.core.say.field_values import (
    Id,
    Ids,
    Number,
    Percent,
    Place,
    Places,
    Port,
    Row,
    Share,
    Signal,
    Strength,
    Text,
    Word,
    said,
)

from .version import VERSION

LONGEST_NUMBER = 100


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

    @property
    def topic(self) -> str:
        """Its word."""
        return str(self.__struct_config__.tag)


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
