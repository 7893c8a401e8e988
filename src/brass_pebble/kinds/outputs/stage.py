"""Sends effects to the stage: simulated programs instead of real ones."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from brass_pebble import file_access
from brass_pebble.core.desk.layer_switch import FocusedWindow, fits
from brass_pebble.core.effects.kinds import KEY, KINDS, MOTION, kind_of, tell
from brass_pebble.core.play.player import Effect
from brass_pebble.core.say.limits import load_tables
from brass_pebble.core.signals.key_places import Places
from brass_pebble.core.signals.keymap import Typist
from brass_pebble.core.stage.program import Reaction, StageProgram

from .base import Abilities


class StageOutput(Abilities):
    """Stage programs as receivers.  Reactions pile up in `reactions` until the engine takes them.

    `focused` is the program that has the focus: the others hear only if they hear always.
    """

    takes = frozenset(KINDS)

    def __init__(self, programs: dict[str, StageProgram]) -> None:
        self.programs = programs
        self.reactions: list[Reaction] = []
        self.changed = True
        self.focused = next(iter(programs), "")

    def windows(self) -> list[FocusedWindow]:
        """Its programs are the windows; one that has a dialog open is called after it."""
        return [FocusedWindow(program.name, program.window or program.name) for program in self.programs.values()]

    def focused_window(self) -> FocusedWindow | None:
        """The program that has the focus."""
        program = self.programs.get(self.focused)
        return FocusedWindow(program.name, program.window or program.name) if program is not None else None

    def is_there(self, pattern: str, *, focused: bool) -> bool:
        """Whether a program or a dialog fits; a dialog that is open has the focus of its program."""
        names = [(program.name, not program.window) for program in self.programs.values()]
        names += [(program.window, True) for program in self.programs.values() if program.window]
        return any(fits(pattern, name) and (has_focus or not focused) for name, has_focus in names)

    def focus(self, name: str) -> None:
        """Give a program the focus."""
        wanted = name if name in self.programs else next(
            (key for key, program in self.programs.items() if program.name == name), "")
        if wanted:
            self.focused, self.changed = wanted, True

    def send(self, effects: list[Effect], now: int) -> None:
        for code, value, _, run in effects:
            kind = kind_of(code)
            if kind not in (KEY, MOTION):
                words = tell(code, value)
                for program in self.programs.values():
                    program.hear(words, now, run, self.reactions)
                continue
            if kind is MOTION:
                continue
            for name, program in self.programs.items():
                # A key that went down in a program goes up there, too, whoever has the focus by then.
                if name == self.focused or program.hears_always or (not value and program.has_down(code)):
                    program.take_key(code, value, now, run, self.reactions, focused=name == self.focused)
        self.changed = True

    def press(self, codes: tuple[int, ...]) -> bool:
        return False

    def use(self, places: Places) -> None:
        """Its programs know keys by their names."""

    def left_down(self) -> list[int]:
        return []

    def next_deadline(self) -> int | None:
        dues = [due for program in self.programs.values() if (due := program.next_deadline()) is not None]
        return min(dues) if dues else None

    def advance(self, now: int) -> None:
        for program in self.programs.values():
            due = program.next_deadline()
            if due is not None and due <= now:
                program.advance(now, self.reactions)
                self.changed = True

    def close(self) -> None:
        """Nothing to close."""


def read_programs(folder: Path, names: Iterable[str], typist: Typist | None = None) -> dict[str, StageProgram]:
    """The programs called `names` from `folder/NAME.toml`, with the keyboard layout that `typist` types for; unknown
    ones are left out."""
    programs = {}
    for name in names:
        file = folder / f"{name}.toml"
        if file.is_file():
            programs[name] = StageProgram(load_tables(file_access.read_text(file)), typist)
    return programs
