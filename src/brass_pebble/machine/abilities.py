"""What steps of a macro want that this machine cannot do: told beside the check, since another machine may."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import cast

from brass_pebble.core.macro.desktop_steps import WindowStep
from brass_pebble.core.macro.place_steps import MoveBack
from brass_pebble.core.macro.reader import walk
from brass_pebble.core.macro.steps import Step
from brass_pebble.core.macro.timetable import Macro
from brass_pebble.core.say.problem import Problem
from brass_pebble.kinds.windows.table import NOWHERE, desktop_kind

HINT = "Write an otherwise for it, or play it on another machine"


def beyond_here(macro: Macro, file: str = "") -> Iterator[Problem]:
    """Each step that this machine cannot do, with its line."""
    if macro.score is None:
        return
    kind = desktop_kind()
    for step in walk(cast("Sequence[Step]", macro.score.steps)):
        if isinstance(step, WindowStep):
            if kind is None:
                yield Problem(f"{NOWHERE}, so it cannot {step.deed} one", file, step.line, hint=HINT)
            elif step.deed not in kind.can:
                yield Problem(f"{kind.source} cannot {step.deed} a window", file, step.line, hint=HINT)
        elif isinstance(step, MoveBack) and (kind is None or "pointer" not in kind.can):
            yield Problem("where the pointer is cannot be told here", file, step.line, hint=HINT)
