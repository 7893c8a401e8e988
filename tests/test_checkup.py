"""The checkup and the setup: what they find and what they would do."""

from __future__ import annotations

import json
import os
from pathlib import Path

from brass_pebble.checkup import RULE, apply_setup
from conftest import run_cli


def findings(*words: str) -> dict[str, dict[str, str]]:
    done = run_cli("checkup", "--json", *words)
    return {row["about"]: row for row in map(json.loads, done.stdout.splitlines())}


def test_what_a_machine_without_devices_is_told() -> None:
    found = findings()
    assert found["socket"]["state"] == "good"
    assert found["desk"]["state"] == "not known"
    if not os.path.exists("/dev/uinput"):
        assert found["sending keys"]["fix"].startswith("sudo modprobe uinput")
        done = run_cli("checkup")
        assert done.returncode == 1
        assert "✗ sending keys: the kernel's virtual keyboard is missing" in done.stdout
        assert "need your attention" in done.stderr


def test_a_desk_with_mistakes_and_missing_devices(desk: Path) -> None:
    (desk / "macros" / "welcome.macro").write_text("tpa A\n")
    found = findings("--desk", str(desk))
    assert found["desk"]["means"] == "macros/welcome.macro, line 1: “tpa” is not a step"
    assert found["Floor pedals"]["means"] == "its device is not here (name “Tern three-pedal board”)"


def test_a_running_engine_is_asked(engine: Path) -> None:
    (about,) = [name for name in findings() if name.startswith("engine ")]
    assert findings()[about]["means"] == "runs Saltmarsh Bakehouse, 3 of 3 surfaces have their device"


def test_setup_shows_and_does_the_same(tmp_path: Path) -> None:
    shown = run_cli("setup", SUDO_USER="mara").stdout
    assert RULE.strip() in shown and "usermod -aG input mara" in shown
    ran: list[list[str]] = []
    done = list(apply_setup("mara", tmp_path, ran.append))
    assert (tmp_path / "etc/udev/rules.d/60-brass-pebble.rules").read_text() == RULE
    assert (tmp_path / "etc/modules-load.d/brass-pebble.conf").read_text() == "uinput\n"
    assert ran[0] == ["usermod", "-aG", "input", "mara"]
    assert len(done) == 6
