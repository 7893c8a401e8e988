"""X servers without a monitor, for tests with real windows."""

from __future__ import annotations

import os
import subprocess


def display_server(name: str, size: str = "800x600x24") -> subprocess.Popen[bytes]:
    """Start an X server that answers already: its socket is there before anybody listens at it."""
    ready, told = os.pipe()
    with open(ready, "rb") as answer:
        try:
            server = subprocess.Popen(["Xvfb", name, "-screen", "0", size, "-displayfd", str(told)],
                                      stderr=subprocess.DEVNULL, pass_fds=(told,))
        finally:
            os.close(told)
        assert answer.readline().strip() == name[1:].encode(), f"no X server came up as {name}"
    return server
