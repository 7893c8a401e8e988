"""What stands on the caps can be read: a text recogniser (tesseract) reads pictures of real terminal windows."""

from __future__ import annotations

import asyncio
import contextlib
import os
import re
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from PIL import Image, ImageOps

from brass_pebble.screen.widgets.caps import cell_box, far_label
from brass_pebble.screen.widgets.surface_drawing import SurfaceDrawing
from conftest import wait_for
from displays import display_server
from fake_link import screen_on
from needed import needs
from terminal import BRASS_PEBBLE, Terminal
from typed_in import type_into

# Labels of the demo that are whole at every size.
LABELS = ("stop", "wide", "hob", "oven", "rye", "close", "table", "guest", "title", "start", "lamp", "rec", "next cam",
          "bell", "drum", "crust", "clap", "pan", "door", "duck", "music off", "cough", "marker")
# Columns and rows of the window, and the font: xterm's own one, or a common one.
WINDOWS = [(size, font) for size in ((160, 40), (80, 24)) for font in ("default", "DejaVu Sans Mono")]
# The least share that is read, of plain letters, and of large ones from far away.
LEAST, LEAST_FAR = 0.95, 0.9
FOLD = 3
# How large what is read from far away is, beside what stands on the screen.
FAR = 0.35


def places(screen: str) -> list[tuple[str, int, int]]:
    """The labels that are shown, with column and row; where the stage tells its state is no cap."""
    found = []
    lines = screen.splitlines()
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


@dataclass
class Window:
    """A terminal window with the demo in it, as it stands when nothing moves any more."""

    image: Image.Image
    wide: int
    high: int


@contextlib.contextmanager
def window_of(size: tuple[int, int], font: str, folder: Path, keys: str = "", **given: str) -> Iterator[Window]:
    """The demo in a real xterm on a display of its own, after these keys.  Nothing else is set than what is given."""
    name = f":{560 + os.getpid() % 300}"
    server = display_server(name, "1400x900x24")
    try:
        pipe, file = folder / "pipe", folder / "desk.png"
        os.mkfifo(pipe)
        environment = {key: value for key, value in os.environ.items()
                       if key not in ("COLORTERM", "TERM", "BRASS_PEBBLE_SIGNS", "COLUMNS", "LINES", "TMUX")}
        looks = [] if font == "default" else ["-fa", font, "-fs", "10"]
        window = subprocess.Popen(
            ["xterm", *looks, "-geometry", f"{size[0]}x{size[1]}+0+0", "-b", "0", "-bw", "0", "-title", "reading", "-e",
             sys.executable, str(Path(__file__).parent / "typed_in.py"), str(pipe), BRASS_PEBBLE, "demo"],
            env={**environment, **given, "DISPLAY": name}, stderr=subprocess.DEVNULL)

        def picture() -> Image.Image:
            subprocess.run(["import", "-display", name, "-window", "root", "-strip", str(file)], check=True)
            return Image.open(file).convert("L")
        told = ""

        def there() -> bool:
            nonlocal told
            assert window.poll() is None, "the window has closed"
            told = subprocess.run(["xwininfo", "-display", name, "-name", "reading"], capture_output=True, text=True,
                                  check=False).stdout
            # It begins with a single dot.
            return re.search(r"Width: \d{3}", told) is not None

        def stands_still() -> None:
            """Drawn, and the same twice: nothing moves any more."""
            before = b""

            def stands() -> bool:
                nonlocal before
                now = picture().crop((0, 0, wide, high))
                last, before = before, now.tobytes()
                time.sleep(0.5)
                return last == before and len(set(before)) > 5
            wait_for(stands, seconds=60)
        try:
            wait_for(there)
            wide, high = (int(re.search(rf"{word}: (\d+)", told)[1]) for word in ("Width", "Height"))  # type: ignore[index]
            stands_still()
            if keys:
                before = picture().tobytes()
                type_into(pipe, keys.encode())
                wait_for(lambda: picture().tobytes() != before)
                stands_still()
            yield Window(picture(), wide // size[0], high // size[1])
        finally:
            type_into(pipe, b"q")
            window.wait(timeout=30)
    finally:
        server.terminate()
        server.wait(timeout=10)


@pytest.mark.parametrize(("size", "font"), WINDOWS)
def test_the_labels_of_the_desk_are_read_in_a_terminal_as_it_comes(size: tuple[int, int], font: str, tmp_path: Path
                                                                   ) -> None:
    needs("Xvfb", "xterm", "import", "xwininfo", "tesseract", "font DejaVu Sans Mono")
    # Where the labels stand, in a terminal that can be read back.
    beside = Terminal("demo", size=size, large=True)
    try:
        wanted = places(beside.wait(lambda screen: "No press yet" in screen and "◉ Ovenlight" in screen))
    finally:
        beside.keys("q")
        beside.wait("ended with 0")
        beside.close()
    assert len(wanted) >= len(LABELS)
    with window_of(size, font, tmp_path) as shown:
        missed = []
        for label, x, y in wanted:
            box = (x * shown.wide, y * shown.high, (x + len(label)) * shown.wide, (y + 1) * shown.high)
            if (seen := read(shown.image.crop(box), tmp_path / "label.png")).lower().strip(" .|_") != label:
                missed.append((label, seen))
    assert len(missed) <= (1 - LEAST) * len(wanted), missed


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
    needs("Xvfb", "xterm", "import", "xwininfo", "tesseract", "font DejaVu Sans Mono")
    size = (160, 40)
    caps = caps_alone(desk, tmp_path, size)
    assert len(caps) > 12
    missed = []
    with window_of(size, "DejaVu Sans Mono", tmp_path, "z", BRASS_PEBBLE_SIGNS="full") as shown:
        for label, (x, y, wide, high) in caps:
            cap = shown.image.crop((x * shown.wide, y * shown.high, (x + wide) * shown.wide, (y + high) * shown.high))
            if (seen := read(cap, tmp_path / "label.png", FAR)).lower().strip(" .|_") != label.lower():
                missed.append((label, seen))
    assert len(missed) <= (1 - LEAST_FAR) * len(caps), missed
