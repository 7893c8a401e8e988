"""Texts said by synthetic voices that were made from recordings (flite), and noise (sox).  Sounds are made once."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

from needed import needs

VOICES = ("slt", "rms", "awb", "kal16")
CACHE = Path(__file__).parent.parent / ".cache" / "voice"


def spoken(text: str, voice: str) -> Path:
    """A text said by a voice: 16 kHz, one channel, half a second of silence around it."""
    needs("flite", "sox")
    CACHE.mkdir(parents=True, exist_ok=True)
    file = CACHE / f"{voice}-{text.replace(' ', '_')[:120]}.wav"
    if not file.exists():
        raw = file.with_suffix(f".{os.getpid()}.raw.wav")
        made = file.with_suffix(f".{os.getpid()}.wav")
        subprocess.run(["flite", "-voice", voice, "-t", text, "-o", str(raw)], check=True, capture_output=True)
        subprocess.run(["sox", "-D", str(raw), "-r", "16000", "-c", "1", "-b", "16", str(made), "pad", "0.7", "0.7"],
                       check=True, capture_output=True)
        raw.unlink()
        made.rename(file)
    return file


def with_noise(file: Path, decibel: float) -> Path:
    """The same with pink noise so many dB below the loudness of the speech."""
    noisy = file.with_name(f"{file.stem}@{decibel:g}.wav")
    if not noisy.exists():
        told = subprocess.run(["sox", str(file), "-n", "trim", "0.7", "-0.7", "stat"], check=True, capture_output=True,
                              text=True).stderr
        rms = float(next(line for line in told.splitlines() if line.startswith("RMS     amp")).split()[-1])
        length = next(line for line in told.splitlines() if line.startswith("Length")).split()[-1]
        noise = file.with_name(f"noise-{os.getpid()}.wav")
        subprocess.run(["sox", "-D", "-R", "-n", "-r", "16000", "-c", "1", "-b", "16", str(noise), "synth",
                        str(float(length) + 1.4), "pinknoise"], check=True, capture_output=True)
        told = subprocess.run(["sox", str(noise), "-n", "stat"], check=True, capture_output=True, text=True).stderr
        there = float(next(line for line in told.splitlines() if line.startswith("RMS     amp")).split()[-1])
        gain = rms / 10 ** (decibel / 20) / there
        made = file.with_name(f"made-{os.getpid()}.wav")
        subprocess.run(["sox", "-D", "-m", "-v", "1", str(file), "-v", f"{gain:.6f}", str(noise), str(made)],
                       check=True, capture_output=True)
        noise.unlink()
        made.rename(noisy)
    return noisy
