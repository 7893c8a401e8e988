"""What stands on the caps can be read: a text recogniser (tesseract) reads pictures of real terminal windows."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from pathlib import Path

import pytest
from PIL import Image, ImageOps

from conftest import wait_for
from needed import needs
from terminal import BRASS_PEBBLE, Terminal
from typed_in import type_into

# Labels of the demo that are whole at every size.
LABELS = ("stop", "wide", "hob", "oven", "rye", "close", "table", "guest", "title", "start", "lamp", "rec", "next cam",
          "bell", "drum", "crust", "clap", "pan", "door", "duck", "music off", "cough", "marker")
# Columns and rows of the window, and the font: xterm's own one, or a common one.
WINDOWS = [(size, font) for size in ((160, 40), (80, 24)) for font in ("default", "DejaVu Sans Mono")]
# The least share that is read.
LEAST = 0.95
FOLD = 3


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


def read(picture: Image.Image, file: Path) -> str:
    """What the recogniser makes of one line, cut out and enlarged threefold."""
    if sorted(picture.tobytes())[picture.width * picture.height // 2] < 128:
        picture = ImageOps.invert(picture)
    picture = ImageOps.autocontrast(picture)
    ground = sorted(picture.tobytes())[picture.width * picture.height * 3 // 4]
    picture = ImageOps.expand(picture, 8, ground)
    picture.resize((picture.width * FOLD, picture.height * FOLD), Image.Resampling.BICUBIC).save(file)
    done = subprocess.run(["tesseract", str(file), "-", "--psm", "7"], capture_output=True, text=True, check=True)
    return done.stdout.strip()


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
    name = f":{560 + os.getpid() % 300}"
    server = subprocess.Popen(["Xvfb", name, "-screen", "0", "1400x900x24"], stderr=subprocess.DEVNULL)
    try:
        wait_for(lambda: Path(f"/tmp/.X11-unix/X{name[1:]}").exists())
        pipe, size_file, picture_file = tmp_path / "pipe", tmp_path / "size", tmp_path / "desk.png"
        os.mkfifo(pipe)
        # Nothing is set: neither colours nor signs.
        given = {key: value for key, value in os.environ.items()
                 if key not in ("COLORTERM", "TERM", "BRASS_PEBBLE_SIGNS", "COLUMNS", "LINES", "TMUX")}
        looks = [] if font == "default" else ["-fa", font, "-fs", "10"]
        window = subprocess.Popen(
            ["xterm", *looks, "-geometry", f"{size[0]}x{size[1]}+0+0", "-b", "0", "-bw", "0", "-title", "reading", "-e",
             sys.executable, str(Path(__file__).parent / "typed_in.py"), str(pipe), BRASS_PEBBLE, "demo"],
            env={**given, "DISPLAY": name}, stderr=subprocess.DEVNULL)

        def picture() -> Image.Image:
            subprocess.run(["import", "-display", name, "-window", "root", "-strip", str(picture_file)], check=True)
            return Image.open(picture_file).convert("L")
        try:
            told = ""

            def there() -> bool:
                nonlocal told
                assert window.poll() is None, "the window has closed"
                told = subprocess.run(["xwininfo", "-display", name, "-name", "reading"], capture_output=True,
                                      text=True, check=False).stdout
                # It begins with a single dot.
                return re.search(r"Width: \d{3}", told) is not None
            wait_for(there)
            wide, high = (int(re.search(rf"{word}: (\d+)", told)[1]) for word in ("Width", "Height"))  # type: ignore[index]
            cell = wide // size[0], high // size[1]
            # Drawn, and the same twice: nothing moves any more.
            before = b""

            def stands() -> bool:
                nonlocal before
                now = picture().crop((0, 0, wide, high))
                last, before = before, now.tobytes()
                time.sleep(0.5)
                return last == before and len(set(before)) > 5
            wait_for(stands, seconds=60)
            image = picture()
            missed = []
            for label, x, y in wanted:
                box = (x * cell[0], y * cell[1], (x + len(label)) * cell[0], (y + 1) * cell[1])
                if (seen := read(image.crop(box), size_file.with_suffix(".png"))).lower().strip(" .|_") != label:
                    missed.append((label, seen))
            assert len(missed) <= (1 - LEAST) * len(wanted), missed
        finally:
            type_into(pipe, b"q")
            window.wait(timeout=30)
    finally:
        server.terminate()
        server.wait(timeout=10)
