"""Picking a place of the screen for a macro: click it or rest the pointer there, and choose how it is written."""

from __future__ import annotations

import itertools
import re
from typing import ClassVar

from textual import work
from textual.binding import Binding, BindingType

from brass_pebble.core.macro.reader import read_line
from brass_pebble.core.macro.world_steps import STEPS
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.protocol.layers import PickedPlace
from brass_pebble.screen.base.sheets import Choose
from brass_pebble.screen.base.view import View

from .text import MacroText

SECONDS = 5
_MOVE = re.compile(r"( *)move +to\b[^#]*")


def share(part: int, whole: int) -> str:
    """A part in per cent of the whole, as it is written."""
    return f"{max(0, part) * 100 / max(1, whole - 1):.4g}%"


def ways(place: PickedPlace) -> list[str]:
    """The steps that go to a place: in pixels, as a share of the screen, and of the window that lies there."""
    found = [f"move to {place.x} {place.y}",
             f"move to {share(place.x, place.screen[0])} {share(place.y, place.screen[1])}"]
    if place.window is not None and place.inside is not None and (place.window.cls or place.window.title):
        left, top, width, height = place.inside
        name = f'class "{place.window.cls}"' if place.window.cls else '"' + place.window.title.replace('"', "*") + '"'
        found.append(f"move to {share(place.x - left, width)} {share(place.y - top, height)} of window {name}")
    return found


def written(chosen: int, found: list[str]) -> str:
    """The line, with the other ways to write the place as its note."""
    others = [way.removeprefix("move to ") for index, way in enumerate(found) if index != chosen]
    return f"{found[chosen]}  # {'; '.join(others)}"


def wait_for_look(place: PickedPlace) -> list[str]:
    """The step that waits until a place looks as it does now; none where that is not known."""
    return [f'wait until place {place.x} {place.y} looks "{place.colour}" at most {SECONDS}s'] if place.colour else []


class PicksPlaces(View):
    """A macro's view that writes places into the line of the cursor."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("f11", "pick_place", "pick a place", show=False, priority=True,
                tooltip="pick a place of the screen: click it, or rest the pointer there"),
    ]

    @work(exclusive=True, group="place")
    async def action_pick_place(self) -> None:
        """Count down; the place of the next click, or where the pointer rests then, is written into the line."""
        self.notify(f"Click the place, or let the pointer rest there for {SECONDS} s.", title="Pick a place",
                    timeout=SECONDS)
        reply = await self.ask("pick_place", seconds=float(SECONDS))
        if not isinstance(reply, PickedPlace):
            return
        found, looks = ways(reply), wait_for_look(reply)
        chosen = await self.app.push_screen_wait(Choose("A place was picked", "How is it written?", [*found, *looks]))
        if chosen >= len(found):
            self.write_place(looks[chosen - len(found)])
        elif chosen >= 0:
            self.write_place(written(chosen, found))

    def write_place(self, line: str) -> None:
        """Put it in place of a move in the cursor's line, or below that line."""
        area = self.query_one(MacroText)
        row, _ = area.cursor_location
        there = area.document.get_line(row)
        move = _MOVE.match(there)
        indent = _indent(there)
        if move is not None or not there.strip():
            area.replace(f"{indent}{line}", (row, 0), (row, len(there)))
            return
        after, deeper = below([area.document.get_line(number) for number in range(area.document.line_count)], row)
        end = (after, len(area.document.get_line(after)))
        area.insert(f"\n{deeper}{line}", end)


def below(lines: list[str], row: int) -> tuple[int, str]:
    """Behind which line a new step stands that belongs to a line, and its indent: the first one of its block, but
    behind a block of text."""
    indent = _indent(lines[row])
    block = list(itertools.takewhile(lambda text: not text.strip() or len(_indent(text)) > len(indent),
                                     lines[row + 1:]))
    inside = next((text for text in block if text.strip()), None)
    if inside is None:
        return row, indent
    if not _takes_text(lines[row]):
        return row, _indent(inside)
    return row + max(number for number, text in enumerate(block, start=1) if text.strip()), indent


def _takes_text(line: str) -> bool:
    try:
        rule, _ = read_line(line.strip(), 1)
    except ProblemError:
        return False
    return rule in STEPS and STEPS[rule].takes_lines


def _indent(line: str) -> str:
    return line[:len(line) - len(line.lstrip(" "))]
