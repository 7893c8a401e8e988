"""What surfaces were used for, and better arrangements."""

from __future__ import annotations

from typing import Annotated, ClassVar

from msgspec import Meta, Struct

from .base import Changed, Id, Ids, Reply, Request, said


class UsedRow(Struct, frozen=True, kw_only=True):
    """What a gesture of a control did, and how often."""

    surface: str
    layer: str
    control: str
    gesture: str
    does: str
    macro: str
    presses: int
    stopped: int
    cancelled: int
    slips: int
    waited: Annotated[int, said("ms")]
    late: Annotated[int, said("µs")]
    latest: Annotated[int, said("µs")]


class Usage(Reply, frozen=True, kw_only=True):
    """The history."""

    on: Annotated[bool, said("whether presses are counted")]
    today: Annotated[int, said("days since 1970")]
    used: list[UsedRow]
    days: list[tuple[int, int]]
    sessions: Annotated[list[tuple[int, int, int, int, int]],
                        said("began, ended: s since 1970; presses, stopped, slips")]
    pairs: Annotated[list[tuple[str, str, str, str, int]], said("surface, what; surface, what; times")]
    slips: Annotated[list[tuple[str, str, str, str, int]], said("surface, control, what, meant, times")]
    late: Annotated[list[tuple[int, int]], said("power of two of µs, presses")]


class AskUsage(Request, frozen=True, kw_only=True, tag="usage"):
    """The history of the last days; days and sessions always of all surfaces."""

    reply: ClassVar[type[Reply]] = Usage
    days: Annotated[int, Meta(ge=0, le=100_000), said("0 for all")] = 0
    surface: Annotated[Id, said("all without it")] = ""


class EraseUsage(Request, frozen=True, kw_only=True, tag="erase_usage"):
    """Forget everything that surfaces did, for good."""


class CountUsage(Request, frozen=True, kw_only=True, tag="count_usage"):
    """Count presses from now on, or no longer."""

    reply: ClassVar[type[Reply]] = Changed
    on: bool = True


class Home(Request, frozen=True, kw_only=True, tag="home"):
    """On which controls of a surface fingers rest."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    home: Annotated[Ids, said("none for the middle")] = []


class Arrange(Request, frozen=True, kw_only=True, tag="arrange"):
    """Move what is bound on a layer, all in one change."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    layer: Id
    moves: Annotated[list[tuple[Id, Id]], Meta(max_length=2_000), said("from, to")] = []
    freed: Annotated[Ids, said("controls that are cleared")] = []
