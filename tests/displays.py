"""Displays without a monitor, for tests with real windows: X servers, and a compositor for Wayland."""

from __future__ import annotations

import contextlib
import os
import pwd
import subprocess
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from needed import needs


def display_server(name: str, size: str = "800x600x24") -> subprocess.Popen[bytes]:
    """Start an X server that answers already: its socket is there before anybody listens at it."""
    needs("Xvfb")
    ready, told = os.pipe()
    with open(ready, "rb") as answer:
        try:
            server = subprocess.Popen(["Xvfb", name, "-screen", "0", size, "-displayfd", str(told)],
                                      stderr=subprocess.DEVNULL, pass_fds=(told,))
        finally:
            os.close(told)
        assert answer.readline().strip() == name[1:].encode(), f"no X server came up as {name}"
    return server


SETTINGS = """default_border none
output HEADLESS-1 resolution 1400x900
for_window [app_id="foot"] floating enable, border none, move absolute position 0 0
"""


@dataclass(frozen=True)
class Compositor:
    """A compositor that runs: its display's and its own socket, and what starts a program as the one it runs as."""

    display: Path
    socket: Path
    environment: dict[str, str]
    prefix: list[str]


@contextlib.contextmanager
def wayland_compositor(settings: str = "") -> Iterator[Compositor]:
    """A headless compositor with the sway protocol; it refuses to run as root, so it runs as nobody.

    Windows have no border, and are as large as they want to be, in the upper left corner.
    """
    needs("sway", "swaymsg", "setpriv")
    with tempfile.TemporaryDirectory(prefix="bpw") as folder:
        config = Path(folder) / "config"
        config.write_text(f"{SETTINGS}{settings}")
        prefix = []
        if os.getuid() == 0:
            nobody = pwd.getpwnam("nobody")
            for path in (folder, config):
                os.chown(path, nobody.pw_uid, nobody.pw_gid)
            prefix = ["setpriv", f"--reuid={nobody.pw_uid}", f"--regid={nobody.pw_gid}", "--clear-groups"]
        environment = {**os.environ, "XDG_RUNTIME_DIR": folder, "HOME": folder, "WLR_BACKENDS": "headless",
                       "WLR_LIBINPUT_NO_DEVICES": "1", "WLR_RENDERER": "pixman"}
        for name in ("DISPLAY", "WAYLAND_DISPLAY", "SWAYSOCK"):
            environment.pop(name, None)
        process = subprocess.Popen([*prefix, "sway", "-c", str(config)], env=environment, stderr=subprocess.DEVNULL,
                                   stdout=subprocess.DEVNULL)
        try:
            end = time.monotonic() + 30
            while not (sockets := list(Path(folder).glob("sway-ipc.*.sock"))) or not (
                    displays := list(Path(folder).glob("wayland-?"))):
                assert time.monotonic() < end and process.poll() is None, "no compositor came up"
                time.sleep(0.02)
            yield Compositor(displays[0], sockets[0], environment, prefix)
        finally:
            process.terminate()
            process.wait()
