"""Makes the samples in docs/samples anew: labels, a map, cards and charts of the demo's desk, and it as a parcel."""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

PROJECT = Path(__file__).parent.parent
TARGET = PROJECT / "docs" / "samples"
# What is made: words of the command line; @ stands for the folder.
COMMANDS = (
    ("labels", "left-numpad", "-o", "@/left-numpad-labels.pdf"),
    ("labels", "left-numpad", "-o", "@/left-numpad-labels.svg"),
    ("labels", "left-numpad", "--layer", "class", "--layer", "titles", "--layer", "cut",
     "-o", "@/left-numpad-layers.pdf"),
    ("labels", "pads", "-o", "@/pads-labels.pdf"),
    ("labels", "pedals", "--paper", "letter", "-o", "@/pedals-labels-letter.pdf"),
    ("map", "left-numpad", "-o", "@/left-numpad-map.pdf"),
    ("map", "left-numpad", "--card", "-o", "@/left-numpad-cards.pdf"),
    ("usage", "-o", "@/usage.pdf"),
    ("desk", "export", "@/saltmarsh-bakehouse.zip"),
)


def main() -> int:
    TARGET.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        for name in ("DATA", "STATE", "CONFIG"):
            os.environ[f"XDG_{name}_HOME"] = f"{folder}/{name.lower()}"
        os.environ["XDG_RUNTIME_DIR"] = f"{folder}/run"
        os.mkdir(f"{folder}/run", 0o700)
        from brass_pebble.cli import main as cli
        from brass_pebble.demo import demo_desk
        from brass_pebble.demo.history import seed_history
        desk = demo_desk()
        seed_history(desk)
        for words in COMMANDS:
            sys.argv = ["brass-pebble", *(word.replace("@", str(TARGET)) for word in words), "--desk", str(desk)]
            try:
                cli.main()
            except SystemExit as end:
                if end.code:
                    return int(end.code)
    return 0


if __name__ == "__main__":
    sys.exit(main())
