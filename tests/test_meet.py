"""From an unmet device to a surface: the engine's side over its socket, with the bench."""

from __future__ import annotations

import contextlib
import json
import signal
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from brass_pebble.client import EngineClient, EngineError, start_engine
from brass_pebble.core.desk.model import ON_TRIAL
from brass_pebble.core.devices.free_place import free_place
from brass_pebble.core.signals.keys import key_table
from brass_pebble.paths import desk_key, state_folder
from conftest import run_cli, wait_for

Row = dict[str, Any]
BENCH = """
[[device]]
id = "bench/keyboard"
name = "Harbour keyboard"
port = "built in"
layout = "full-ansi"
full = true
lamps = ["num", "caps", "scroll"]

[[device]]
id = "bench/a"
name = "Marram numeric pad"
vendor = "4d52"
product = "0011"
port = "bench hub, left"
layout = "numpad"
lamps = ["num"]

[[device]]
id = "bench/b"
name = "Marram numeric pad"
vendor = "4d52"
product = "0011"
port = "bench hub, right"
layout = "numpad"

[[device]]
id = "bench/double"
name = "Juniper stick \\u001b[31m with a name of far more than sixty characters, and odd ones"
vendor = "4a50"
product = "0001"
serial = "JP-20931"
port = "bench hub, back"
layout = "grid-3x2"
twice = { F13 = "X", F14 = "Y" }
"""


@contextlib.contextmanager
def nobody_met(tmp_path: Path) -> Iterator[Path]:
    """An empty desk whose engine runs, on a bench with devices that nobody has met."""
    desk = tmp_path / "desk"
    desk.mkdir(mode=0o700)
    (desk / "desk.toml").write_text('format = 1\nname = "New"\noutput = "stage"\n')
    (tmp_path / "bench.toml").write_text(BENCH)
    _, process = start_engine(desk, "--bench", str(tmp_path / "bench.toml"), "--bench-only")
    yield desk
    process.send_signal(signal.SIGTERM)
    process.wait(timeout=10)


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """An empty desk."""
    (tmp_path / "desk").mkdir(mode=0o700)
    (tmp_path / "desk" / "desk.toml").write_text('format = 1\nname = "New"\noutput = "stage"\n')
    (tmp_path / "bench.toml").write_text(BENCH)
    return tmp_path


@pytest.fixture
def client(folder: Path) -> Iterator[EngineClient]:
    with connect(folder) as connected:
        yield connected


@contextlib.contextmanager
def connect(folder: Path) -> Iterator[EngineClient]:
    socket, process = start_engine(folder / "desk", "--bench", str(folder / "bench.toml"), "--bench-only")
    with EngineClient(socket, "test") as connected:
        connected.set_timeout(10)
        yield connected
    process.send_signal(signal.SIGTERM)
    assert process.wait(timeout=15) == 0


def surfaces(client: EngineClient) -> dict[str, Row]:
    return {s["id"]: s for s in client.ask("desk")["desk"]["surfaces"]}


def devices(client: EngineClient) -> dict[str, Row]:
    return {d["id"]: d for d in client.ask("devices")["devices"]}


def code(name: str) -> int:
    return key_table().find(name).code


def press(client: EngineClient, device: str, key: str, down: bool = True) -> None:
    client.ask("press", device=device, code=code(key), down=down)


def tap(client: EngineClient, device: str, key: str) -> None:
    press(client, device, key)
    press(client, device, key, False)


def take_pad(client: EngineClient, device: str, name: str) -> str:
    return str(client.ask("take", device=device, name=name, layout="numpad")["surface"])


def heard(client: EngineClient, count: int) -> list[Row]:
    found: list[Row] = []
    for message in client.news():
        if message["topic"] == "heard" and message["down"]:
            found.append(message)
            if len(found) == count:
                return found
    return found


def test_pressing_tells_which_device_it_is_and_takes_nothing_over(client: EngineClient) -> None:
    client.ask("follow", topics=["heard"])
    tap(client, "bench/b", "Pad5")
    assert client.ask("listen", seconds=5)["seconds"] == 5
    tap(client, "bench/b", "Pad5")
    (told,) = heard(client, 1)
    assert (told["device"], told["key"], told["kernel"], told["hex"], told["surface"]) == (
        "bench/b", "Pad5", "KEY_KP5", "0x4c", "")
    assert surfaces(client) == {}
    assert devices(client)["bench/b"]["twin"] and not devices(client)["bench/double"]["twin"]
    assert devices(client)["bench/double"]["shown"].startswith("Juniper stick \\u001b[31m with a name of far")
    client.ask("hush")
    assert client.ask("devices")["left_ms"] == 0
    tap(client, "bench/b", "Pad6")
    client.set_timeout(0.3)
    with pytest.raises(TimeoutError):
        heard(client, 1)


def test_a_device_becomes_a_surface_that_works_and_undo_frees_it(client: EngineClient, folder: Path) -> None:
    found = client.ask("proposals", device="bench/a")["proposals"]
    assert (found[0]["layout"], found[0]["learn"], len(found[0]["controls"])) == ("numpad", False, 17)
    name = take_pad(client, "bench/a", "Left: the cameras")
    assert name == "left-the-cameras"
    state = surfaces(client)[name]
    assert (state["state"], state["known_by"], state["where"]) == (
        "taken", ["same maker and product", "in the same port"], "bench hub, left")
    client.ask("bind", surface=name, control="5", kind="tap", target="Ctrl+A")
    tap(client, "bench/a", "Pad5")
    wait_for(lambda: client.ask("traces")["traces"][-1]["state"] == "done")
    assert client.ask("traces")["traces"][-1]["words"] == "Ctrl+A"
    with pytest.raises(EngineError, match="already"):
        take_pad(client, "bench/a", "Again")
    text = (folder / "desk" / "desk.toml").read_text()
    assert 'device = {name = "Marram numeric pad", port = "bench hub, left", vendor = "4d52"' in text
    client.ask("undo")
    client.ask("undo")
    assert surfaces(client) == {} and devices(client)["bench/a"]["surface"] == ""
    client.ask("redo")
    client.ask("redo")
    assert surfaces(client)[name]["controls"][9]["words"] == "Ctrl+A"
    client.ask("remove", surface=name)
    assert surfaces(client) == {}


def test_the_main_keyboard_is_refused_and_the_last_one_is_taken_on_trial_only(client: EngineClient) -> None:
    with pytest.raises(EngineError, match="the only full keyboard here") as refused:
        client.ask("take", device="bench/keyboard", layout="full-ansi")
    assert refused.value.code == "only-keyboard" and ON_TRIAL in refused.value.hint
    client.ask("follow", topics=["desk"])
    reply = client.ask("take", device="bench/keyboard", layout="full-ansi", typed=ON_TRIAL)
    name = reply["surface"]
    assert reply["trial_seconds"] == 10
    assert (surfaces(client)[name]["state"], surfaces(client)[name]["trial"]) == ("taken", True)
    client.ask("keep", surface=name)
    assert (surfaces(client)[name]["state"], surfaces(client)[name]["trial"]) == ("taken", False)
    client.ask("remove", surface=name)
    client.ask("main", device="bench/keyboard")
    assert client.ask("devices")["main_known"]
    with pytest.raises(EngineError, match="your main keyboard"):
        client.ask("take", device="bench/keyboard", typed=ON_TRIAL)


def test_a_trial_that_nobody_confirms_gives_the_keyboard_back(client: EngineClient) -> None:
    name = client.ask("take", device="bench/keyboard", layout="full-ansi", typed=ON_TRIAL)["surface"]
    assert devices(client)["bench/keyboard"]["surface"] == name
    wait_for(lambda: surfaces(client) == {}, seconds=14)
    assert devices(client)["bench/keyboard"]["surface"] == ""


def test_what_was_refused_is_tried_by_waking_it_and_kept_or_given_back(folder: Path) -> None:
    file = folder / "desk" / "desk.toml"
    with connect(folder) as client:
        name = client.ask("take", device="bench/keyboard", layout="full-ansi", name="All", typed=ON_TRIAL)["surface"]
        client.ask("keep", surface=name)
    kept = file.read_text()
    file.write_text(kept.replace("may_be_only_keyboard = true", ""))
    assert file.read_text() != kept
    with connect(folder) as client:
        def state() -> tuple[str, bool]:
            row = surfaces(client)[name]
            return str(row["state"]), bool(row["trial"])
        assert state() == ("refused", False) and "brass-pebble wake" in surfaces(client)[name]["why"]
        # Waking everything is not meant for it.
        client.ask("wake")
        assert state() == ("refused", False)
        assert client.ask("wake", surface=name)["states"] == {name: "taken"} and state() == ("taken", True)
        wait_for(lambda: state() == ("refused", False), seconds=14)
        assert "nobody kept it" in client.ask("desk")["problems"][0]["what"]
        told = run_cli("wake", name, "--desk", str(folder / "desk")).stdout
        assert f"{name}: taken" in told and f"brass-pebble keep {name}" in told
        assert "kept, though it is the only keyboard" in run_cli("keep", name, "--desk", str(folder / "desk")).stdout
        wait_for(lambda: state() == ("taken", False))
        assert file.read_text().count("may_be_only_keyboard = true") == 1


def test_while_it_is_drawn_or_tried_a_surface_commands_nothing(client: EngineClient) -> None:
    name = take_pad(client, "bench/a", "Pad")
    client.ask("bind", surface=name, control="5", kind="tap", target="Ctrl+A")
    client.ask("follow", topics=["heard"])
    client.ask("attend", surface=name)
    tap(client, "bench/a", "Pad5")
    assert heard(client, 1)[0]["surface"] == name
    assert client.ask("traces")["traces"] == []
    client.ask("attend", surface="")
    tap(client, "bench/a", "Pad5")
    wait_for(lambda: len(client.ask("traces")["traces"]) == 1)


def test_drawing_anew_keeps_what_was_bound(client: EngineClient, folder: Path) -> None:
    name = take_pad(client, "bench/a", "Pad")
    client.ask("bind", surface=name, control="5", kind="tap", target="Ctrl+A", label="five")
    rows = [{"id": word, "code": code(key), "x": x, "y": 0, "w": 1, "h": 1, "legend": word}
            for x, (word, key) in enumerate((("one", "Pad1"), ("middle", "Pad5")))]
    client.ask("draw", surface=name, drawing={"name": "Two keys", "controls": rows})
    state = surfaces(client)[name]
    assert [(c["id"], c.get("label", "")) for c in state["controls"]] == [("one", ""), ("middle", "five")]
    # Kept for all desks, and proposed for the twin.
    assert client.ask("proposals", device="bench/b")["proposals"][0]["name"] == "Two keys"
    overlapping = [dict(row, x=0) for row in rows]
    with pytest.raises(EngineError, match="overlaps"):
        client.ask("draw", surface=name, drawing={"name": "x", "controls": overlapping})
    client.ask("undo")
    assert len(surfaces(client)[name]["controls"]) == 17
    assert surfaces(client)[name]["controls"][9]["label"] == "five"
    assert client.ask("desk")["problems"] == []


def test_keys_learnt_for_a_drawing_and_the_ones_left_out(client: EngineClient) -> None:
    name = client.ask("take", device="bench/double", layout="pedals-3")["surface"]
    client.ask("draw", surface=name, layout="pedals-3", keys={"left": code("F15"), "right": code("F16")})
    assert {c["id"]: c["code"] for c in surfaces(client)[name]["controls"]} == {
        "left": code("F15"), "middle": code("B"), "right": code("F16")}


def test_one_press_that_arrives_twice_is_explained_and_one_of_them_swallowed(client: EngineClient) -> None:
    client.ask("follow", topics=["heard"])
    client.ask("listen", seconds=5)
    tap(client, "bench/double", "F13")
    first, second = heard(client, 2)
    assert first["double"] is None
    assert (second["double"]["first"]["key"], second["double"]["second"]["key"]) == ("F13", "X")
    assert second["double"]["times"] == 1 and second["double"]["apart_ms"] < 15
    name = client.ask("take", device="bench/double", layout="grid-3x2", second=[code("X")])["surface"]
    client.ask("bind", surface=name, control="1", kind="tap", target="Ctrl+A")
    tap(client, "bench/double", "F13")
    wait_for(lambda: client.ask("traces")["traces"][-1]["state"] == "done")
    (trace,) = client.ask("traces")["traces"]
    assert trace["remarks"] == ["it arrived twice; X was dropped"]
    assert trace["sentence"].endswith("; it arrived twice; X was dropped.")


def test_settings_are_live_saved_and_undone(client: EngineClient) -> None:
    name = take_pad(client, "bench/a", "Pad")
    for what, value in (("name", "Cameras"), ("unbound", "pass"), ("unplugged", "end"), ("debounce", "20ms"),
                        ("at", [3.5, 1]), ("num", "armed")):
        client.ask("set", surface=name, what=what, value=value)
    state = surfaces(client)[name]
    assert (state["name"], state["unbound"], state["unplugged"], state["debounce_ms"], state["at"], state["lamps"]) == (
        "Cameras", "pass", "end", 20, [3.5, 1.0], {"num": "armed"})
    assert client.ask("desk")["problems"] == []
    for _ in range(6):
        client.ask("undo")
    assert surfaces(client)[name]["name"] == "Pad" and surfaces(client)[name]["lamps"] == {}
    for what, value in (("debounce", "20"), ("colour", "red")):
        with pytest.raises(EngineError):
            client.ask("set", surface=name, what=what, value=value)


def test_debounce_ignores_what_bounces_and_says_so(client: EngineClient) -> None:
    name = take_pad(client, "bench/a", "Pad")
    client.ask("bind", surface=name, control="5", kind="sustain", target="Ctrl+A")
    client.ask("set", surface=name, what="debounce", value="150ms")
    press(client, "bench/a", "Pad5")
    for _ in range(2):
        press(client, "bench/a", "Pad5", False)
        press(client, "bench/a", "Pad5")
    press(client, "bench/a", "Pad5", False)
    wait_for(lambda: client.ask("traces")["traces"][-1]["state"] == "done")
    (trace,) = client.ask("traces")["traces"]
    assert trace["count"] == 4
    assert trace["remarks"] == ["2 bounces ignored, the release believed after 150 ms"]


def test_a_switch_that_bounces_is_noticed_and_a_time_offered(client: EngineClient) -> None:
    name = take_pad(client, "bench/a", "Pad")
    for _ in range(4):
        tap(client, "bench/a", "Pad5")
        tap(client, "bench/a", "Pad5")
        time.sleep(0.15)
    wait_for(lambda: surfaces(client)[name]["chatter"] is not None)
    chatter = surfaces(client)[name]["chatter"]
    assert chatter["control"] == "5" and chatter["times"] == 3 and chatter["offer"].endswith("ms")
    client.ask("set", surface=name, what="debounce", value=chatter["offer"])
    assert surfaces(client)[name]["chatter"] is None


def test_pulled_out_in_the_middle_ends_or_goes_on_as_the_surface_says(client: EngineClient, folder: Path) -> None:
    (folder / "desk" / "macros").mkdir()
    (folder / "desk" / "macros" / "long.macro").write_text("down F15\nwait 30s\n")
    name = take_pad(client, "bench/a", "Pad")
    wait_for(lambda: len(client.ask("desk")["desk"]["macros"]) == 1)
    client.ask("bind", surface=name, control="5", kind="play", target="long")
    for policy, state in (("go on", "playing"), ("end", "stopped")):
        client.ask("set", surface=name, what="unplugged", value=policy)
        press(client, "bench/a", "Pad5")
        client.ask("bench", device="bench/a", there=False)
        # A moment later its twin could be meant, too.
        assert surfaces(client)[name]["state"] in ("missing", "unsure")
        wait_for(lambda state=state: client.ask("traces")["traces"][-1]["state"] == state)
        client.ask("bench", device="bench/a", there=True)
        wait_for(lambda: surfaces(client)[name]["state"] == "taken")
        client.ask("stop")


def test_twins_in_other_ports_are_asked_about_once_and_remembered(folder: Path) -> None:
    with connect(folder) as client:
        left, right = take_pad(client, "bench/a", "Left"), take_pad(client, "bench/b", "Right")
        for device in ("bench/a", "bench/b"):
            client.ask("bench", device=device, there=False)
        client.ask("bench", device="bench/a", there=True, port="bench hub, top")
        client.ask("bench", device="bench/b", there=True, port="bench hub, bottom")
        wait_for(lambda: surfaces(client)[left]["state"] == "unsure" == surfaces(client)[right]["state"])
        assert client.ask("desk")["desk"]["question"] == left
        assert "2 devices could be it" in surfaces(client)[left]["why"]
        # One press on the left one settles both.
        tap(client, "bench/b", "Pad1")
        wait_for(lambda: surfaces(client)[right]["state"] == "taken")
        assert (surfaces(client)[left]["where"], surfaces(client)[right]["where"]) == (
            "bench hub, bottom", "bench hub, top")
        assert client.ask("desk")["desk"]["question"] == ""
    known = json.loads((state_folder() / "known" / f"{desk_key(folder / 'desk')}.json").read_text())
    assert known["ports"] == {left: "bench hub, bottom", right: "bench hub, top"}
    # After a restart nobody is asked again.
    text = (folder / "bench.toml").read_text()
    (folder / "bench.toml").write_text(text.replace("hub, left", "hub, bottom").replace("hub, right", "hub, top"))
    with connect(folder) as client:
        assert {s["id"]: (s["state"], s["where"]) for s in surfaces(client).values()} == {
            left: ("taken", "bench hub, bottom"), right: ("taken", "bench hub, top")}


def test_a_client_that_leaves_stops_listening_and_gives_the_surface_back(client: EngineClient, folder: Path) -> None:
    from brass_pebble.client import running_sockets
    name = take_pad(client, "bench/a", "Pad")
    with EngineClient(running_sockets()[0], "short") as other:
        other.ask("listen", seconds=60)
        other.ask("attend", surface=name)
    wait_for(lambda: client.ask("devices")["left_ms"] == 0)
    tap(client, "bench/a", "Pad5")
    wait_for(lambda: len(client.ask("traces")["traces"]) == 1)


def test_a_desk_for_hardware_that_is_not_here_opens_greyed_and_editable(client: EngineClient, folder: Path) -> None:
    file = folder / "desk" / "desk.toml"
    file.write_text(file.read_text() + '[surface.far]\nname = "Far"\nlayout = "numpad"\n'
                    'device = { name = "Nowhere pad" }\n[surface.far.layer.base]\n')
    wait_for(lambda: "far" in surfaces(client))
    assert surfaces(client)["far"]["state"] == "missing"
    client.ask("bind", surface="far", control="5", kind="tap", target="A")
    assert surfaces(client)["far"]["controls"][9]["words"] == "A"


def test_a_control_that_the_device_cannot_send_is_marked(client: EngineClient) -> None:
    name = client.ask("take", device="bench/double", layout="numpad")["surface"]
    assert all(c.get("absent") for c in surfaces(client)[name]["controls"])
    client.ask("draw", surface=name, layout="grid-3x2")
    assert not any(c.get("absent") for c in surfaces(client)[name]["controls"])


def test_a_surface_of_two_devices(client: EngineClient, folder: Path) -> None:
    name = client.ask("take", device="bench/double", layout="grid-3x2", also=["bench/b"])["surface"]
    assert devices(client)["bench/b"]["surface"] == name
    assert client.ask("desk")["problems"] == []
    client.ask("bind", surface=name, control="Pad7", kind="tap", target="F20")
    tap(client, "bench/b", "Pad7")
    wait_for(lambda: client.ask("traces")["traces"][-1]["words"] == "F20")


def test_a_place_on_none_of_the_others() -> None:
    boxes = [((0.0, 0.0), (4.0, 5.0)), ((4.7, 0.0), (4.0, 5.0))]
    for size in ((4.0, 5.0), (22.5, 6.5), (1.0, 1.0)):
        x, y = free_place(boxes, size)
        assert all(x >= at[0] + wide[0] or y >= at[1] + wide[1] or x + size[0] <= at[0] for at, wide in boxes)
    assert free_place([], (4.0, 2.0)) == (0.0, 0.0)
