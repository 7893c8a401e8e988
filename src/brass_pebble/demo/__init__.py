"""The demo: the desk of an invented bakery, its bench, its stage, and a class to watch."""

from __future__ import annotations

import hashlib
import shutil
from pathlib import Path

from brass_pebble import paths

HERE = Path(__file__).parent
ENGINE_OPTIONS = ("--bench", str(HERE / "bench.toml"), "--stage", str(HERE / "stage"), "--script",
                  str(HERE / "class.toml"), "--bench-only", "--until-left")


def demo_desk(*, fresh: bool = False) -> Path:
    """The person's own copy of the demo's desk, made at first use; `fresh` makes it anew.

    A changed demo gets a new copy, so that nobody's edits are lost.
    """
    digest = hashlib.sha256()
    for file in sorted((HERE / "desk").rglob("*")):
        if file.is_file():
            digest.update(file.name.encode() + file.read_bytes())
    folder = paths.data_folder() / f"saltmarsh-bakehouse-{digest.hexdigest()[:8]}"
    if fresh and folder.exists():
        shutil.rmtree(folder)
    if not folder.exists():
        folder.parent.mkdir(parents=True, exist_ok=True)
        shutil.copytree(HERE / "desk", folder)
    return folder
