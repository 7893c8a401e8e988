"""The desktop's own global shortcuts, where an open interface gives them.

- GSettings (the `gsettings` program): lists of accelerators like `['<Super>Left']`.
- Compositors with the sway protocol: their configuration, with `bindsym Mod4+Return …` (sway-ipc(7), GET_CONFIG).
Slow: for a worker.
"""

from __future__ import annotations

import json
import re
import shutil
import socket
import struct
import subprocess
import time
from collections.abc import Iterator
from functools import lru_cache

from brass_pebble.core.desk.shortcuts import ProgramTable, Shortcut
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.keys import Chord, parse_chord

from .sway import socket_of_compositor

SCHEMAS = ("org.gnome.desktop.wm.keybindings", "org.gnome.settings-daemon.plugins.media-keys",
           "org.gnome.shell.keybindings", "org.gnome.mutter.keybindings")
_LINE = re.compile(r"\S+ (\S+) (\[.*\]|'.*')")
_QUOTED = re.compile(r"'([^']*)'")
_MODIFIER = re.compile(r"<(\w+)>")
_BINDSYM = re.compile(r"^\s*bind(?:sym|code)\s+((?:--\S+\s+)*)(\S+)\s+(.+)$", re.M)
_SET = re.compile(r"^\s*set\s+(\$\S+)\s+(.+)$", re.M)
# Names of modifiers and of keys (keysyms of X11's keysymdef.h) that are called otherwise here.
NAMES = {
    "primary": "Ctrl", "control": "Ctrl", "ctrl": "Ctrl", "shift": "Shift", "alt": "Alt", "mod1": "Alt",
    "super": "Super", "mod4": "Super", "meta": "Super", "return": "Enter", "prior": "PageUp", "page_up": "PageUp",
    "next": "PageDown", "page_down": "PageDown", "above_tab": "Grave", "print": "SysRq", "escape": "Escape",
    "xf86audiomute": "Mute", "xf86audioraisevolume": "VolumeUp", "xf86audiolowervolume": "VolumeDown",
    "xf86audioplay": "PlayPause",
}
_GET_CONFIG = 9
KEEP_FOR = 30


def desktop_table() -> ProgramTable | None:
    """What the desktop takes before any program, or None if nothing gives it; asked again after half a minute."""
    return _desktop_table(int(time.monotonic() // KEEP_FOR))


@lru_cache(maxsize=1)
def _desktop_table(when: int) -> ProgramTable | None:
    found = [*_from_gsettings(), *_from_compositor()]
    return ProgramTable("desktop", "the desktop", tuple(found), always=True, origin="desktop") if found else None


def _from_gsettings() -> Iterator[Shortcut]:
    if not shutil.which("gsettings"):
        return
    for schema in SCHEMAS:
        try:
            done = subprocess.run(["gsettings", "list-recursively", schema], capture_output=True, text=True, timeout=5,
                                  check=False)
        except (OSError, subprocess.TimeoutExpired):
            return
        yield from read_gsettings(done.stdout)


def read_gsettings(text: str) -> Iterator[Shortcut]:
    """From lines like `org.gnome.desktop.wm.keybindings close ['<Alt>F4']`."""
    for line in text.splitlines():
        match = _LINE.fullmatch(line.strip())
        for accelerator in _QUOTED.findall(match[2]) if match else ():
            names = [*_MODIFIER.findall(accelerator), _MODIFIER.sub("", accelerator)]
            if match and (chord := _chord(names)):
                yield Shortcut(chord, match[1].replace("-", " "))


def _from_compositor() -> Iterator[Shortcut]:
    where = socket_of_compositor()
    if not where:
        return
    head = struct.Struct("=6sII")
    try:
        with socket.socket(socket.AF_UNIX) as link:
            link.settimeout(3)
            link.connect(where)
            link.sendall(head.pack(b"i3-ipc", 0, _GET_CONFIG))
            data = b""
            while len(data) < head.size or len(data) < head.size + head.unpack_from(data)[1]:
                more = link.recv(65536)
                if not more:
                    return
                data += more
        yield from read_bindsyms(str(json.loads(data[head.size:])["config"]))
    except (OSError, ValueError, KeyError):
        return


def read_bindsyms(config: str) -> Iterator[Shortcut]:
    """From a configuration with `bindsym Mod4+Return exec term`, with its variables put in."""
    values = dict(_SET.findall(config))
    for _, keys, command in _BINDSYM.findall(config):
        written = keys
        for name, value in values.items():
            written = written.replace(name, value)
        if chord := _chord(written.split("+")):
            yield Shortcut(chord, command.strip())


def _chord(names: list[str]) -> Chord | None:
    words = [NAMES.get(name.casefold(), name) for name in names if name]
    try:
        return parse_chord("+".join(words))
    except (ProblemError, KeyError):
        # A key that this keyboard table has no name for cannot be sent from here either.
        return None
