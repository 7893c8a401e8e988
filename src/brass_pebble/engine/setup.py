"""How an engine is to run."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from brass_pebble.core.desk.model import Desk
from brass_pebble.core.stage.program import StageProgram
from brass_pebble.kinds.inputs.bench import Bench
from brass_pebble.kinds.outputs.base import Output

from .disk.store import DeskStore
from .runs.script import Script


@dataclass
class Setup:
    """How an engine is to run: its desk, the bench's devices, the stage's programs, the class it can play, and the
    files in which it remembers devices and counts presses."""

    store: DeskStore
    socket: Path
    open_output: Callable[[Desk], Output]
    bench: Bench = field(default_factory=Bench)
    real_devices: bool = True
    script: Script | None = None
    until_left: bool = False
    may_lack_output: bool = False
    known: Path | None = None
    stage: Path | None = None
    history: Path | None = None
    # What is made of the desk before it is used, and the programs that macros are rehearsed with.
    seen: Callable[[Desk], Desk] = lambda desk: desk
    programs: Callable[[], dict[str, StageProgram]] | None = None
    # The process that started it, by its id; 0 if that does not count.
    started_by: int = 0
