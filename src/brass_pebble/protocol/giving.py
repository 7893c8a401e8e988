"""Giving on and taking in, what sleeps, and the desk's history."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

from msgspec import Meta, Struct

from .base import Changed, Id, Ids, Reply, Request, Word, said


class Onto(Struct, frozen=True, kw_only=True):
    """How a surface of a package goes onto one that is here."""

    here: Id
    placed: Annotated[dict[Id, Id], Meta(max_length=2_000), said("theirs to mine, by control")]


class TakeIn(Request, frozen=True, kw_only=True, tag="take_in"):
    """Take a package's contents into the desk, as chosen, in one change."""

    reply: ClassVar[type[Reply]] = Changed
    file: Word
    digest: Annotated[Id, said("SHA-256 of the package that the person looked at: another one is refused")] = ""
    choices: Annotated[dict[Word, Id], Meta(max_length=20_000),
                       said("by “surface ID”, “macro ID” …: `take`, `leave` or `both`")] = {}
    onto: Annotated[dict[Id, Onto], Meta(max_length=1_000)] = {}
    approve: Annotated[Ids, said("marks of what is approved")] = []


class AsleepRow(Struct, frozen=True, kw_only=True):
    """Something of somebody else's that reaches outside and is not approved."""

    where: str
    line: int
    does: str
    text: str
    mark: str
    origin: str
    via: Annotated[str, said("the macro by which it does it")]
    values: Any
    changed: Annotated[list[str], said("what has changed since it was approved: lines with + or - before them")] = []


class Asleep(Reply, frozen=True, kw_only=True):
    """What sleeps."""

    asleep: list[AsleepRow]


class AskAsleep(Request, frozen=True, kw_only=True, tag="asleep"):
    """What sleeps until it is approved."""

    reply: ClassVar[type[Reply]] = Asleep


class Approve(Request, frozen=True, kw_only=True, tag="approve"):
    """Approve some of what sleeps, from now on."""

    reply: ClassVar[type[Reply]] = Changed
    marks: Ids = []


class Adopt(Request, frozen=True, kw_only=True, tag="adopt"):
    """Make what came from somebody else the person's own."""

    reply: ClassVar[type[Reply]] = Changed
    names: Annotated[Ids, said("ids of macros or surfaces")] = []
    origin: Annotated[Word, said("all that came with it")] = ""


class VersionRow(Struct, frozen=True, kw_only=True):
    """A change of the desk."""

    number: int
    at: Annotated[float, said("seconds since 1970")]
    words: str
    files: list[str]


class Versions(Reply, frozen=True, kw_only=True):
    """The desk's history."""

    versions: Annotated[list[VersionRow], said("the newest first")]


class AskVersions(Request, frozen=True, kw_only=True, tag="versions"):
    """Every version of the desk."""

    reply: ClassVar[type[Reply]] = Versions


class DifferenceRow(Struct, frozen=True, kw_only=True):
    """Something that differs, in words."""

    words: str
    surface: str
    control: str


class Differences(Reply, frozen=True, kw_only=True):
    """What differs."""

    words: list[DifferenceRow]
    lines: Annotated[list[tuple[str, str]], said("file, line")]
    more: Annotated[int, said("lines that are left out")]


class Compare(Request, frozen=True, kw_only=True, tag="compare"):
    """What differs between two versions; without `other`, between one and the desk as it is now."""

    reply: ClassVar[type[Reply]] = Differences
    one: Annotated[int, Meta(ge=0)] = 0
    other: Annotated[int, Meta(ge=0)] = 0


class Restore(Request, frozen=True, kw_only=True, tag="restore"):
    """The desk as it was after a version, in one change that can be undone."""

    reply: ClassVar[type[Reply]] = Changed
    number: Annotated[int, Meta(ge=0)]
