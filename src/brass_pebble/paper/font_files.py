"""Where the font of printed things lies, in both weights: DejaVu Sans, cut to Latin, Greek and Cyrillic."""

from __future__ import annotations

from pathlib import Path

FOLDER = Path(__file__).parent / "fonts"
FILES = {False: FOLDER / "DejaVuSans.ttf", True: FOLDER / "DejaVuSans-Bold.ttf"}
