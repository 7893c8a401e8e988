"""The demo: the desk of an invented bakery, its bench, its stage, and a class to watch."""

from __future__ import annotations

import contextlib
import hashlib
import shutil
import time
from pathlib import Path

from brass_pebble import paths

HERE = Path(__file__).parent
ENGINE_OPTIONS = ("--bench", str(HERE / "bench.toml"), "--stage", str(HERE / "stage"), "--script",
                  str(HERE / "class.toml"), "--bench-only", "--until-left")


def demo_desk(*, fresh: bool = False) -> Path:
    """The person's own copy of the demo's desk, made at first use; `fresh` makes it again.

    A changed demo gets a new copy, so that nobody's edits are lost.
    """
    digest = hashlib.sha256()
    for file in sorted((HERE / "desk").rglob("*")):
        if file.is_file():
            digest.update(file.name.encode() + file.read_bytes())
    folder = paths.data_folder() / f"saltmarsh-bakehouse-{digest.hexdigest()[:8]}"
    if fresh and folder.exists():
        # Set aside rather than deleted: nobody's edits are lost.
        folder.rename(folder.with_name(f"{folder.name}-{time.strftime('%Y-%m-%d-%H%M%S')}"))
    if not folder.exists():
        from brass_pebble.engine.disk.tighten import tighten
        from brass_pebble.file_access import private_folder
        private_folder(folder.parent)
        shutil.copytree(HERE / "desk", folder)
        know(folder)
        tighten((folder,))
    return folder


def know(desk: Path) -> None:
    """A desk that this program made itself is nobody else's."""
    from brass_pebble.engine.disk.guests import Trust
    with contextlib.suppress(OSError):
        Trust(paths.approvals_file(desk)).know()
