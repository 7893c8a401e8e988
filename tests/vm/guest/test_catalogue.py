"""Every device of the catalogue, all at once on one desk: each feature is tried on each device that has it."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Iterator
from pathlib import Path

import evdev
import pytest
from catalogue import Made, Model, models
from hid import main_keyboard

from brass_pebble.core.devices.grip import HELD_FOR, PRESSES
from brass_pebble.kinds.kernel.listing import list_devices
from conftest import EngineProcess, RawReader, Reader, output_node

LISTED = [found for found in models() if not found.features & {"never listed", "gone"}]
ODD = ["gone-at-once", "motion-sensor"]
PRESSED = [found for found in LISTED if found.data.get("controls")]
TURNED = [found for found in LISTED if any(name.startswith("REL") for name in found.data.get("turns", {}))]
PUSHED = [found for found in LISTED if any(name.startswith("ABS") for name in found.data.get("turns", {}))]
ids = [found.id for found in LISTED]
# EV_REL and EV_ABS codes as a drawing names them.
WORDS = {"REL_X": "turn x", "REL_Y": "turn y", "REL_WHEEL": "turn wheel", "REL_HWHEEL": "turn sideways",
         "REL_DIAL": "turn dial", "ABS_X": "axis x", "ABS_Y": "axis y", "ABS_Z": "axis z", "ABS_RZ": "axis rz",
         "ABS_PRESSURE": "axis 24"}


def desk_of(found: list[Model]) -> tuple[str, dict[str, str]]:
    """A desk with a surface for each device, and a drawing for those on which something moves."""
    text, layouts = 'format = 1\nname = "Catalogue"\ntap = "5ms"\n', {}
    for number, model in enumerate(found):
        port = model.data.get("port", f"usb-catalogue-{model.id}")
        text += (f'\n[surface.{model.id}]\nname = "{model.id}"\nat = [0, {number * 3}]\nmay_be_only_keyboard = true\n'
                 f'may_be_only_pointer = true\ndevice = {{ port = "{port}" }}\n')
        if not (turns := model.data.get("turns")):
            continue
        rows = [f'{{ id = "{name}", moves = ["{WORDS[name]}"], x = {index}, y = 0 }}'
                for index, name in enumerate(turns)]
        layouts[model.id] = f'name = "{model.id}"\ncontrol = [\n  {", ".join(rows)},\n]\n'
        text += f'layout = "{model.id}"\n'
        for index, name in enumerate(turns):
            gesture = "at 80 to 100 %" if name.startswith("ABS") else "turn right"
            text += f'[surface.{model.id}.layer.base."{gesture}"]\n' if not index or name == "ABS_X" else ""
            text += f'"{name}" = {{ tap = "F{13 + index}" }}\n'
    return text, layouts


class Shelf:
    """All devices, plugged in, and an engine that has taken every one of them over."""

    def __init__(self, folder: Path) -> None:
        self.main = main_keyboard()
        self.made = {model.id: model.make() for model in LISTED}
        text, layouts = desk_of(LISTED)
        (folder / "layouts").mkdir()
        for name, layout in layouts.items():
            (folder / "layouts" / f"{name}.toml").write_text(layout)
        (folder / "desk.toml").write_text(text)
        self.engine = EngineProcess(folder, surfaces=len(LISTED))
        self.sent = Reader(output_node())

    def states(self) -> dict[str, str]:
        return {row["id"]: row["state"] for row in self.engine.request("desk")["desk"]["surfaces"]}

    def wait_for(self, name: str, state: str, seconds: float = 60) -> None:
        end = time.monotonic() + seconds
        while (now := self.states())[name] != state:
            assert time.monotonic() < end, now
            time.sleep(0.1)

    def news(self, surface: str, after: int, count: int) -> list[dict[str, object]]:
        """The traces of a surface's presses since one."""
        end = time.monotonic() + 60
        while True:
            found = [trace for trace in self.engine.traces() if trace["surface"] == surface and trace["id"] > after]
            if len(found) >= count or time.monotonic() > end:
                return found
            time.sleep(0.05)

    @property
    def latest(self) -> int:
        return max((trace["id"] for trace in self.engine.traces()), default=0)


@pytest.fixture(scope="module")
def shelf(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Shelf]:
    shelf = Shelf(tmp_path_factory.mktemp("shelf"))
    yield shelf
    shelf.engine.end(signal.SIGKILL)
    for made in [*shelf.made.values(), shelf.main]:
        made.pull_out()


def test_every_device_is_listed_as_what_it_is_and_taken_over(shelf: Shelf) -> None:
    here = {facts.port: facts for facts in list_devices()}
    for model in LISTED:
        facts = here[shelf.made[model.id].port]
        assert (facts.full, facts.points, len(facts.nodes)) == (
            model.data.get("full", False), model.data.get("points", False), len(shelf.made[model.id].nodes)), model.id
        assert set(facts.lamps) == set(model.data.get("lamps", ())), model.id
        assert set(model.codes.values()) <= set(facts.codes), model.id
        if "shown" in model.data:
            assert facts.shown == model.data["shown"]
        assert facts.shown.isprintable() and "\u202e" not in facts.shown
    states = shelf.states()
    assert {name: state for name, state in states.items() if state != "taken"} == {}


@pytest.mark.parametrize("model", PRESSED, ids=lambda model: model.id)
def test_every_control_is_told_by_its_node_and_reaches_nobody_else(shelf: Shelf, model: Model) -> None:
    made, others = shelf.made[model.id], [RawReader(node) for node in shelf.made[model.id].nodes]
    after = shelf.latest
    for control in model.codes:
        made.tap(control)
        time.sleep(0.05)
    told = shelf.news(model.id, after, len(model.codes))
    raws = [str(trace["raw"]) for trace in told]
    nodes = {Path(node).name for node in made.nodes}
    for control, code in model.codes.items():
        assert any(raw.split(",")[0].endswith(f" {code} (0x{code:x})") and raw.split(", ")[-1] in nodes
                   for raw in raws), (control, raws)
    assert all(reader.read(1, seconds=0.05) == [] for reader in others)


@pytest.mark.parametrize("model", TURNED, ids=lambda model: model.id)
def test_what_turns_is_stepped_without_loss(shelf: Shelf, model: Model) -> None:
    made = shelf.made[model.id]
    for index, name in enumerate(model.data["turns"]):
        shelf.sent.read(1000, seconds=0.05)
        for _ in range(3):
            made.turn(**{name: 2})
        events = shelf.sent.read(12, seconds=15)
        assert [value for key, value, _ in events if key == f"KEY_F{13 + index}"] == [1, 0] * 6, (name, events)


@pytest.mark.parametrize("model", PUSHED, ids=lambda model: model.id)
def test_what_is_pushed_to_its_end_is_a_press(shelf: Shelf, model: Model) -> None:
    made, name = shelf.made[model.id], next(name for name in model.data["turns"] if name.startswith("ABS"))
    node = next(node for node in made.nodes if evdev.ecodes.EV_ABS in evdev.InputDevice(node).capabilities())
    info = dict(evdev.InputDevice(node).capabilities()[evdev.ecodes.EV_ABS])[evdev.ecodes.ecodes[name]]
    made.turn(**{name: info.min + 1})
    shelf.sent.read(1000, seconds=0.1)
    made.turn(**{name: info.max})
    index = list(model.data["turns"]).index(name)
    assert [(key, value) for key, value, _ in shelf.sent.read(2, seconds=10)] == [
        (f"KEY_F{13 + index}", 1), (f"KEY_F{13 + index}", 0)]
    made.turn(**{name: info.min})


def test_a_stick_that_trembles_presses_nothing(shelf: Shelf) -> None:
    for model in models("trembles"):
        made, stream = shelf.made[model.id], model.data["stream"]
        shelf.sent.read(1000, seconds=0.1)
        for across, down in zip(stream["ABS_X"], stream["ABS_Y"], strict=True):
            made.turn(ABS_X=across, ABS_Y=down)
        assert shelf.sent.read(1, seconds=0.5) == []


@pytest.mark.parametrize("model", PRESSED, ids=lambda model: model.id)
def test_at_rest_it_works_like_any_device(shelf: Shelf, model: Model) -> None:
    made, control = shelf.made[model.id], next(iter(model.codes))
    reader = next(reader for reader in map(RawReader, made.nodes) if reader.has(model.codes[control]))
    shelf.engine.request("rest", surface=model.id)
    made.tap(control)
    assert reader.read(2) == [(model.codes[control], 1), (model.codes[control], 0)]
    assert shelf.engine.request("wake", surface=model.id)["states"][model.id] == "taken"
    made.tap(control)
    assert reader.read(1, seconds=0.1) == []


def test_what_is_pulled_out_is_known_again_and_the_others_do_not_notice(shelf: Shelf) -> None:
    # One of each kind: odd names, several nodes, a passage, no keys, lamps.
    for name in ("broken-name", "cut-name", "marked-name", "nameless", "desk-receiver", "bare-dial", "rudder",
                 "lit-keyboard", "numpad"):
        made = shelf.made[name]
        made.pull_out()
        shelf.wait_for(name, "missing")
        others = {other: state for other, state in shelf.states().items() if other != name and state != "taken"}
        assert others == {}
        made.plug_in()
        shelf.wait_for(name, "taken")


def test_a_node_that_comes_late_is_taken_too(shelf: Shelf) -> None:
    for model in models("late"):
        made = shelf.made[model.id]
        made.add_late_nodes()
        name = next(iter(model.data["late"]))
        reader, after = RawReader(made.nodes[-1]), shelf.latest
        end = time.monotonic() + 60
        while not reader.is_taken():
            assert time.monotonic() < end
            time.sleep(0.05)
        shelf.wait_for(model.id, "taken")
        made.tap(name)
        assert reader.read(1, seconds=0.2) == []
        assert any(f" {evdev.ecodes.ecodes[name]} " in str(trace["raw"]) for trace in shelf.news(model.id, after, 1))


def test_a_node_that_goes_at_once_stops_nobody(shelf: Shelf) -> None:
    (model,) = models("gone")
    for _ in range(15):
        Made(model, "usb-loose-plug").pull_out()
    assert set(shelf.states().values()) == {"taken"}
    made, after = shelf.made["one-key"], shelf.latest
    made.tap("KEY_F13")
    assert shelf.news("one-key", after, 1)


def test_a_switch_that_chatters_without_end_is_offered_a_debounce(shelf: Shelf) -> None:
    for model in models("chatters"):
        made, control = shelf.made[model.id], next(iter(model.codes))
        end = time.monotonic() + 60
        while True:
            # In an emulated machine that is short of time, not every one of these is quick enough to be a bounce.
            for _ in range(40):
                made.tap(control, 0.001)
            row = next(row for row in shelf.engine.request("desk")["desk"]["surfaces"] if row["id"] == model.id)
            if row["chatter"]:
                break
            assert time.monotonic() < end
        assert row["chatter"]["offer"].endswith("ms")


def test_what_is_never_a_surface_is_not_listed(shelf: Shelf) -> None:
    for model in models("never listed"):
        made = model.make()
        assert made.port not in {facts.port for facts in list_devices()}
        made.pull_out()


@pytest.mark.parametrize("name", ["one-key", "bare-dial", "rudder", "click-pedal", "broken-name"])
def test_each_gives_itself_back_by_the_grip(shelf: Shelf, name: str) -> None:
    made = shelf.made[name]
    controls = list(made.model.codes)
    for index in range(PRESSES):
        if controls:
            made.press(controls[0])
            if index < PRESSES - 1:
                made.release(controls[0])
        elif name == "bare-dial":
            made.turn(REL_DIAL=1 if index % 2 else -1)
        else:
            made.turn(ABS_X=0 if index % 2 else 255)
        time.sleep(0.05)
    shelf.wait_for(name, "resting", seconds=HELD_FOR / 1e9 + 6)
    if controls:
        made.release(controls[0])
    shelf.engine.request("wake", surface=name)
    shelf.wait_for(name, "taken")


def test_a_flood_of_names_ends_nothing(shelf: Shelf) -> None:
    assert shelf.engine.process.poll() is None
    code = os.system("brass-pebble devices > /run/tmp/devices.txt")
    text = Path("/run/tmp/devices.txt").read_text(encoding="utf-8")
    assert code == 0 and "\u202e" not in text and "\u200b" not in text
    assert "Dab \\u202egnirts\\u202c pad\\u200b" in text and "Brent \\xffcaf\\xe9 key" in text


def test_virtual_devices_are_made_by_somebody_who_may_open_no_node_of_theirs_yet(shelf: Shelf) -> None:
    from brass_pebble.kinds.kernel.virtual import make_device
    from brass_pebble.kinds.outputs.uinput import UinputOutput
    os.chmod("/dev/uinput", 0o666)
    # The one node that such a user may open has a name that is no text.
    os.chmod(shelf.made["broken-name"].nodes[0], 0o666)
    make_device({1: [30]}, name="First").close()
    child = os.fork()
    if not child:
        code = 1
        try:
            os.setgroups([])
            os.setuid(65534)
            UinputOutput().close()
            code = 0
        finally:
            os._exit(code)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
