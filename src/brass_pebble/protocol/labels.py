"""Labels."""

from __future__ import annotations

from typing import Annotated, ClassVar

from .base import Changed, Id, Reply, Request, said


class LabelSize(Request, frozen=True, kw_only=True, tag="label_size"):
    """How large the labels of a surface are: of a key of one unit, or of one `control`."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    control: Id = ""
    size: Annotated[Id, said("like `14x14`, in mm; empty for the usual")] = ""


class Icon(Request, frozen=True, kw_only=True, tag="icon"):
    """The icon on the label of a binding."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    layer: Id
    gesture: Id
    control: Id
    icon: Annotated[Id, said("empty for what its words suggest, `none` for no icon")] = ""
