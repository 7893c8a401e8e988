"""Devices of the network: MIDI sessions and OSC."""

from __future__ import annotations

from typing import Annotated, ClassVar

from .base import Changed, Id, Port, Reply, Request, Word, said
from .rows import Struct


class PeerRow(Struct, frozen=True, kw_only=True):
    """Somebody who takes part, or asks to."""

    kind: Annotated[str, said("`midi` or `osc`")]
    name: Annotated[str, said("empty for OSC")]
    host: str
    port: Annotated[int, said("0 for OSC")]
    state: Annotated[str, said("`connected`, `joining`, `invited` or `asks`")]
    for_ms: Annotated[float, said("since when")]
    latency_ms: float
    lost: Annotated[int, said("packets that never came")]
    late: Annotated[int, said("packets that came after a later one")]
    dropped: Annotated[int, said("messages beyond what one may send")]
    messages: int
    malformed: Annotated[int, said("packets that could not be read")]
    surface: Annotated[str, said("the surface that it is, if it is one")]


class FoundRow(Struct, frozen=True, kw_only=True):
    """A session of the local network."""

    name: str
    host: str
    port: int


class AdmittedRow(Struct, frozen=True, kw_only=True):
    """Somebody who was let in."""

    name: Annotated[str, said("empty for OSC")]
    host: str


class SessionsRow(Struct, frozen=True, kw_only=True):
    """What is open, and who takes part."""

    midi: Annotated[int, said("the port, 0 if closed")]
    osc: Annotated[int, said("the port, 0 if closed")]
    name: str
    listen: str
    peers: list[PeerRow]
    found: Annotated[list[FoundRow], said("sessions of the local network")]
    admitted: Annotated[list[AdmittedRow], said("who was let in")]


class Sessions(Reply, SessionsRow, frozen=True, kw_only=True):
    """What is open, and who takes part."""


class AskSessions(Request, frozen=True, kw_only=True, tag="sessions"):
    """Who is connected, who asks, what is open."""

    reply: ClassVar[type[Reply]] = Sessions


class Admit(Request, frozen=True, kw_only=True, tag="admit"):
    """Let somebody in from now on, or no longer."""

    name: Annotated[Word, said("empty for OSC")] = ""
    host: Id
    yes: bool = True


class Invite(Request, frozen=True, kw_only=True, tag="invite"):
    """Ask another computer to take part in our session."""

    host: Id
    port: Port = 5004
    name: Word = ""


class Dismiss(Request, frozen=True, kw_only=True, tag="dismiss"):
    """End somebody's part in the session; they may come again."""

    name: Word = ""
    host: Id = ""


class OpenNetwork(Request, frozen=True, kw_only=True, tag="open_network"):
    """Open MIDI sessions or OSC at a port, or close them with port 0."""

    reply: ClassVar[type[Reply]] = Changed
    what: Annotated[Id, said("`midi` or `osc`")] = "midi"
    port: Annotated[Port | None, said("the usual one without it")] = None
