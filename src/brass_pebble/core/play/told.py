"""A press as it is told: rows with names and types.  Data only."""

from __future__ import annotations

from typing import Annotated

from msgspec import Struct

from brass_pebble.core.say.field_values import said


class SentRow(Struct, frozen=True, kw_only=True):
    """One effect of a run.  Times count from the run's start."""

    key: str
    down: bool
    planned_ms: float
    at_ms: float


class ReactionRow(Struct, frozen=True, kw_only=True):
    """What a stage program did."""

    program: str
    text: str
    at_ms: float
    good: bool


class TraceRow(Struct, frozen=True, kw_only=True):
    """The account of one press, from arrival to last effect."""

    id: int
    at: Annotated[float, said("seconds since 1970")]
    origin: Annotated[str, said("`press`, or the client that played it")]
    surface: str
    surface_name: str
    control: str
    gesture: str
    strength: int
    layer: str
    layer_name: str
    action: str
    target: str
    words: str
    state: Annotated[str, said("`playing`, `holding`, `queued`, `done`, `stopped` or `nothing`")]
    why: str
    remarks: Annotated[list[str], said("a bounce ignored, a second arrival dropped, …")]
    run: int
    length_ms: float
    holds: bool
    held_ms: float | None
    first_ms: Annotated[float | None, said("from arrival to the first effect")]
    lasted_ms: Annotated[float | None, said("from the first effect to the last")]
    ended_ms: float | None
    late_ms: Annotated[float, said("the latest step")]
    raw: Annotated[str, said("what the device itself reported, and its node")]
    count: Annotated[int, said("effects in all; `sent` has the first 200")]
    sent: list[SentRow]
    shared: Annotated[list[str], said("keys that another run held")]
    reactions: list[ReactionRow]
    sentence: str
