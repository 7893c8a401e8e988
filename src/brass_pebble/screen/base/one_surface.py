"""What views of one surface share: which one it is, and the way to the next."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from pathlib import Path
from typing import ClassVar

from textual import on
from textual.binding import BindingType

from brass_pebble.core.desk.look.drawn import SurfaceRow
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.say.saved import Saved
from brass_pebble.screen.known import Known, Spot
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.path_bar import PathBar

from .desk_actions import VISITS, DeskActions
from .view import View


class OneSurfaceView(DeskActions):
    """A view that shows one surface after the other, and a control of it that is chosen."""

    BINDINGS: ClassVar[list[BindingType]] = [*VISITS]

    def __init__(self, known: Known, link: Asks, surface: str = "") -> None:
        super().__init__(known, link)
        self.surface_id = surface
        self.chosen = ""

    def here(self) -> Spot:
        return self.surface_id, self.chosen

    @property
    def row(self) -> SurfaceRow | None:
        """The surface; the first one if the one that was meant went away."""
        surfaces = self.known.desk.surfaces
        return self.known.surface(self.surface_id) or (surfaces[0] if surfaces else None)

    def action_surface(self, by: int) -> None:
        """Another surface."""
        ids = [surface.id for surface in self.known.desk.surfaces]
        if ids:
            at = ids.index(self.surface_id) if self.surface_id in ids else 0
            self.surface_id, self.chosen = ids[(at + by) % len(ids)], ""
            self.show_surface()

    def show_surface(self) -> None:
        """Another surface is shown now."""

    @on(PathBar.Opened)
    def _door(self, message: PathBar.Opened) -> None:
        if message.door == "surface":
            self.app.open_view("surface", surface=self.surface_id, control=self.chosen)  # type: ignore[attr-defined]


async def write_here(view: View, file: Path, write: Callable[[], Saved], says: str, title: str = "Saved") -> bool:
    """Write files, on a thread, into a folder that is made if need be; tell the person which, or why not."""
    def write_there() -> Saved:
        file.parent.mkdir(parents=True, exist_ok=True)
        return write()
    try:
        written = await asyncio.to_thread(write_there)
    except ProblemError as error:
        view.notify(str(error.problem), severity="error", timeout=8)
        return False
    except OSError as error:
        view.notify(f"{file} cannot be written: {error.strerror}. See whether that folder is yours.",
                    severity="error", timeout=8)
        return False
    files = written.files
    more = f" and {len(files) - 1} more" if len(files) > 1 else ""
    view.notify(f"{files[0] if files else file}{more}\n{says}".rstrip(), title=title, timeout=10)
    for note in written.notes:
        view.notify(f"{note[:1].upper()}{note[1:]}.", title="Fonts", severity="warning", timeout=12)
    return True
