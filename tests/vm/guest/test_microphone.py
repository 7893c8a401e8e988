"""A sound card without a sound server: what is played to one end of ALSA's loopback is heard at the other."""

from __future__ import annotations

import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from brass_pebble.client import EngineClient, start_engine
from brass_pebble.demo import HERE, know
from brass_pebble.engine.disk.tighten import tighten
from brass_pebble.kinds.voice.sources import microphones

sys.path.insert(0, str(Path(__file__).parents[2]))
from said import spoken

CARD = "CARD=Loopback,DEV=1"
DESK = f"""
format = 1
name = "Shed"
output = "stage"

[stage.ovenlight]

[surface.booth]
name = "Booth"
layout = "phrases"
device = {{ name = "Loopback", port = "alsa:plughw:{CARD}" }}

[surface.booth.phrase.cancel]
say = ["cancel everything"]

[surface.booth.layer.base.press]
cancel = {{ do = "stop everything" }}
"""


def comes(what: Callable[[], object], seconds: float) -> bool:
    end = time.monotonic() + seconds
    while not what():
        if time.monotonic() > end:
            return False
        time.sleep(0.2)
    return True


def until(what: Callable[[], object]) -> None:
    assert comes(what, 90), "waited in vain"


def test_a_microphone_of_alsa_is_listed_held_by_another_program_and_heard(tmp_path: Path) -> None:
    found = {facts.port: facts for facts in microphones()}
    assert found[f"alsa:plughw:{CARD}"].name == "Loopback"
    said = spoken("cancel everything", "slt")
    desk = tmp_path / "desk"
    desk.mkdir()
    (desk / "desk.toml").write_text(DESK)
    know(desk)
    tighten((desk,))
    holder = subprocess.Popen(["arecord", "-q", "-D", f"hw:{CARD}", "-f", "S16_LE", "-r", "48000", "-c", "2",
                               str(tmp_path / "other.wav")])
    # It holds the microphone once it has written.
    until((tmp_path / "other.wav").exists)
    time.sleep(1)
    socket, process = start_engine(desk, "--stage", str(HERE / "stage"))
    try:
        with EngineClient(socket, "test") as client:
            client.set_timeout(30)

            def voice() -> dict[str, Any]:
                return dict(client.ask("voices")["voices"][0])
            until(lambda: "another program holds the microphone" in voice()["why"])
            assert not voice()["reads"]
            holder.send_signal(signal.SIGTERM)
            holder.wait(timeout=20)
            until(lambda: voice()["state"] == "hears")
            # The loopback card keeps the time of the host: on a busy one the machine loses sound, and nothing is heard.
            for _ in range(4):
                subprocess.run(["aplay", "-q", "-D", "plughw:CARD=Loopback,DEV=0", str(said)], check=True, timeout=60)
                if comes(lambda: voice()["last"] is not None, 30):
                    break
            assert voice()["last"] is not None, "nothing was heard"
            assert (voice()["last"]["said"], voice()["last"]["do"]) == ("cancel everything", "act")
    finally:
        holder.kill()
        process.send_signal(signal.SIGTERM)
        process.wait(timeout=30)
