"""Speech or silence, frame by frame: WebRTC's detector, and how loud it is beside what is always there."""

from __future__ import annotations

import math
from array import array
from collections import deque
from typing import Any

from brass_pebble.core.voice.ends import FRAME

from .recogniser import RATE

SAMPLES = RATE * FRAME // 1000
FRAME_BYTES = SAMPLES * 2
FULL = 32_768.0
# How far above the quietest of the last seconds something has to be, in dB, and the least that is speech at all.
ABOVE, LEAST = 9.0, -60.0
# The quietest is looked for in so many frames: about six seconds.
LOOKS_BACK = 200
# So many samples of one frame at the very top are a microphone that is set too loud.
CLIPS = 3
# How much WebRTC's noise suppression takes away, 0 to 4.
TAKES_AWAY = 2
# 10 ms, which is what it takes at a time.
PIECE = RATE // 100 * 2


def loudness(samples: bytes) -> float:
    """How loud samples are, in dB below the loudest that there is."""
    values = array("h", samples)
    power = math.sumprod(values, values) if hasattr(math, "sumprod") else sum(value * value for value in values)
    return 10 * math.log10(power / len(values) / (FULL * FULL) + 1e-12) if values else -120.0


def clipped(samples: bytes) -> bool:
    """Whether a microphone is set so loud that its waves are cut off."""
    values = array("h", samples)
    return values.count(32_767) + values.count(-32_768) >= CLIPS


class Speech:
    """Follows one microphone.  `quietest` is what is always there, in dB."""

    def __init__(self) -> None:
        from pocketsphinx import Vad
        self._detector: Any = Vad(1, RATE, FRAME / 1000)
        self._last: deque[float] = deque(maxlen=LOOKS_BACK)
        self.quietest = -90.0

    def is_speech(self, frame: bytes) -> bool:
        """Whether a frame of `FRAME_BYTES` is speech."""
        loud = loudness(frame)
        self._last.append(loud)
        self.quietest = min(self._last)
        return loud > max(LEAST, self.quietest + ABOVE) and bool(self._detector.is_speech(frame))


class Cleaner:
    """Takes away what is always there: fans, hiss, an oven.  Without its package the sound stays as it is."""

    def __init__(self) -> None:
        self._works: Any = None
        try:
            from webrtc_noise_gain import AudioProcessor
        except ImportError:
            return
        self._works = AudioProcessor(0, TAKES_AWAY)

    def clean(self, samples: bytes) -> bytes:
        """Samples of whole pieces of 10 ms, without the noise."""
        if self._works is None:
            return samples
        return b"".join(self._works.Process10ms(samples[at:at + PIECE]).audio
                        for at in range(0, len(samples), PIECE))
