"""The clipboard, by the programs that desktops have for it: what it holds is kept and put back, pictures included."""

from __future__ import annotations

import os
import shutil
import subprocess
from dataclasses import dataclass

SECONDS = 2.0
# More than this is not kept, in bytes.
MOST = 64_000_000
_TEXTS = ("text/plain;charset=utf-8", "text/plain", "UTF8_STRING", "STRING", "TEXT")


@dataclass(frozen=True)
class Held:
    """What the clipboard held: its kind (empty for plain text) and its bytes; `lost` says why it cannot come back."""

    kind: str = ""
    data: bytes = b""
    lost: str = ""


@dataclass(frozen=True)
class Clipboard:
    """How to ask one program.  `kinds` lists the kinds of what is there; {} stands for a kind."""

    variable: str
    program: str
    kinds: tuple[str, ...]
    reads: tuple[str, ...]
    reads_kind: tuple[str, ...]
    writes: tuple[str, ...]
    writes_kind: tuple[str, ...]

    def read(self) -> Held:
        """What it holds now.

        Raises:
            OSError, subprocess.SubprocessError: the program fails, or does not answer.
        """
        found = self._ask(self.reads)
        kinds = self._ask(self.kinds).stdout.decode(errors="replace").split("\n") if self.kinds else []
        kinds = [kind.strip() for kind in kinds if kind.strip()]
        if any(kind in _TEXTS for kind in kinds) or (not self.kinds and found.returncode == 0):
            return Held("", found.stdout)
        kind = next((kind for kind in kinds if kind == "image/png"),
                    next((kind for kind in kinds if kind.startswith("image/")),
                         next((kind for kind in kinds if "/" in kind), "")))
        if not kind or not self.reads_kind:
            return Held(lost="what the clipboard held cannot be put back" if kinds or found.stdout else "")
        found = self._ask(tuple(word.replace("{}", kind) for word in self.reads_kind))
        if found.returncode or len(found.stdout) > MOST:
            return Held(lost=f"the clipboard held something of the kind {kind}, which cannot be put back")
        return Held(kind, found.stdout)

    def write(self, kind: str, data: bytes) -> None:
        """Put something there; text without a kind.

        Raises:
            OSError, subprocess.SubprocessError: the program fails, or does not answer.
        """
        words = tuple(word.replace("{}", kind) for word in self.writes_kind) if kind else self.writes
        subprocess.run(words, input=data, timeout=SECONDS, check=True, stdout=subprocess.DEVNULL,
                       stderr=subprocess.DEVNULL)

    @staticmethod
    def _ask(words: tuple[str, ...]) -> subprocess.CompletedProcess[bytes]:
        return subprocess.run(words, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                              timeout=SECONDS, check=False)


_XCLIP = ("xclip", "-selection", "clipboard")
CLIPBOARDS = (
    Clipboard("WAYLAND_DISPLAY", "wl-copy", ("wl-paste", "--list-types"), ("wl-paste", "--no-newline"),
              ("wl-paste", "--type", "{}"), ("wl-copy",), ("wl-copy", "--type", "{}")),
    Clipboard("DISPLAY", "xclip", (*_XCLIP, "-t", "TARGETS", "-o"), (*_XCLIP, "-o"), (*_XCLIP, "-t", "{}", "-o"),
              (*_XCLIP, "-i"), (*_XCLIP, "-t", "{}", "-i")),
    Clipboard("DISPLAY", "xsel", (), ("xsel", "--clipboard", "--output"), (), ("xsel", "--clipboard", "--input"), ()),
)


def find_clipboard() -> Clipboard | None:
    """The first way that works here."""
    for way in CLIPBOARDS:
        if os.environ.get(way.variable) and shutil.which(way.program) and shutil.which(way.reads[0]):
            return way
    return None
