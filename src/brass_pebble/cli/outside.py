"""What the screen needs of the machine beside the engine."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec

from brass_pebble import paths
from brass_pebble.core.desk.look.drawn import BareSurface
from brass_pebble.core.parcel.look import Look, Reaching, readable_in
from brass_pebble.core.parcel.merge import Mine
from brass_pebble.core.say.finding import Finding
from brass_pebble.core.signals.keymap import Typist
from brass_pebble.screen.outside import ScreenMemory


def _memory() -> Path:
    return paths.state_folder() / "screen.json"


class OutsideHere:
    """This machine.  What it takes is loaded when it is asked for, since a screen is there sooner without it."""

    def recall(self) -> ScreenMemory:
        from brass_pebble import file_access
        try:
            return msgspec.json.decode(file_access.read_bytes(_memory()), type=ScreenMemory)
        except (OSError, msgspec.DecodeError):
            return ScreenMemory()

    def remember(self, memory: ScreenMemory) -> None:
        from brass_pebble import file_access
        with contextlib.suppress(OSError):
            file_access.private_folder(_memory().parent)
            file_access.write_text(_memory(), msgspec.json.encode(memory).decode(), file_access.PRIVATE_FILE)

    def exports(self) -> Path:
        return paths.exports_folder()

    def typist(self, keyboard: str) -> Typist:
        from brass_pebble.kinds.outputs.xkb import typist
        return typist(keyboard)

    def checkup(self, desk: Path) -> Iterator[Finding]:
        from brass_pebble.machine.checkup import checkup
        return checkup(desk)

    def look_at(self, file: Path, desk: str) -> Look:
        from brass_pebble.engine.disk.packages.intake import look
        from brass_pebble.engine.disk.packages.package_reader import read_apart
        return look(read_apart(file), _store(desk))

    def drawn(self, look: Look, desk: str) -> tuple[dict[str, BareSurface], Mine]:
        from brass_pebble.core.parcel.look import drawn_surfaces
        from brass_pebble.engine.disk.packages.parcel_file import mine_of
        store = _store(desk)
        return drawn_surfaces(look.parcel, store.layout), mine_of(store)

    def pack(self, desk: str, surfaces: list[str], macros: list[str]) -> tuple[bytes, list[Reaching]]:
        from brass_pebble.engine.disk.packages.parcel_file import pack_desk, parcel_of
        data = pack_desk(_store(desk), surfaces=surfaces, macros=macros)
        return data, readable_in(parcel_of(data))


def _store(folder: str) -> Any:
    """The store of a desk that is only read."""
    from brass_pebble.engine.disk.store import DeskStore
    desk = Path(folder)
    return DeskStore(desk, paths.state_folder() / "versions" / paths.desk_key(desk), paths.user_layouts(),
                     paths.approvals_file(desk))
