"""How a parcel is chosen to be looked at, and how one is made."""

from __future__ import annotations

import asyncio
import re
from pathlib import Path
from typing import TYPE_CHECKING

from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.say.saved import Saved
from brass_pebble.screen.base.one_surface import write_here
from brass_pebble.screen.base.sheets import AskText, Choose
from brass_pebble.screen.known import NO_CONTROL, Spot
from brass_pebble.screen.labels.choices import Choice

if TYPE_CHECKING:
    from brass_pebble.screen.base.view import View


# So many of the texts in a parcel are shown before it is written.
MOST_SHOWN = 12


async def open_parcel(view: View) -> None:
    """Ask which file, read it, and open the view that shows it."""
    here = sorted((file for folder in (Path.cwd(), view.outside.exports()) for file in folder.glob("*.zip")),
                  key=lambda file: -file.stat().st_mtime)
    answer = await view.app.push_screen_wait(AskText(
        "Import", "File to import. You see what is in it before anything changes.",
        str(here[0]) if here else ""))
    if not answer:
        return
    file = Path(answer).expanduser()
    try:
        found = await asyncio.to_thread(view.outside.look_at, file, view.known.desk.folder)
    except ProblemError as error:
        view.notify(str(error.problem), title=file.name, severity="error", timeout=12)
        return
    except OSError as error:
        view.notify(f"{file} cannot be read: {error.strerror}. Write its whole path.", severity="error", timeout=8)
        return
    view.app.open_view("take in", look=found, file=str(file.resolve()))  # type: ignore[attr-defined]


async def give(view: View, selected: Spot) -> None:
    """Ask what, and pack it among the person's documents."""
    surface = view.known.surface(selected[0])
    control = view.known.control(selected) or NO_CONTROL
    rows: list[tuple[str, tuple[str, str]]] = [("the whole desk", ("desk", view.known.desk.name))]
    if surface is not None:
        rows.append((f"the surface {surface.name}, with what it plays", (surface.id, surface.name)))
    if control.kind == "play":
        rows.append((f"the macro {control.words}", (f"macro {control.target}", control.target)))
    chosen = await view.app.push_screen_wait(Choice("Export", f"One file, into {view.outside.exports()}:", rows))
    if chosen is None:
        return
    what, name = chosen
    file = view.outside.exports() / f"{re.sub(r'[^a-z0-9]+', '-', name.lower()).strip('-') or 'desk'}.zip"
    macro = what.removeprefix("macro ") if what.startswith("macro ") else ""
    try:
        data, readable = await asyncio.to_thread(view.outside.pack, view.known.desk.folder,
                                                 [] if what == "desk" or macro else [what], [macro] if macro else [])
    except ProblemError as error:
        view.notify(str(error.problem), severity="error", timeout=8)
        return
    if readable:
        says = "\n".join([f"{row.reach.does}: {row.reach.text[:60]}" for row in readable[:MOST_SHOWN]]
                         + ([f"… and {len(readable) - MOST_SHOWN} more"] if len(readable) > MOST_SHOWN else []))
        if await view.app.push_screen_wait(Choose("Export", f"Anyone who gets this file can read:\n{says}",
                                                  [f"Write {file.name}", "Cancel"])) != 0:
            return

    def write() -> Saved:
        file.write_bytes(data)
        return Saved([file], [])
    await write_here(view, file, write, "Not included: serial numbers, ports, network settings, history, secrets.",
                     title="Packed")
