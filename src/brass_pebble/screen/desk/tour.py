"""Five steps for somebody who has never used the program, on their own desk: each is over when it has been done."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from rich.text import Text
from textual import events
from textual.message import Message
from textual.widgets import Static

from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.known import Known

HIDE = "Ctrl+T: hide"


class Step(NamedTuple):
    """What to do, and how it is known to be done."""

    words: str
    done: Callable[[Known], bool]


def _bound(known: Known) -> bool:
    return any(layer.bindings for surface in known.desk.surfaces for layer in surface.layers)


STEPS = (
    Step("Meet a device: press M, then any key on a spare keyboard, numpad, pad or pedal.",
         lambda known: bool(known.desk.surfaces)),
    Step("Bind a key: select one, press b, type a chord such as ctrl+alt+1, then Enter.", _bound),
    Step("Press that key on its device. The line at the foot says what was sent.",
         lambda known: any(trace.surface for trace in known.traces)),
    Step("Write a macro: select another key, press O, type a name, then Enter. In the text, write: type \"Hello\"",
         lambda known: bool(known.desk.macros)),
    Step("Know the way back: x stops everything, u undoes, H takes hands off. Press x now.",
         lambda known: known.stopped),
)


def step_now(known: Known) -> int:
    """The index of the first step that is not done yet; as many as there are if all are."""
    return next((index for index, step in enumerate(STEPS) if not step.done(known)), len(STEPS))


class Tour(Static):
    """The step that comes next."""

    DEFAULT_CSS = """
    Tour { height: auto; padding: 0 1; background: $primary 20%; display: none; }
    Tour.shown { display: block; }
    """

    class Hidden(Message):
        """A click: it is not wanted."""

    def show(self, index: int, wanted: bool) -> None:
        """Show this step, or nothing."""
        shown = wanted and index < len(STEPS)
        self.set_class(shown, "shown")
        if shown:
            palette: Palette = self.app.palette  # type: ignore[attr-defined]
            self.update(Text.assemble((f"{index + 1} of {len(STEPS)}   ", f"bold {palette.brass}"), STEPS[index].words,
                                      (f"   {HIDE}", palette.dim)))

    def on_click(self, event: events.Click) -> None:
        """It goes away."""
        event.stop()
        self.post_message(self.Hidden())
