"""What stands on the caps can be read: a text recogniser (tesseract) reads pictures of real terminal windows."""

from __future__ import annotations

import asyncio
import itertools
import re
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PIL import Image, ImageOps

from brass_pebble.screen.widgets.caps import cell_box, far_label
from brass_pebble.screen.widgets.surface_drawing import SurfaceDrawing
from fake_link import screen_on
from needed import needs
from terminal import Terminal
from terminal_windows import KINDS, window_of

# Labels of the demo that are whole at every size.
LABELS = ("stop", "wide", "hob", "oven", "rye", "close", "table", "guest", "title", "start", "lamp", "rec", "next cam",
          "bell", "drum", "crust", "clap", "pan", "door", "duck", "music off", "cough", "marker")
# In the first row: the desk's name.
HEAD = "Saltmarsh"
# What the Phrases view shows of the demo's microphone.
PHRASES = ("replies on the screen", "ring the bell", "set a chapter", "scroll the recipe", "camera", "close", "title",
           "chapter", "lamp", "duck", "bell")
LARGE, MIDDLE, SMALL = (160, 40), (120, 36), (80, 24)
# What stands in a view, and not on the Desk, by its key.
VIEWS = {"J": "phrases count", "l": "Not pressed yet"}
# The kinds of terminals as they come, and what is set besides: kind, columns and rows, the view's key, what is set.
WINDOWS: list[tuple[str, tuple[int, int], str, dict[str, str]]] = [
    *((kind, size, "", {}) for kind, size in itertools.product(("xterm", "xterm with DejaVu"), (LARGE, SMALL))),
    ("xterm in reverse", MIDDLE, "", {}),
    ("console", SMALL, "", {}),
    ("screen", LARGE, "", {}),
    ("tmux", MIDDLE, "", {}),
    ("foot", LARGE, "", {}),
    ("VTE", MIDDLE, "", {}),
    ("xterm", SMALL, "", {"NO_COLOR": "1"}),
    ("xterm", LARGE, "l", {}),
    ("foot", MIDDLE, "l", {}),
    ("xterm with DejaVu", LARGE, "J", {}),
]
# Labels, with column and row.
Places = list[tuple[str, int, int]]
# The least share that is read, of plain letters, and of large ones from far away.
LEAST, LEAST_FAR = 0.95, 0.9
FOLD = 3
# How large what is read from far away is, beside what stands on the screen.
FAR = 0.35


def words_in(screen: str, words: tuple[str, ...]) -> Places:
    """Where these words stand on a screen: column and row."""
    return [(word, match.start(), row) for row, line in enumerate(screen.splitlines()) for word in words
            for match in re.finditer(rf"(?<!\w){re.escape(word)}(?!\w)", line)]


def places(screen: str) -> Places:
    """The labels that are shown, with column and row; where the stage tells its state is no cap."""
    lines = screen.splitlines()
    found = []
    # Above: who has the focus, and the path; below: traces and keys.
    end = next(row for row, line in enumerate(lines) if "No press yet" in line)
    left = min(line.index("Ovenlight") for line in lines[3:] if "Ovenlight" in line) - 4
    top = next(row for row, line in enumerate(lines) if row > 3 and "Ovenlight" in line)
    for label in LABELS:
        for row in range(3, end):
            for match in re.finditer(rf"(?<!\w){re.escape(label)}(?!\w)", lines[row]):
                if row < top or match.start() < left:
                    found.append((label, match.start(), row))
    return found


def read(picture: Image.Image, file: Path, fold: float = FOLD) -> str:
    """What the recogniser makes of one line, cut out and so many times as large."""
    if sorted(picture.tobytes())[picture.width * picture.height // 2] < 128:
        picture = ImageOps.invert(picture)
    picture = ImageOps.autocontrast(picture)
    ground = sorted(picture.tobytes())[picture.width * picture.height * 3 // 4]
    picture = ImageOps.expand(picture, max(8, round(8 / fold)), ground)
    picture.resize((round(picture.width * fold), round(picture.height * fold)), Image.Resampling.BICUBIC).save(file)
    done = subprocess.run(["tesseract", str(file), "-", "--psm", "7"], capture_output=True, text=True, check=True)
    return done.stdout.strip()


def still(beside: Terminal, words: str) -> str:
    """The screen that has these words, when it is the same twice: a view takes its shape when it knows its surfaces."""
    before, now = "", beside.wait(words)
    while now != before:
        time.sleep(0.5)
        before, now = now, beside.wait(words)
    return now


@pytest.fixture(scope="module")
def places_of() -> Iterator[Callable[[tuple[int, int], str, str, dict[str, str]], Places]]:
    """Where the labels stand, in a terminal that can be read back; each is started once."""
    found: dict[tuple[object, ...], Places] = {}

    def find(size: tuple[int, int], view: str, signs: str, given: dict[str, str]) -> Places:
        if (size, view, signs, *given) not in found:
            beside = Terminal("demo", size=size, large=True, BRASS_PEBBLE_SIGNS=signs, **given)
            try:
                screen = beside.wait(lambda screen: "No press yet" in screen and " Ovenlight ─" in screen)
                if view:
                    beside.keys(view)
                    screen = still(beside, VIEWS[view])
                    found[size, view, signs, *given] = words_in(screen, PHRASES if view == "J" else LABELS)
                    beside.keys("Escape")
                else:
                    found[size, view, signs, *given] = places(screen)
            finally:
                beside.keys("q")
                beside.wait("ended with 0")
                beside.close()
        return found[size, view, signs, *given]
    yield find


@pytest.mark.parametrize(("kind", "size", "view", "given"), WINDOWS)
def test_what_stands_there_is_read_in_a_terminal_as_it_comes(
        kind: str, size: tuple[int, int], view: str, given: dict[str, str], tmp_path: Path,
        places_of: Callable[[tuple[int, int], str, str, dict[str, str]], Places]) -> None:
    needs("tesseract")
    wanted = places_of(size, view, KINDS[kind].signs, given)
    assert len(wanted) >= {"": 18 if size == SMALL else len(LABELS), "l": 12, "J": len(PHRASES)}[view]
    with window_of(kind, size, tmp_path, **given) as shown:
        picture = shown.says("No press yet")
        if view:
            picture = shown.after(view, VIEWS[view])
        missed = []
        assert HEAD in read(shown.cells(picture, 0, 0, 30), tmp_path / "label.png"), "the first row"
        for label, x, y in wanted:
            seen = read(shown.cells(picture, x, y, len(label)), tmp_path / "label.png")
            if seen.lower().strip(" .|_") != label:
                missed.append((label, seen))
    print(f"{kind}, {size[0]}×{size[1]}, {view or 'Desk'}: {1 - len(missed) / len(wanted):.0%} of {len(wanted)}")
    # One letter of a small font may be misread in the few that a small window has.
    assert len(missed) <= max(1, (1 - LEAST) * len(wanted)), missed


def caps_alone(desk: Path, folder: Path, size: tuple[int, int]) -> list[tuple[str, tuple[int, int, int, int]]]:
    """What stands in large letters on each cap of the one surface that is shown alone, and the inside of the cap."""
    found: list[tuple[str, tuple[int, int, int, int]]] = []

    async def look() -> None:
        with screen_on(desk, folder) as (app, _):
            async with app.run_test(size=size) as pilot:
                await pilot.pause(0.3)
                await pilot.press("z")
                await pilot.pause(0.3)
                for drawing in app.view.query(SurfaceDrawing):
                    surface = app.known.surface(drawing.surface_id)
                    for control in surface.controls if surface is not None and drawing.display else ():
                        x, y, wide, high = cell_box(control, drawing.unit)
                        if control.kind and control.label:
                            found.append((far_label(control), (drawing.region.x + x + 1, drawing.region.y + y + 2,
                                                               wide - 2, high - 2)))
    asyncio.run(look())
    return found


def test_the_letters_of_one_surface_are_read_from_far_away(desk: Path, tmp_path: Path) -> None:
    """A third as large as on the screen: as from three times the distance."""
    needs("tesseract")
    caps = caps_alone(desk, tmp_path, LARGE)
    assert len(caps) > 12
    missed = []
    with window_of("xterm with DejaVu", LARGE, tmp_path, BRASS_PEBBLE_SIGNS="full") as shown:
        shown.says("No press yet")
        picture = shown.after("z")
        for label, place in caps:
            seen = read(shown.cells(picture, *place), tmp_path / "label.png", FAR)
            if seen.lower().strip(" .|_") != label.lower():
                missed.append((label, seen))
    assert len(missed) <= (1 - LEAST_FAR) * len(caps), missed
