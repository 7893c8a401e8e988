"""A real sound server with a microphone into which tests speak: what is played to its loudspeaker is heard there."""

from __future__ import annotations

import os
import subprocess
import time
from pathlib import Path

from needed import needs

SOURCE, SHOWN = "booth_mic", "Booth"


class SoundServer:
    """PulseAudio with a loudspeaker that leads to a microphone."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._process: subprocess.Popen[bytes] | None = None
        self.address = f"unix:{folder}/native"

    def start(self) -> None:
        """Start it, and wait until it answers."""
        needs("pulseaudio", "pactl", "paplay", "parec")
        self._folder.mkdir(exist_ok=True)
        self._process = subprocess.Popen(
            ["pulseaudio", "-n", "--daemonize=no", "--exit-idle-time=-1", "--use-pid-file=no",
             "-L", f"module-native-protocol-unix auth-anonymous=1 socket={self._folder}/native",
             "-L", "module-null-sink sink_name=air", "-L", self._microphone()],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        until = time.monotonic() + 20
        while not self._ask("info") and time.monotonic() < until:
            time.sleep(0.05)

    @staticmethod
    def _microphone(name: str = SOURCE, shown: str = SHOWN) -> str:
        return (f"module-remap-source master=air.monitor source_name={name} "
                f"source_properties=device.description={shown}")

    def _ask(self, *words: str) -> str:
        done = subprocess.run(["pactl", *words], capture_output=True, text=True, timeout=20,
                              env={**os.environ, "PULSE_SERVER": self.address})
        return done.stdout if done.returncode == 0 else ""

    def plug(self, name: str = SOURCE, shown: str = SHOWN) -> None:
        """Plug a microphone in."""
        self._ask("load-module", *self._microphone(name, shown).split())

    def unplug(self) -> None:
        """Pull every microphone out."""
        self._ask("unload-module", "module-remap-source")

    def play(self, file: Path) -> subprocess.Popen[bytes]:
        """Say something into the microphone."""
        return subprocess.Popen(["paplay", "--device=air", str(file)], stdout=subprocess.DEVNULL,
                                env={**os.environ, "PULSE_SERVER": self.address})

    def kill(self) -> None:
        """The server dies."""
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None
