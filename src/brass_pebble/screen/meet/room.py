"""What a step of meeting a device may ask of the view that it runs in."""

from __future__ import annotations

from typing import Any, Protocol

from textual.app import App

from brass_pebble.core.desk.look.drawn import ControlRow, DrawnRow
from brass_pebble.protocol.base import Reply
from brass_pebble.protocol.devices import Proposal
from brass_pebble.protocol.rows import DeviceRow
from brass_pebble.screen.known import Known


class MeetRoom(Protocol):
    """The view as its steps see it: the devices, one drawing, a list of proposals, and the way to the engine."""

    known: Known
    surface_id: str
    heard_from: set[str]

    @property
    def app(self) -> App[object]:
        """The application, for sheets on top."""

    @property
    def rows(self) -> list[DeviceRow]:
        """The devices that are listed."""

    @property
    def device(self) -> DeviceRow | None:
        """The device that is chosen."""

    def show_phrases(self, surface: str) -> None:
        """Go on with the phrases of a microphone that was taken over."""

    async def ask(self, do: str, **fields: Any) -> Reply | None:
        """Ask the engine; None if it refused, which the person was told."""

    def notify(self, message: str, *, timeout: float | None = None) -> None:
        """Tell the person something."""

    async def pause(self, seconds: float) -> None:
        """Wait, unless the view is left meanwhile."""

    async def proposals(self, device: str) -> list[Proposal] | None:
        """Drawings that a device may want, the likeliest first."""

    def choose(self, device: str) -> None:
        """Choose a device of the list."""

    def surface_controls(self) -> list[ControlRow]:
        """The controls of the surface that is being met."""

    def draw(self, controls: list[DrawnRow], *, seen: set[str] | None = None, selected: str = "") -> None:
        """Show a drawing; `seen` are controls that were pressed already."""

    def marked(self) -> str:
        """The control that is chosen on the drawing."""

    def mark(self, control: str) -> None:
        """Choose a control on the drawing."""

    def list_proposals(self, texts: list[str]) -> None:
        """Fill the list beside the drawing."""

    def choose_proposal(self, by: int) -> None:
        """The next one of the list, or the one before."""

    def proposal_at(self) -> int:
        """Which of the list is chosen."""

    def lay_out(self) -> None:
        """Share the room again."""

    async def go_on(self, surface_id: str, step: str, proposals: list[Proposal] | None = None) -> None:
        """To another step."""

    async def action_leave(self) -> None:
        """Back to the view before."""
