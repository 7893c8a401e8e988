"""Fields of rows and messages made of the settings that there are, so that a new setting is wherever it belongs."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated, Any

import msgspec
from msgspec import UNSET, Meta, UnsetType

from .field_values import Id, Word, said
from .setting import Flag, Number, Setting, Share, Stride, Text, Time, settings_of


def written(name: str, model: type, base: type, leave_out: Iterable[str] = ()) -> Any:
    """A base for structs with a field for each setting of a model, as its file has it; empty: as without it."""
    return _declare(name, base, [
        (row.name, Annotated[_written_type(row), said(row.means)], row.unset)
        for row in settings_of(model).values() if row.name not in leave_out])


def exact(name: str, model: type, base: type, *, needed: bool) -> Any:
    """A base for structs with a field for each setting of a model, as the model has it: all of them, or those that
    are given."""
    return _declare(name, base, [
        (row.name, Annotated[_exact_type(row), said(row.means)]) if needed else
        (row.name, Annotated[_exact_type(row) | UnsetType, said(row.means)], UNSET)
        for row in settings_of(model).values()])


def _declare(name: str, base: type, fields: list[Any]) -> Any:
    return msgspec.defstruct(name, fields, bases=(base,), frozen=True, kw_only=True, module=__name__)


def _written_type(row: Setting) -> Any:
    kinds: dict[type, Any] = {Flag: bool, Text: Word, Stride: Id | int}
    return kinds.get(type(row.kind), Id)


def _exact_type(row: Setting) -> Any:
    kind = row.kind
    if isinstance(kind, Share | Number):
        number = Annotated[float, Meta(ge=kind.least, le=kind.most)]
        return number if row.default is not None else number | None
    if isinstance(kind, Time):
        return Annotated[int, Meta(ge=0, le=kind.most), said("ns")]
    return bool if isinstance(kind, Flag) else Id
