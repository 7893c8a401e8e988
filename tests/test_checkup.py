"""The checkup and the setup: what they find and what they would do."""

from __future__ import annotations

import json
import os
import subprocess
from pathlib import Path

import pytest

from brass_pebble.core.devices.identity import DeviceRule
from brass_pebble.machine import service
from brass_pebble.machine.permissions import Done, carry_out, gives, removal_plan, rules_text, setup_plan, udev_rule
from conftest import run_cli
from needed import needs


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
    assert found["desk"]["means"] == "macros/welcome.macro:1:1: “tpa” is not a step"
    assert found["Floor pedals"]["means"] == "its device is not connected (name “Tern three-pedal board”)"


def test_a_running_engine_is_asked(engine: Path) -> None:
    (about,) = [name for name in findings() if name.startswith("engine ")]
    assert findings()[about]["means"] == "runs Saltmarsh Bakehouse, 7 of 7 surfaces have their device"


PAD = DeviceRule((("vendor", "1209"), ("product", "0A0B"), ("name", 'Sandpiper "six" pad*')))


def test_setup_opens_what_the_desk_names_and_nothing_else(tmp_path: Path, desk: Path) -> None:
    shown = run_cli("setup", "--desk", str(desk), SUDO_USER="mara").stdout
    assert 'KERNEL=="uinput", TAG+="uaccess"' in shown and "usermod" not in shown
    assert 'ATTRS{name}=="Tern three-pedal board*"' in shown
    # What is to be run has everything that was asked for.
    assert f"sudo brass-pebble setup --apply --desk {desk} does all of this." in shown
    shown = run_cli("setup", "--device", "1a2b:3c4d:Gull pad", SUDO_USER="mara").stdout
    assert "sudo brass-pebble setup --apply --device '1a2b:3c4d:Gull pad' does all of this." in shown
    ran: list[list[str]] = []
    done = list(carry_out(setup_plan([PAD], root=tmp_path), tmp_path, lambda words: ran.append(words) or 0))
    file = tmp_path / "etc/udev/rules.d/70-brass-pebble.rules"
    assert file.read_text().splitlines()[-1] == (
        'SUBSYSTEM=="input", KERNEL=="event*", ATTRS{id/vendor}=="1209", ATTRS{id/product}=="0a0b", '
        'ATTRS{name}=="Sandpiper ?six? pad?*", TAG+="uaccess"')
    assert "GROUP" not in file.read_text() and all(step.ok for step in done) and len(done) == 5
    assert ran[1] == ["udevadm", "control", "--reload"]
    # Another device joins those that are there; once is enough.
    other = DeviceRule((("name", "Gannet"),))
    list(carry_out(setup_plan([other, PAD], root=tmp_path), tmp_path, lambda words: 0))
    assert file.read_text().count("SUBSYSTEM==\"input\"") == 2
    # What was written by the program before goes away; and all of it, when it is undone.
    old = tmp_path / "etc/udev/rules.d/60-brass-pebble.rules"
    old.write_text("")
    list(carry_out(setup_plan([], root=tmp_path), tmp_path, lambda words: 0))
    assert not old.exists() and file.exists()
    list(carry_out(removal_plan(root=tmp_path), tmp_path, lambda words: 0))
    assert not file.exists() and not (tmp_path / "etc/modules-load.d/brass-pebble.conf").exists()


def test_a_step_that_fails_is_told(tmp_path: Path) -> None:
    (tmp_path / "etc").write_text("in the way")
    done = list(carry_out(setup_plan([]), tmp_path, lambda words: 3))
    assert not any(step.ok for step in done) and "failed, with exit code 3" in done[-1].said
    assert isinstance(done[0], Done) and "Not a directory" in done[0].said


def test_the_group_is_for_machines_without_seats_and_warned_of(tmp_path: Path) -> None:
    shown = run_cli("setup", "--group", SUDO_USER="mara").stdout
    assert "can read every keyboard" in shown and "usermod -aG input mara" in shown
    assert 'GROUP="input"' in rules_text([udev_rule(PAD)], group=True)
    assert "gpasswd -d mara input" in run_cli("setup", "--remove", "--group", SUDO_USER="mara").stdout


@pytest.mark.parametrize("fields", [{}, {"vendor": "xyz"}, {"name": "Gull", "bus": "MIDI"}, {"port": "usb-1"}])
def test_what_no_rule_can_tell_apart_gets_none(fields: dict[str, str]) -> None:
    assert udev_rule(DeviceRule(tuple(fields.items()))) == ""


@pytest.mark.parametrize("name", ["*", "?", "Key*", "..", "a"])
def test_a_name_that_stands_for_many_devices_is_refused(name: str, tmp_path: Path) -> None:
    assert udev_rule(DeviceRule((("name", name),))) == ""
    done = run_cli("setup", "--device", f"::{name}")
    assert done.returncode == 2 and "stands for more than one device" in done.stderr
    (tmp_path / "desk.toml").write_text(f'format = 1\n[surface.all]\nname = "All"\ndevice = {{ name = "{name}" }}\n')
    shown = run_cli("setup", "--desk", str(tmp_path)).stdout
    assert "! “All” is left out" in shown and "event*" not in shown


def test_setup_tells_what_each_line_gives() -> None:
    there = [("1209", "0a0b", "Sandpiper pad"), ("1209", "0a0b", "Sandpiper pad Consumer"),
             ("046d", "c31c", "Keyboard")]
    line = udev_rule(DeviceRule((("vendor", "1209"), ("name", "Sandpiper pad"))))
    assert gives(line, there) == ["Sandpiper pad", "Sandpiper pad Consumer"]
    assert gives(udev_rule(DeviceRule((("vendor", "046D"),))), there) == ["Keyboard"]
    assert "You may read:" in run_cli("setup", "--device", "1209:0a0b:Sandpiper pad").stdout


def test_a_strangers_surface_gets_no_device_by_setup(tmp_path: Path) -> None:
    (tmp_path / "desk.toml").write_text('format = 1\n[surface.theirs]\ndevice = { name = "Sandpiper pad" }\n'
                                        '[surface.mine]\ndevice = { name = "Sanderling pad" }\n')
    (tmp_path / "guests.toml").write_text('[surface]\ntheirs = "A package"\n')
    shown = run_cli("setup", "--desk", str(tmp_path)).stdout
    assert "Sanderling pad" in shown and "came from somebody else" in shown
    assert not [line for line in shown.splitlines() if "event*" in line and "Sandpiper" in line]


def fake_systemctl(answers: dict[str, tuple[int, str]], called: list[str]) -> service.Run:
    def run(words: list[str]) -> tuple[int, str]:
        called.append(" ".join(words))
        return answers.get(words[0], (0, ""))
    return run


def test_the_service_is_installed_told_of_and_removed(tmp_path: Path) -> None:
    called: list[str] = []
    desk = tmp_path / "my desk, 100% $HOME"
    outcome = service.install(desk, fake_systemctl({}, called))
    assert outcome.ok and called == ["daemon-reload", "enable --now brass-pebble.service"]
    assert service.status(fake_systemctl({"is-active": (0, "active")}, called)).said == ("installed, active",)
    assert not service.status(fake_systemctl({"is-active": (3, "inactive")}, called)).ok
    assert service.remove(fake_systemctl({}, called)).ok and not service.unit_file().exists()
    assert service.status().said[0].startswith("not installed")


def test_the_unit_is_one_that_systemd_understands(tmp_path: Path) -> None:
    needs("systemd-analyze")
    unit = tmp_path / "brass-pebble.service"
    unit.write_text(service.unit_text(tmp_path / "my desk, 100% $HOME"))
    verify = ["systemd-analyze", "verify", "--user", "--man=no", str(unit)]
    done = subprocess.run(verify, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    unit.write_text(unit.read_text().replace("ExecStart=/", "ExecStart=/nowhere/"))
    assert subprocess.run(verify, capture_output=True, text=True, check=False).stderr


def test_without_a_running_systemd_the_command_says_what_is_left_to_do() -> None:
    done = run_cli("service", "install")
    if done.returncode:
        assert done.returncode == 1 and "Traceback" not in done.stderr
        assert "The unit is in place" in done.stderr
    assert service.unit_file().exists()
    assert run_cli("service", "remove").returncode in (0, 1)
    assert not service.unit_file().exists()
