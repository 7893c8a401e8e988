"""What turns, slides and tilts."""

from __future__ import annotations

from typing import Annotated, ClassVar

from msgspec import UNSET, Meta, UnsetType

from .base import Answer, Changed, Id, Request, Share, said

Raw = Annotated[float, Meta(ge=-2**31, le=2**31)]


class SetAxis(Request, frozen=True, kw_only=True, tag="set_axis"):
    """How an axis is read from now on: what is given changes, the rest stays; or as `usual`."""

    answer: ClassVar[type[Answer]] = Changed
    surface: Id
    control: Id
    axis: Annotated[int, Meta(ge=0, le=3)] = 0
    usual: bool = False
    dead: Share | UnsetType = UNSET
    full: Share | UnsetType = UNSET
    still: Share | UnsetType = UNSET
    threshold: Share | UnsetType = UNSET
    gap: Share | UnsetType = UNSET
    curve: Annotated[float, Meta(ge=-10, le=10)] | UnsetType = UNSET
    invert: bool | UnsetType = UNSET
    smooth: Annotated[int, Meta(ge=0, le=10**10), said("ns")] | UnsetType = UNSET
    low: Annotated[Raw | UnsetType | None, said("raw, as the device reports it")] = UNSET
    centre: Raw | UnsetType | None = UNSET
    high: Raw | UnsetType | None = UNSET


class Calibrated(Answer, frozen=True, kw_only=True):
    """It is watched, or what was seen counts from now on."""

    words: Annotated[str, said("what was changed, at its end")] = ""


class Calibrate(Request, frozen=True, kw_only=True, tag="calibrate"):
    """`begin` watching how far a control goes, or `end` it and take what was seen."""

    answer: ClassVar[type[Answer]] = Calibrated
    surface: Id
    control: Id
    step: Annotated[Id, said("`begin` or `end`")] = "end"
