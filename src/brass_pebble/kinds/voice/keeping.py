"""Sound that a person asked to keep, for trying things out: one WAV file that only they can read."""

from __future__ import annotations

import os
import wave
from pathlib import Path

from .recogniser import RATE


class Keeper:
    """Writes one file, for so many s at most.  A file of that name is replaced.

    Raises:
        OSError: it cannot be written.
    """

    def __init__(self, file: Path, seconds: float) -> None:
        self._left = round(seconds * RATE) * 2
        self.seconds = 0.0
        file.unlink(missing_ok=True)
        # Nobody else may read it, nor put another file in its place.
        self._file = os.fdopen(os.open(file, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600), "wb")
        self._sound = wave.open(self._file)  # noqa: SIM115
        self._sound.setnchannels(1)
        self._sound.setsampwidth(2)
        self._sound.setframerate(RATE)

    def keep(self, samples: bytes) -> bool:
        """Write these; false when it is full.  After each piece the file is whole, whatever happens next.

        Raises:
            OSError: the disk is full.
        """
        piece = samples[:self._left]
        self._sound.writeframes(piece)
        self._file.flush()
        self._left -= len(piece)
        self.seconds += len(piece) / RATE / 2
        return self._left > 0

    def close(self) -> None:
        """It is whole."""
        try:
            self._sound.close()
        finally:
            self._file.close()
