"""A desk of the person's own put on the bench: simulated devices, and programs made of its shortcut tables.

Nothing of it is remembered of real devices, counted, or sent to real programs.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from brass_pebble.core.desk.benched import device_of, on_bench
from brass_pebble.core.desk.model import Desk
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.keymap import Typist
from brass_pebble.core.stage.made import AnyProgram, program_of
from brass_pebble.core.stage.program import StageProgram
from brass_pebble.kinds.inputs.bench import Bench
from brass_pebble.kinds.outputs.xkb import typist

from .shortcut_files import read_tables

ANYTHING = "anything"


@dataclass
class BenchDesk:
    """The bench of one desk, in a folder; its devices follow the desk's surfaces."""

    folder: Path
    bench: Bench = field(default_factory=Bench)
    names: tuple[str, ...] = ()

    def seen(self, desk: Desk) -> Desk:
        """The desk with a device for each surface, and what it sends to."""
        for surface in desk.surfaces.values():
            facts = device_of(surface)
            self.bench.devices[facts.id], self.bench.shapes[facts.id] = facts, surface.layout
            self.bench.doubled.setdefault(facts.id, {})
        for name in self.bench.devices.keys() - {f"bench/{name}" for name in desk.surfaces}:
            del self.bench.devices[name]
        if not self.names:
            self.names = tuple(self.programs_of(desk))
        return on_bench(desk, self.names)

    def programs_of(self, desk: Desk) -> dict[str, StageProgram]:
        """The programs, with the keyboard that the desk names."""
        return self.programs(_typist(desk))

    def programs(self, types: Typist | None = None) -> dict[str, StageProgram]:
        """A program for each table in the desk's folder `programs`, and one for whatever they do not have."""
        tables, _ = read_tables((self.folder / "programs", "yours"))
        found: dict[str, StageProgram] = {table.id: program_of(table, types) for table in tables}
        return {**found, ANYTHING: AnyProgram(tables, types)}


def _typist(desk: Desk) -> Typist | None:
    try:
        return typist(desk.keyboard)
    except ProblemError:
        # Told with the desk.
        return None
