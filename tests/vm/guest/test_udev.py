"""What a person who is not root may use: given by the real udev, for the devices that the desk names alone."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hid import main_keyboard, twin_numpad

PERSON = 12345
DESK = """
format = 1
name = "Mine"

[surface.pad]
name = "Pad"
layout = "numpad"
device = { name = "Marram numeric pad", port = "usb-bench-left" }
[surface.pad.layer.base.press]
5 = { tap = "F13" }
"""


def as_person(*words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(["setpriv", "--reuid", str(PERSON), "--regid", str(PERSON), "--clear-groups", *words],
                          capture_output=True, text=True, timeout=120, check=False,
                          env={**os.environ, "HOME": "/run/person", "XDG_RUNTIME_DIR": "/run/person/run", "USER": ""})


def wait(what: Callable[[], object], seconds: float = 60) -> None:
    end = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < end, "waited in vain"
        time.sleep(0.1)


def may_use(node: str) -> bool:
    return as_person("test", "-r", node, "-a", "-w", node).returncode == 0


@pytest.fixture(scope="module")
def udev() -> Iterator[None]:
    """The system's own device manager; the person has the session in front."""
    seats = Path("/run/systemd/seats")
    seats.mkdir(parents=True)
    # As the kernel makes it: other tests may have opened it.
    os.chmod("/dev/uinput", 0o600)
    (seats / "seat0").write_text(f"IS_SEAT0=1\nCAN_GRAPHICAL=1\nACTIVE=1\nACTIVE_UID={PERSON}\nSESSIONS=1\n"
                                 f"UIDS={PERSON}\n")
    Path("/etc/udev/rules.d").mkdir(parents=True, exist_ok=True)
    # The machine's files are the host's, entered with chroot.
    os.environ["SYSTEMD_IGNORE_CHROOT"] = "1"
    process = subprocess.Popen(["/lib/systemd/systemd-udevd"])
    wait(lambda: Path("/run/udev/control").exists())
    subprocess.run(["udevadm", "trigger", "--settle"], check=True, timeout=120)
    yield
    process.terminate()
    process.wait(timeout=60)


def nodes_of(name: str) -> list[str]:
    return [f"/dev/input/{Path(entry).name}" for entry in map(str, Path("/sys/class/input").glob("event*"))
            if (Path(entry) / "device" / "name").read_text().strip() == name]


def test_setup_gives_a_person_the_desks_devices_and_no_keyboard(udev: None) -> None:
    home = Path("/run/person")
    desk = home / "desk"
    for folder in (home, home / "run", desk):
        folder.mkdir(mode=0o700, exist_ok=True)
    (desk / "desk.toml").write_text(DESK)
    for place in (home, home / "run", desk, desk / "desk.toml"):
        os.chown(place, PERSON, PERSON)
    keyboard, pad = main_keyboard(), twin_numpad("usb-bench-left")
    try:
        wait(lambda: nodes_of("Marram numeric pad"))
        (node,) = nodes_of("Marram numeric pad")
        assert not may_use(node) and not may_use("/dev/uinput")
        done = subprocess.run([sys.executable, "-m", "brass_pebble", "setup", "--apply", "--desk", str(desk)],
                              capture_output=True, text=True, timeout=120, check=False)
        assert done.returncode == 0, done.stdout + done.stderr
        wait(lambda: may_use(node))
        assert may_use("/dev/uinput") and not any(map(may_use, nodes_of("Harbour keyboard")))
        # The engine runs as the person, takes the pad, and has nothing else open.
        engine = subprocess.Popen(
            ["setpriv", "--reuid", str(PERSON), "--regid", str(PERSON), "--clear-groups", sys.executable, "-m",
             "brass_pebble", "run", "--desk", str(desk)], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
            env={**os.environ, "HOME": str(home), "XDG_RUNTIME_DIR": str(home / "run")})
        try:
            assert engine.stdout and "is ready" in engine.stdout.readline()
            assert "Pad: taken" in engine.stdout.readline()
            told = as_person(sys.executable, "-m", "brass_pebble", "checkup", "--privacy")
            assert f"{node}: it is the surface “Pad”" in told.stdout
            assert "/dev/uinput: keys are sent by it" in told.stdout
            assert not any(other in told.stdout for other in nodes_of("Harbour keyboard")), told.stdout
            whole = as_person(sys.executable, "-m", "brass_pebble", "checkup", "--desk", str(desk)).stdout
            assert "it may not be opened, so a modifier that you hold on it" in whole
        finally:
            engine.terminate()
            assert engine.wait(timeout=30) == 0
        # One more device, in one step; the keyboard's twin stays closed.
        name = "Harbour keyboard"
        done = subprocess.run([sys.executable, "-m", "brass_pebble", "setup", "--apply", "--device", f"::{name}"],
                              capture_output=True, text=True, timeout=120, check=False)
        assert done.returncode == 0, done.stdout + done.stderr
        wait(lambda: all(map(may_use, nodes_of(name))))
        done = subprocess.run([sys.executable, "-m", "brass_pebble", "setup", "--apply", "--remove"],
                              capture_output=True, text=True, timeout=120, check=False)
        assert done.returncode == 0 and not Path("/etc/udev/rules.d/70-brass-pebble.rules").exists()
    finally:
        pad.pull_out()
        keyboard.pull_out()
