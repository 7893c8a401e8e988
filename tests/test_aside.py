"""Hands off, and the grip: presses that command nothing, and the way back with the device alone."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import pytest

from brass_pebble.client import EngineClient
from brass_pebble.core.devices.grip import HELD_FOR, PRESSES, WITHIN, Grip
from brass_pebble.core.say.durations import SECOND
from conftest import run_cli, wait_for

MS = 1_000_000


def stage(client: EngineClient, program: str = "ovenlight") -> dict[str, Any]:
    return next(p["state"] for p in client.ask("desk")["programs"] if p["id"] == program)


def press(client: EngineClient, surface: str, control: str) -> int:
    number = int(client.ask("press", surface=surface, control=control, down=True)["trace"])
    client.ask("press", surface=surface, control=control, down=False)
    return number


def sentence(client: EngineClient, number: int) -> str:
    return str(next(t["sentence"] for t in client.ask("traces")["traces"] if t["id"] == number))


def test_with_hands_off_a_press_only_selects_and_says_so(client: EngineClient) -> None:
    client.ask("follow", topics=["press"])
    before = stage(client)["camera"]
    left = client.ask("hands_off")["surfaces"]
    assert set(left) == {s["id"] for s in client.ask("desk")["desk"]["surfaces"]} and min(left.values()) > 110_000
    number = press(client, "left-numpad", "9")
    wait_for(lambda: "hands off: selected only, nothing is sent" in sentence(client, number))
    assert stage(client)["camera"] == before
    client.ask("hands_on")
    press(client, "left-numpad", "9")
    wait_for(lambda: stage(client)["camera"] == "oven")


def test_hands_off_one_surface_leaves_the_others_and_ends_by_itself(client: EngineClient) -> None:
    assert set(client.ask("hands_off", surface="left-numpad", seconds=1.5)["surfaces"]) == {"left-numpad"}
    press(client, "left-numpad", "9")
    press(client, "right-numpad", "8")
    time.sleep(0.3)
    assert stage(client)["camera"] == "wide"
    wait_for(lambda: client.ask("desk")["desk"]["hands_off"]["surfaces"] == {}, seconds=4)
    press(client, "left-numpad", "9")
    wait_for(lambda: stage(client)["camera"] == "oven")


def test_what_is_held_is_let_go_and_what_is_down_does_not_fire_at_the_end(client: EngineClient) -> None:
    client.ask("press", surface="pedals", control="left", down=True)
    wait_for(lambda: stage(client)["mic"] == "muted")
    client.ask("hands_off", seconds=60)
    wait_for(lambda: stage(client)["mic"] == "live")
    client.ask("press", surface="pedals", control="left", down=False)
    client.ask("press", surface="pedals", control="left", down=True)
    client.ask("hands_on")
    time.sleep(0.3)
    assert stage(client)["mic"] == "live"
    client.ask("press", surface="pedals", control="left", down=False)
    client.ask("press", surface="pedals", control="left", down=True)
    wait_for(lambda: stage(client)["mic"] == "muted")


def test_on_the_command_line(client: EngineClient, desk: Path) -> None:
    done = run_cli("hands-off", "pedals", "--for", "30", "--desk", str(desk))
    assert done.returncode == 0 and done.stdout == "pedals: hands off for 30 s\n"
    assert run_cli("hands-on", "--desk", str(desk)).stdout == "Presses act again.\n"
    wrong = run_cli("hands-off", "pedalz", "--desk", str(desk))
    assert wrong.returncode and "pedals" in wrong.stderr


# The grip.

@pytest.mark.parametrize(("times", "made"), [
    ([0, 300, 600, 900, 1200, 1500, 1800], True), ([0, 600, 1200, 1800, 2400, 3000, 3600], False),
    ([0, 300, 600, 900, 1200, 1500], False),
    # A press long before the others does not spoil them, nor does an eighth.
    ([-2500, 0, 300, 600, 900, 1200, 1500, 1800], True), ([0, 300, 600, 900, 1200, 1500, 1800, 2100], True)])
def test_the_grip_is_seven_presses_and_a_hold(times: list[int], made: bool) -> None:
    grip = Grip()
    for at in times[:-1]:
        grip.press(30, at * MS)
        grip.release(30)
    grip.press(30, times[-1] * MS)
    due = times[-1] * MS + HELD_FOR
    assert not grip.made(due - 1) and grip.made(due) == made and not grip.made(due + SECOND)


def test_nobody_makes_the_grip_by_accident() -> None:
    grip = Grip()
    for index in range(60):
        grip.press(30, index * 80 * MS)
        grip.release(30)
    assert not grip.made(60 * SECOND)
    for index in range(PRESSES):
        grip.press(30 + index % 2, index * 80 * MS)
    assert not grip.made(60 * SECOND)
    for index in range(PRESSES):
        grip.press(30, 100 * SECOND + index * 80 * MS)
    grip.press(31, 101 * SECOND)
    assert not grip.made(200 * SECOND) and WITHIN < HELD_FOR


def test_a_surface_is_got_back_with_its_own_control_alone(client: EngineClient) -> None:
    for index in range(PRESSES):
        client.ask("press", surface="pedals", control="right", down=True)
        if index < PRESSES - 1:
            client.ask("press", surface="pedals", control="right", down=False)
            time.sleep(0.05)

    def state() -> str:
        return str(next(s["state"] for s in client.ask("desk")["desk"]["surfaces"] if s["id"] == "pedals"))
    time.sleep(3)
    assert state() == "taken"
    wait_for(lambda: state() == "resting", seconds=4)
    assert any("given back by its grip" in row["what"] for row in client.ask("desk")["problems"])
    client.ask("wake", surface="pedals")
    assert state() == "taken"
