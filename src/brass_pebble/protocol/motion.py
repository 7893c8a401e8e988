"""What turns, slides and tilts."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, ClassVar

from msgspec import Meta

from brass_pebble.core.play.axis import AxisSettings
from brass_pebble.core.say.setting_fields import exact

from .base import Changed, Id, Reply, Request, said

if TYPE_CHECKING:
    _AxisSettings = Request
else:
    _AxisSettings = exact("_AxisSettings", AxisSettings, Request, needed=False)


class SetAxis(_AxisSettings, frozen=True, kw_only=True, tag="set_axis"):
    """How an axis is read from now on: what is given changes, the rest stays; or as `usual`."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    control: Id
    axis: Annotated[int, Meta(ge=0, le=3)] = 0
    usual: bool = False


class Calibrated(Reply, frozen=True, kw_only=True):
    """It is watched, or what was seen counts from now on."""

    words: Annotated[str, said("what was changed, at its end")] = ""


class Calibrate(Request, frozen=True, kw_only=True, tag="calibrate"):
    """`begin` watching how far a control goes, or `end` it and take what was seen."""

    reply: ClassVar[type[Reply]] = Calibrated
    surface: Id
    control: Id
    step: Annotated[Id, said("`begin` or `end`")] = "end"
