"""Every kind of output that a desk can name.  A new one is a file beside this one, and a row here."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from brass_pebble.core.desk.model import Desk
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.keymap import Typist

from .base import Output
from .stage import StageOutput, read_programs


def _uinput(desk: Desk, stage: Path | None) -> Output:
    # The package is slow to import.
    from .uinput import UinputOutput
    return UinputOutput(desk.screen)


def _x11(desk: Desk, stage: Path | None) -> Output:
    from .x11 import X11Output
    return X11Output()


def _stage(desk: Desk, stage: Path | None) -> Output:
    return StageOutput(read_programs(stage, [place.program for place in desk.stage], _typist(desk)) if stage else {})


def _typist(desk: Desk) -> Typist | None:
    from .xkb import typist
    try:
        return typist(desk.keyboard)
    except ProblemError:
        # Told with the desk.
        return None


OUTPUTS: dict[str, Callable[[Desk, Path | None], Output]] = {"uinput": _uinput, "x11": _x11, "stage": _stage}


def open_output(desk: Desk, stage: Path | None) -> Output:
    """The output that a desk names; `stage` is the folder of the stage's programs.

    Raises:
        OutputError: it cannot be opened; the text says why and what to do.
    """
    return OUTPUTS[desk.output](desk, stage)
