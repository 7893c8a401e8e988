"""Adding a kind: what CONTRIBUTING tells, done for real with kinds that nobody has."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import pytest

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.parts import Shares
from brass_pebble.core.effects.kinds import MIDI, NOTE, tell
from brass_pebble.core.play.player import Effect
from brass_pebble.core.signals.key_places import Places
from brass_pebble.core.signals.keys import key_table
from brass_pebble.engine.assemble import assemble
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.inputs import table as inputs
from brass_pebble.kinds.inputs.base import Input, KeyEvent
from brass_pebble.kinds.inputs.bench import BenchInput
from brass_pebble.kinds.inputs.kind import InputKind
from brass_pebble.kinds.outputs import table as outputs
from brass_pebble.kinds.outputs.base import POINTING, Abilities
from brass_pebble.paths import PACKAGE
from jumping_clock import JumpingClock
from recipes import DESK as SMALL
from recipes import ON_AN_ENGINE, RECIPES, Recipe

DESK = """
format = 1
name = "Porch"
output = "slate"

[surface.bell]
name = "Bell"
device = { name = "Brass bell pull" }

[surface.bell.layer.base]
name = "Base"

[surface.bell.layer.base.press]
A = { tap = "Ctrl+Z" }
B = { play = "ring" }
"""


class BellPull(BenchInput):
    """One byte a pull: the control's letter."""

    def __init__(self, facts: DeviceFacts, fileno: int) -> None:
        super().__init__(facts)
        self._fileno = fileno

    def filenos(self) -> Sequence[int]:
        return [self._fileno]

    def read(self, fileno: int) -> Sequence[KeyEvent]:
        now = time.monotonic_ns()
        codes = [key_table().find(chr(byte)).code for byte in os.read(fileno, 64)]
        return [(code, value, now) for code in codes for value in (1, 0)]


class BellKind(InputKind):
    name = "bell"
    of_machine = False
    by_messages = True

    def __init__(self, fileno: int) -> None:
        self._fileno = fileno

    def present(self) -> list[DeviceFacts]:
        return [DeviceFacts("bell/1", "Brass bell pull", kind=self.name)]

    def open(self, facts: DeviceFacts, parts: Sequence[DeviceFacts], shares: Shares | None) -> Input:
        return BellPull(facts, self._fileno)


class Slate(Abilities):
    """Writes down what it is sent; it takes notes, too, which go nowhere else then."""

    takes = POINTING | {MIDI, NOTE}

    def __init__(self) -> None:
        self.written: list[str] = []

    def send(self, effects: list[Effect], now: int) -> None:
        self.written += [f"{tell(code, value)} {'down' if value else 'up'}" for code, value, *_ in effects]

    def press(self, codes: tuple[int, ...]) -> bool:
        return False

    def use(self, places: Places) -> None:
        """Names are enough."""

    def left_down(self) -> list[int]:
        return []

    def next_deadline(self) -> int | None:
        return None

    def advance(self, now: int) -> None:
        """Nothing is due."""

    def close(self) -> None:
        """Nothing to close."""


def test_an_input_and_an_output_of_ones_own_take_a_row_each(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    desk = tmp_path / "porch"
    (desk / "macros").mkdir(parents=True)
    (desk / "desk.toml").write_text(DESK)
    (desk / "macros" / "ring.macro").write_text("tap F13\nwait 50ms\nsend note 60 on 3 strength 90 for 100ms\n")
    pull, rope = os.pipe()
    slate = Slate()
    row: Callable[..., InputKind] = lambda bench, network: BellKind(pull)  # noqa: E731
    monkeypatch.setattr(inputs, "_MAKERS", (*inputs._MAKERS, row))
    monkeypatch.setitem(outputs.OUTPUTS, "slate", lambda desk, stage: slate)
    store = DeskStore(desk, tmp_path / "versions")
    engine = assemble(Setup(store, tmp_path / "socket", lambda desk: outputs.open_output(desk, None),
                            real_devices=False), JumpingClock(patience=0.02))
    assert engine.problems.listed == []
    assert engine.devices.holdings["bell"].state == "taken"
    os.write(rope, b"AB")
    engine.ports.alarms.at("end", engine.ports.now() + 10_000_000_000, lambda now: engine.quit())
    engine.run()
    assert slate.written == ["Ctrl down", "Z down", "F13 down", "Z up", "Ctrl up", "F13 up",
                             "note 60 on 3, strength 90 down", "note 60 on 3 off up"]
    for fileno in (pull, rope):
        os.close(fileno)


@pytest.mark.parametrize("recipe", RECIPES, ids=lambda recipe: recipe.name)
def test_what_is_added_on_a_copy_of_the_program_works_there(recipe: Recipe, tmp_path: Path) -> None:
    copy = tmp_path / "program" / "brass_pebble"
    shutil.copytree(PACKAGE, copy, ignore=shutil.ignore_patterns("__pycache__"))
    for file, line, more in recipe.patches:
        text = (copy / file).read_text()
        assert text.count(line) == 1, (file, line)
        (copy / file).write_text(text.replace(line, line + more))
    for file, text in recipe.files:
        (copy / file).parent.mkdir(exist_ok=True)
        (copy / file).write_text(text)
    desk = tmp_path / "desk"
    (desk / "macros").mkdir(parents=True)
    (desk / "desk.toml").write_text(SMALL)
    here = Path(__file__).parent
    done = subprocess.run(
        [sys.executable, "-c", f"from pathlib import Path\nDESK = Path({str(desk)!r})\n{ON_AN_ENGINE}\n{recipe.shows}"],
        capture_output=True, text=True, timeout=60, check=False, stdin=subprocess.DEVNULL, env={
            **os.environ, "PYTHONPATH": os.pathsep.join(map(str, (copy.parent, here, here.parent / "tools")))})
    assert done.returncode == 0, done.stdout + done.stderr
