"""Where sound comes from: what a sound server offers (PulseAudio and PipeWire speak one protocol), ALSA below it, a WAV
file, and silence.  Each is a row of `SOURCES`: a command that writes samples, or a reader of our own.

The commands convert whatever rate and channels a microphone has; a device is opened by the command and by nothing else.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import wave
from array import array
from collections.abc import Callable
from pathlib import Path

import msgspec

from brass_pebble.core.devices.identity import SOUND, DeviceFacts

from .recogniser import RATE

KIND = "microphone"
PULSE, ALSA, FILE, SILENCE = "pulse", "alsa", "file", "silence"
# A file that is heard as fast as it can be, and once.
RECORDING = "recording"
LISTED_WITHIN = 3.0
# A recording for trying is at most so long, in s.
LONGEST_FILE = 3_600
# The kernel's own lists (sound/core/init.c, sound/core/pcm.c): cards, and which of their devices record.
CARDS, DEVICES = Path("/proc/asound/cards"), Path("/proc/asound/pcm")
_CARD = re.compile(r"^ *(\d+) \[(\S+) *\]: .*? - (.*)$", re.MULTILINE)
_DEVICE = re.compile(r"^(\d+)-(\d+): .*: capture \d+", re.MULTILINE)
NEEDS_PULSE = "microphones are read by parec: install the package “pulseaudio-utils”"
NEEDS_ALSA = "microphones are read by arecord: install the package “alsa-utils”"


class SoundError(Exception):
    """A source cannot be read; the text says why and what to do."""


class _Source(msgspec.Struct, frozen=True):
    """What pactl tells of a source, as far as it matters here."""

    name: str
    description: str = ""
    monitor_source: str = ""
    properties: dict[str, object] = {}


def pulse_server() -> bool:
    """Whether a sound server may be there: it is named, or its socket is where it usually is."""
    if os.environ.get("PULSE_SERVER"):
        return True
    runtime = os.environ.get("PULSE_RUNTIME_PATH") or os.path.join(os.environ.get("XDG_RUNTIME_DIR", ""), "pulse")
    return os.path.exists(os.path.join(runtime, "native"))


def microphone_facts(source: str, name: str) -> DeviceFacts:
    """A microphone as a device.  Its place is the source's name, which a sound server makes of what it is."""
    return DeviceFacts(id=f"{KIND}/{source}", name=name, bus=SOUND, port=source, kind=KIND)


def microphones() -> list[DeviceFacts]:
    """The microphones of this machine; none is opened.  It asks the sound server: not for the loop."""
    return _of_pulse() if pulse_server() and shutil.which("pactl") else _of_alsa()


def _of_pulse() -> list[DeviceFacts]:
    text = _output(["pactl", "--format=json", "list", "sources"])
    try:
        rows = msgspec.json.decode(text, type=list[_Source], strict=False) if text else []
    except msgspec.MsgspecError:
        return []
    # What a loudspeaker plays can be recorded too, but nobody speaks into it.
    return [microphone_facts(f"{PULSE}:{row.name}", row.description or row.name) for row in rows
            if row.properties.get("device.class") != "monitor" and not row.monitor_source]


def _of_alsa() -> list[DeviceFacts]:
    # Looked at whenever any device comes or goes, so no program is started for it.
    try:
        cards, devices = CARDS.read_text(errors="replace"), DEVICES.read_text(errors="replace")
    except OSError:
        return []
    if not shutil.which("arecord"):
        return []
    known = {int(number): (card, name.strip()) for number, card, name in _CARD.findall(cards)}
    return [microphone_facts(f"{ALSA}:plughw:CARD={known[int(number)][0]},DEV={int(device)}", known[int(number)][1])
            for number, device in _DEVICE.findall(devices) if int(number) in known]


def _output(command: list[str]) -> str:
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=LISTED_WITHIN, check=False,
                              stdin=subprocess.DEVNULL, env={**os.environ, "LC_ALL": "C.UTF-8"})
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return done.stdout if done.returncode == 0 else ""


def parec(name: str) -> list[str]:
    """The command that reads a source of a sound server."""
    if not shutil.which("parec"):
        raise SoundError(NEEDS_PULSE)
    # Without a latency of its own it delivers seconds late.
    return ["parec", "--raw", "--format=s16le", f"--rate={RATE}", "--channels=1", "--latency-msec=20",
            "--client-name=Brass Pebble", "--stream-name=phrases", f"--device={name}"]


def arecord(name: str) -> list[str]:
    """The command that reads a device of ALSA."""
    if not shutil.which("arecord"):
        raise SoundError(NEEDS_ALSA)
    return ["arecord", "-q", "-t", "raw", "-f", "S16_LE", "-r", str(RATE), "-c", "1", "--buffer-time=60000",
            "--period-time=20000", "-D", name]


# What reads each kind of source by a command.
COMMANDS: dict[str, Callable[[str], list[str]]] = {PULSE: parec, ALSA: arecord}


def why_gone(kind: str, name: str, said: str) -> str:
    """Why a command that reads a microphone has ended, and what to do; `said` is its last word."""
    low = said.lower()
    if "connection refused" in low or "connection terminated" in low or "connection failure" in low:
        return "the sound server is gone; it is listened to again when it is back"
    if "no such entity" in low or "no such file" in low or "no such device" in low or "cannot get card" in low:
        return "the microphone was unplugged; plug it in again"
    if "busy" in low:
        return "another program holds the microphone: close that program, or use the sound server for both"
    return f"the microphone cannot be read ({said[:160] or f'{kind} {name} just ended'})"


def read_wav(file: Path) -> bytes:
    """The samples of a WAV file, as a recogniser takes them: any rate, any number of channels, 8 to 32 bits.

    Raises:
        SoundError: it is none, or too long.
    """
    try:
        with wave.open(str(file)) as sound:
            rate, channels, width = sound.getframerate(), sound.getnchannels(), sound.getsampwidth()
            if sound.getnframes() > rate * LONGEST_FILE:
                raise SoundError(f"“{file.name}” is longer than an hour: cut it")
            data = sound.readframes(sound.getnframes())
    except (OSError, EOFError, wave.Error) as error:
        raise SoundError(f"“{file.name}” cannot be read as a WAV file ({error})") from None
    data = data[:len(data) - len(data) % (width * channels)]
    values = _values(data, width)
    mixed = array("f", (sum(values[at:at + channels]) / channels for at in range(0, len(values), channels)))
    return _at_rate(mixed, rate)


def _values(data: bytes, width: int) -> array[float] | array[int]:
    if width == 1:
        return array("h", ((value - 128) << 8 for value in data))
    if width == 2:
        return array("h", data)
    if width == 3:
        return array("i", (int.from_bytes(data[at:at + 3], "little", signed=True) >> 8
                           for at in range(0, len(data), 3)))
    return array("i", (value >> 16 for value in array("i", data)))


def _at_rate(values: array[float], rate: int) -> bytes:
    """Samples of another rate in the recogniser's, each on the line between its neighbours."""
    if rate == RATE or not values:
        return array("h", (int(max(-32_768, min(32_767, value))) for value in values)).tobytes()
    if rate > RATE:
        # What is higher than the new rate can hold would be folded down.
        reach = max(1, round(rate / RATE / 2))
        values = array("f", (sum(values[max(0, at - reach):at + reach + 1]) /
                             len(values[max(0, at - reach):at + reach + 1]) for at in range(len(values))))
    count, last = len(values) * RATE // rate, len(values) - 1
    found = array("h")
    for index in range(count):
        at, part = divmod(index * rate, RATE)
        here, there = values[at], values[min(at + 1, last)]
        found.append(int(max(-32_768, min(32_767, here + (there - here) * part / RATE))))
    return found.tobytes()


