"""A real engine process over its socket: presses on the bench, edits, broken files, clients that misbehave."""

from __future__ import annotations

import contextlib
import json
import os
import re
import signal
import socket
import stat
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from brass_pebble.client import EngineClient, EngineError, StartError, start_engine
from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.demo import ENGINE_OPTIONS, HERE
from brass_pebble.engine.assemble import assemble
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.engine.engine import Engine
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.inputs.bench import BenchInput, read_bench
from brass_pebble.kinds.inputs.evdev import KeyStream
from brass_pebble.kinds.kernel.node import EVENT
from brass_pebble.kinds.outputs.stage import StageOutput, read_programs
from brass_pebble.kinds.outputs.uinput import RecordOutput
from brass_pebble.paths import socket_path
from conftest import wait_for
from standstill import took

Row = dict[str, Any]


def follow(client: EngineClient, *topics: str) -> Iterator[Row]:
    client.ask("follow", topics=list(topics))
    return client.news()


def press(client: EngineClient, surface: str, control: str, seconds: float = 0.02) -> int:
    trace = client.ask("press", surface=surface, control=control, down=True)["trace"]
    time.sleep(seconds)
    client.ask("press", surface=surface, control=control, down=False)
    return int(trace)


def finished(client: EngineClient, number: int) -> Row:
    """The trace with this number, when its run has ended."""
    found: list[Row] = []

    def look() -> bool:
        found[:] = [t for t in client.ask("traces")["traces"] if t["id"] == number]
        return bool(found) and found[0]["state"] not in ("playing", "holding", "queued")
    wait_for(look)
    return found[0]


def stage_state(client: EngineClient) -> Row:
    return dict(client.ask("desk")["programs"][0]["state"])


def test_one_key_two_pads_two_answers_and_a_full_account(client: EngineClient) -> None:
    left = finished(client, press(client, "left-numpad", "8"))
    right = finished(client, press(client, "right-numpad", "8"))
    assert stage_state(client)["camera"] == "hob"
    assert stage_state(client)["sting"] == "drum roll"
    assert [(e["key"], e["down"]) for e in left["sent"]] == [
        ("Ctrl", True), ("Alt", True), ("2", True), ("2", False), ("Alt", False), ("Ctrl", False)]
    assert (left["layer_name"], right["layer_name"]) == ("Class", "Stings")
    assert left["sentence"].startswith("Left numpad 8, press, in Class: tapped Ctrl+Alt+2; down ")
    assert re.search(r" later, up after \d+ ms\. Ovenlight: camera hob on air\.$", left["sentence"])
    for effect in left["sent"]:
        assert effect["at_ms"] >= effect["planned_ms"]


def test_a_sustained_chord_ends_with_the_press(client: EngineClient) -> None:
    trace = client.ask("press", surface="pedals", control="left", down=True)["trace"]
    wait_for(lambda: stage_state(client)["mic"] == "muted")
    client.ask("press", surface="pedals", control="left", down=False)
    wait_for(lambda: stage_state(client)["mic"] == "live")
    assert finished(client, trace)["state"] == "done"


def test_an_empty_key_says_so(client: EngineClient) -> None:
    trace = finished(client, press(client, "right-numpad", "1"))
    assert trace["sentence"] == "Right numpad 1, press, in Stings: nothing bound; swallowed."
    assert trace["sent"] == []


def test_stop_releases_everything_at_once(client: EngineClient) -> None:
    macro = client.ask("play", macro="welcome")["trace"]
    client.ask("press", surface="pedals", control="left", down=True)
    assert client.ask("stop")["runs"] == 2
    told = finished(client, macro)
    assert told["state"] == "stopped"
    assert sum(1 if e["down"] else -1 for e in told["sent"]) == 0
    assert stage_state(client)["mic"] == "live"


def test_what_a_leaving_client_held_is_let_go(engine: Path, client: EngineClient) -> None:
    with EngineClient(engine, "another") as other:
        other.ask("press", surface="pedals", control="left", down=True)
        wait_for(lambda: stage_state(client)["mic"] == "muted")
    wait_for(lambda: stage_state(client)["mic"] == "live")
    assert client.ask("desk")["down"] == []


def test_a_binding_is_live_saved_and_undoable(client: EngineClient, desk: Path) -> None:
    before = (desk / "desk.toml").read_text()
    client.ask("bind", surface="right-numpad", control="1", kind="tap", target="Ctrl+Alt+6", label="guest")
    assert '1 = {tap = "Ctrl+Alt+6", label = "guest"}' in (desk / "desk.toml").read_text()
    finished(client, press(client, "right-numpad", "1"))
    assert stage_state(client)["camera"] == "guest"
    assert client.ask("desk")["desk"]["undo"] == "right-numpad 1: tap Ctrl+Alt+6"
    client.ask("undo")
    assert (desk / "desk.toml").read_text() == before
    assert "nothing bound" in finished(client, press(client, "right-numpad", "1"))["sentence"]
    client.ask("redo")
    assert finished(client, press(client, "right-numpad", "1"))["words"] == "Ctrl+Alt+6"


def test_a_resting_surface_answers_nothing_until_it_is_woken(client: EngineClient) -> None:
    client.ask("bind", surface="left-numpad", control="num", kind="do", target="rest or wake")
    client.ask("press", surface="pedals", control="left", down=True)
    wait_for(lambda: stage_state(client)["mic"] == "muted")
    assert client.ask("rest", surface="pedals")["states"] == {"pedals": "resting"}
    wait_for(lambda: stage_state(client)["mic"] == "live")
    assert press(client, "pedals", "left") == 0
    press(client, "left-numpad", "num")
    before = len(client.ask("traces")["traces"])
    assert press(client, "left-numpad", "8") == 0
    assert len(client.ask("traces")["traces"]) == before
    press(client, "left-numpad", "num")
    finished(client, press(client, "left-numpad", "8"))
    assert stage_state(client)["camera"] == "hob"
    assert set(client.ask("wake")["states"].values()) == {"taken"}
    assert press(client, "pedals", "left")


def test_a_press_ends_as_it_began_when_its_binding_changes_meanwhile(client: EngineClient) -> None:
    client.ask("press", surface="pedals", control="left", down=True)
    client.ask("bind", surface="pedals", control="left", kind="tap", target="F13")
    assert stage_state(client)["mic"] == "muted"
    client.ask("press", surface="pedals", control="left", down=False)
    wait_for(lambda: stage_state(client)["mic"] == "live")


@pytest.mark.parametrize(("fields", "what"), [
    ({"surface": "right-numpad", "control": "1", "kind": "tap", "target": "Ctlr+1"}, "no key called “Ctlr”"),
    ({"surface": "right-numpad", "control": "1", "kind": "play", "target": "welcom"}, "no macro “welcom”"),
    ({"surface": "right-numpd", "control": "1", "kind": "tap", "target": "A"}, "no surface “right-numpd”"),
    ({"surface": "right-numpad", "control": "q1", "kind": "tap", "target": "A"}, "no control “q1”"),
    ({"surface": "right-numpad", "control": "1", "kind": "tpa", "target": "A"}, "not a kind of action"),
])
def test_an_impossible_binding_is_refused(client: EngineClient, desk: Path, fields: Row, what: str) -> None:
    before = (desk / "desk.toml").read_text()
    with pytest.raises(EngineError, match=what):
        client.ask("bind", **fields)
    assert (desk / "desk.toml").read_text() == before


def test_an_edit_from_outside_is_taken_up_and_a_broken_one_keeps_the_last_good_desk(
        client: EngineClient, desk: Path) -> None:
    news = follow(client, "desk", "problem")
    file = desk / "desk.toml"
    good = file.read_text()
    file.write_text(good.replace('label = "hob"', 'label = "stove"'))
    wait_for(lambda: "stove" in json.dumps(next(news)))
    file.write_text(good.replace("[surface.pedals]", "[surface.pedals"))
    line = good.split("[surface.pedals]")[0].count("\n") + 1
    wait_for(lambda: any(p["line"] == line for p in client.ask("desk")["problems"]))
    assert len(client.ask("desk")["desk"]["surfaces"]) == 7
    with pytest.raises(EngineError, match=f"mistake in line {line}, so nothing was changed"):
        client.ask("bind", surface="pedals", control="left", kind="tap", target="A")
    finished(client, press(client, "left-numpad", "8"))
    assert stage_state(client)["camera"] == "hob"
    file.write_text(good)
    wait_for(lambda: client.ask("desk")["problems"] == [])


def test_a_broken_macro_is_told_and_its_last_good_version_plays(client: EngineClient, desk: Path) -> None:
    (desk / "macros" / "welcome.macro").write_text("tap F13\ntpa A\n")
    wait_for(lambda: client.ask("desk")["problems"])
    (problem,) = client.ask("desk")["problems"]
    assert (problem["file"], problem["line"], problem["column"]) == ("macros/welcome.macro", 2, 1)
    assert "The last good version stays in use" in problem["hint"]
    assert "played “Welcome”" in finished(client, press(client, "left-numpad", "2"))["sentence"]
    # One that never was any good explains itself.
    (desk / "macros" / "never.macro").write_text("tpa A\n")
    wait_for(lambda: len(client.ask("desk")["problems"]) == 2)
    client.ask("bind", surface="left-numpad", layer="class", control="2", kind="play", target="never")
    assert "mistake in line 1" in finished(client, press(client, "left-numpad", "2"))["sentence"]
    assert finished(client, press(client, "left-numpad", "4"))["state"] == "done"


def test_the_class_plays_by_itself(client: EngineClient) -> None:
    news = follow(client, "script", "trace")
    client.ask("script", run=True)
    assert "Good evening" in next(m for m in news if m["topic"] == "script")["caption"]
    wait_for(lambda: "Welcome" in json.dumps(next(news), ensure_ascii=False))
    client.ask("script", run=False)
    wait_for(lambda: next(news).get("running") is False)


def test_the_socket_is_private(engine: Path) -> None:
    assert stat.S_IMODE(engine.stat().st_mode) == 0o600
    assert stat.S_IMODE(engine.parent.stat().st_mode) == 0o700


def raw(path: Path) -> socket.socket:
    connection = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    connection.settimeout(5)
    connection.connect(str(path))
    return connection


def test_another_user_is_refused(engine: Path) -> None:
    for folder in (engine.parent, *engine.parents):
        if str(folder) != "/":
            folder.chmod(folder.stat().st_mode | 0o755)
    engine.chmod(0o666)
    child = os.fork()
    if child == 0:
        try:
            os.setgid(12345)
            os.setuid(12345)
            connection = raw(engine)
            connection.sendall(b'{"do":"hello","protocol":1}\n')
            os._exit(0 if connection.recv(100) == b"" else 1)
        except (ConnectionResetError, BrokenPipeError):
            os._exit(0)
        except BaseException:
            os._exit(2)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0


@pytest.mark.parametrize(("line", "code"), [
    (b"nonsense\n", "bad-message"), (b"[1]\n", "bad-message"), (b'{"do":"desk"}\n', "no-hello"),
    (b'{"do":"hello","protocol":99}\n', "wrong-protocol"), (b"[" * 10_000 + b"\n", "bad-message"),
    # Not its own name: with it no process could be started.
    pytest.param(b"x" * 300_000, "too-long", id="a line that is too long"),
])
def test_nonsense_on_the_socket_is_answered_not_obeyed(engine: Path, client: EngineClient, line: bytes,
                                                       code: str) -> None:
    with raw(engine) as connection:
        with contextlib.suppress(BrokenPipeError):
            connection.sendall(line)
        reply = json.loads(connection.makefile("rb").readline())
    assert reply["error"]["code"] == code
    assert client.ask("desk")["desk"]["name"] == "Saltmarsh Bakehouse"


def test_unknown_requests_and_topics(client: EngineClient) -> None:
    with pytest.raises(EngineError, match=r"no request “pres”. Did you mean press\?"):
        client.ask("pres")
    with pytest.raises(EngineError, match="unknown topic"):
        client.ask("follow", topics=["gossip"])


def test_a_client_that_does_not_read_delays_nobody(engine: Path, client: EngineClient) -> None:
    with raw(engine) as stalled:
        stalled.sendall(b'{"do":"hello","protocol":1}\n{"do":"follow","topics":["desk","press","trace","stage"]}\n')
        time.sleep(0.1)
        for _ in range(400):
            client.ask("press", surface="right-numpad", control="7", down=True)
            client.ask("press", surface="right-numpad", control="7", down=False)
        slowest = 0.0
        for _ in range(50):
            began = time.monotonic()
            client.ask("press", surface="right-numpad", control="8", down=True)
            client.ask("press", surface="right-numpad", control="8", down=False)
            slowest = max(slowest, took(began))
        # Far less than a client that never reads would hold it.
        assert slowest < 3
        # What has queued up goes; the next one is played.
        client.ask("stop")
        press(client, "right-numpad", "8")
        wait_for(lambda: stage_state(client)["sting"] == "drum roll")


def test_a_second_engine_on_the_desk_is_refused(engine: Path, desk: Path) -> None:
    with EngineClient(engine) as client:
        pid = client.hello["pid"]
    with pytest.raises(StartError, match=f"process id {pid}") as error:
        start_engine(desk, *ENGINE_OPTIONS)
    assert error.value.code == 5


def test_an_engine_started_for_a_screen_ends_with_it(desk: Path) -> None:
    path, process = start_engine(desk, *ENGINE_OPTIONS)
    with EngineClient(path, "passing by"):
        pass
    with EngineClient(path, "screen") as client:
        client.ask("follow", topics=["trace"])
    assert process.wait(timeout=15) == 0
    assert not path.exists()


def test_a_killed_engine_leaves_a_socket_that_the_next_one_takes(desk: Path) -> None:
    path, process = start_engine(desk, *ENGINE_OPTIONS)
    process.kill()
    process.wait()
    assert path.exists()
    again, process = start_engine(desk, *ENGINE_OPTIONS)
    with EngineClient(again) as client:
        assert client.ask("quit")["ok"]
    assert process.wait(timeout=15) == 0


def test_fields_that_cannot_be_are_refused(client: EngineClient) -> None:
    for count in ("many", [1], None, -1, 501, 2.5, True):
        with pytest.raises(EngineError, match="“count” cannot be so: it must be a whole number"):
            client.ask("traces", count=count)
    with pytest.raises(EngineError, match="not JSON"):
        client.ask("traces", count=1e400)
    with pytest.raises(EngineError, match=r"there is no field “coutn”\. Did you mean count\?"):
        client.ask("traces", coutn=4)
    with pytest.raises(EngineError, match="“macro” is missing"):
        client.ask("play")
    with pytest.raises(EngineError, match=r"there is no request “plai”\. Did you mean play\?"):
        client.ask("plai")
    assert client.ask("desk")["desk"]["name"] == "Saltmarsh Bakehouse"


@pytest.fixture
def fragile(desk: Path, tmp_path: Path) -> Iterator[tuple[Engine, StageOutput]]:
    """An engine in this process, so that a fault can be put into it."""
    store = DeskStore(desk, tmp_path / "versions")
    output = StageOutput(read_programs(HERE / "stage", ["ovenlight"]))
    bench = read_bench(HERE / "bench.toml", store.layout)
    engine = assemble(Setup(store, socket_path(desk), lambda desk: output, bench,
                          real_devices=False))
    thread = threading.Thread(target=engine.run)
    thread.start()
    yield engine, output
    engine.quit()
    with contextlib.suppress(OSError), raw(socket_path(desk)) as waker:
        waker.sendall(b"x")
    thread.join(timeout=5)
    assert not thread.is_alive()


def test_a_mistake_of_the_program_stops_and_releases_everything(fragile: tuple[Engine, StageOutput],
                                                                desk: Path) -> None:
    engine, _ = fragile
    with EngineClient(socket_path(desk)) as client:
        client.set_timeout(5)
        client.ask("press", surface="pedals", control="left", down=True)
        wait_for(lambda: stage_state(client)["mic"] == "muted")
        engine.player.on_end = lambda run, now: 1 // 0
        assert client.ask("stop")["runs"] == 1
    with EngineClient(socket_path(desk)) as client:
        wait_for(lambda: stage_state(client)["mic"] == "live")
        (problem,) = client.ask("desk")["problems"]
        assert "ZeroDivisionError" in problem["what"]
        finished(client, press(client, "left-numpad", "8"))
        assert stage_state(client)["camera"] == "hob"


def test_keys_sent_ahead_of_a_press_that_fails_go_up_again(desk: Path, tmp_path: Path) -> None:
    source, target = os.pipe()
    sink, output = os.pipe()
    stream = KeyStream(source)

    class Pipe(BenchInput):
        def filenos(self) -> list[int]:
            return [source]

        def read(self, fileno: int) -> list[tuple[int, int, int]]:
            return stream.read()

    engine = assemble(Setup(DeskStore(desk, tmp_path / "versions"), socket_path(desk),
                          lambda desk: RecordOutput(output), real_devices=False))
    engine.path.listen_to("left-numpad", Pipe(DeviceFacts("pipe", "Pipe")))
    engine.player.start = None
    os.write(target, EVENT.pack(int(time.monotonic()), 0, 1, 72, 1) + EVENT.pack(1, 0, 0, 0, 0))
    engine.ports.alarms.at("end", time.monotonic_ns() + 300_000_000, lambda now: engine.quit())
    engine.run()
    sent = [(code, value) for _, _, kind, code, value in EVENT.iter_unpack(os.read(sink, 4096)) if kind == 1]
    assert sent == [(29, 1), (56, 1), (3, 1), (3, 0), (56, 0), (29, 0)]
    for fileno in (source, target, sink, output):
        os.close(fileno)


def test_the_log_tells_what_the_engine_did_and_not_what_was_pressed(client: EngineClient) -> None:
    finished(client, press(client, "left-numpad", "plus"))
    log = Path(os.environ["XDG_STATE_HOME"]) / "brass-pebble" / "engine.log"
    wait_for(lambda: "ready in" in log.read_text())
    assert "Rye" not in log.read_text() and "KEY_" not in log.read_text()


def test_signals_end_it_in_order(desk: Path) -> None:
    for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        path, process = start_engine(desk, *ENGINE_OPTIONS)
        process.send_signal(number)
        assert process.wait(timeout=15) == 0
        assert not path.exists()


def bound(client: EngineClient, desk: Path, text: str, **fields: str) -> None:
    client.ask("write_macro", macro="bound", text=text)
    client.ask("bind", surface="right-numpad", control="1", kind="play", target="bound", **fields)


def test_a_binding_plays_while_held(client: EngineClient, desk: Path) -> None:
    bound(client, desk, "tap F13 for 20ms\nwait 60ms\n", plays="while held")
    number = client.ask("press", surface="right-numpad", control="1", down=True)["trace"]
    time.sleep(0.5)
    client.ask("press", surface="right-numpad", control="1", down=False)
    trace = finished(client, number)
    assert trace["state"] == "done" and 8 <= trace["count"] <= 14
    assert 'plays = "while held"' in (desk / "desk.toml").read_text()


def test_a_binding_plays_until_pressed_again(client: EngineClient, desk: Path) -> None:
    bound(client, desk, "tap F13 for 20ms\nwait 60ms\n", plays="until pressed again")
    first = press(client, "right-numpad", "1")
    time.sleep(0.3)
    second = press(client, "right-numpad", "1")
    assert finished(client, first)["state"] == "done"
    assert finished(client, second)["why"] == "ended by this press"


def test_a_binding_plays_several_times_and_ignores_a_second_press(client: EngineClient, desk: Path) -> None:
    bound(client, desk, "tap F13 for 20ms\nwait 30ms\n", plays="3 times", again="ignore")
    first, second = press(client, "right-numpad", "1"), press(client, "right-numpad", "1")
    assert finished(client, first)["count"] == 6
    assert "ignored" in finished(client, second)["why"]
    with pytest.raises(EngineError, match="is not a way to play"):
        bound(client, desk, "tap A", plays="sometimes")


def test_a_live_macro_knows_how_long_its_control_was_held(client: EngineClient, desk: Path) -> None:
    bound(client, desk, "wait until held > 200 at most 2s\nif held > 150\n  tap Ctrl+Alt+2\n"
          "repeat while held every 50ms\n  tap F13 for 20ms\n")
    number = client.ask("press", surface="right-numpad", control="1", down=True)["trace"]
    time.sleep(0.6)
    client.ask("press", surface="right-numpad", control="1", down=False)
    trace = finished(client, number)
    assert trace["state"] == "done" and stage_state(client)["camera"] == "hob"
    assert trace["first_ms"] >= 200 and trace["count"] > 8


def test_waiting_for_a_dialog_of_the_stage(client: EngineClient, desk: Path) -> None:
    bound(client, desk, 'tap Ctrl+Alt+E\nwait until window "title editor" is there at most 2s\ntype "Rye" every 60ms\n'
          "tap Enter\n")
    trace = finished(client, press(client, "right-numpad", "1"))
    assert trace["state"] == "done"
    wait_for(lambda: stage_state(client)["words"] == "Rye")


def test_layers_and_other_runs_from_a_macro(client: EngineClient, desk: Path) -> None:
    client.ask("write_macro", macro="long", text="down F15\nwait 30s\n")
    playing = client.ask("play", macro="long")["trace"]
    bound(client, desk, 'stop "long"\nlayer stings off\nlayer nowhere on\n')
    trace = finished(client, press(client, "right-numpad", "1"))
    assert finished(client, playing)["state"] == "stopped"
    wait_for(lambda: "line 1: stopped 1 other run" in client.ask("traces")["traces"][-1]["remarks"])
    assert any("no layer “nowhere”" in remark for remark in client.ask("traces")["traces"][-1]["remarks"]), trace
    surface = next(s for s in client.ask("desk")["desk"]["surfaces"] if s["id"] == "right-numpad")
    assert [(layer["id"], layer["on"]) for layer in surface["layers"]] == [("stings", True)]
    assert any("the lowest layer and always on" in remark for remark in
               client.ask("traces")["traces"][-1]["remarks"])


def test_macros_are_written_taken_away_and_brought_back(client: EngineClient, desk: Path) -> None:
    assert client.ask("write_macro", name="New: one", text="tap A\n")["macro"] == "new-one"
    assert client.ask("write_macro", name="New one", text="tap A\n")["macro"] == "new-one-2"
    assert client.ask("macros")["texts"]["new-one"] == "tap A\n"
    client.ask("remove_macro", macro="new-one")
    assert "new-one" not in client.ask("macros")["texts"]
    client.ask("undo")
    assert (desk / "macros" / "new-one.macro").read_text() == "tap A\n"
    for name in ("../evil", ".hidden", "a/b"):
        with pytest.raises(EngineError, match="file name"):
            client.ask("write_macro", macro=name, text="x")


def test_the_stage_has_no_clipboard_and_the_trace_says_so(client: EngineClient, desk: Path) -> None:
    bound(client, desk, 'tap F13\npaste "Rye"\ntap F14\n')
    trace = finished(client, press(client, "right-numpad", "1"))
    assert trace["state"] == "done"
    assert [event["key"] for event in trace["sent"] if event["down"]] == ["F13", "Ctrl", "V", "F14"]
    wait_for(lambda: client.ask("traces")["traces"][-1]["remarks"] == [
        "line 2: the programs of the stage have no clipboard"])


def test_a_surface_without_its_device_is_pressed_by_hand_and_the_trace_says_so(client: EngineClient,
                                                                               engine: Path) -> None:
    client.ask("bench", device="bench/numpad-left", there=False)
    wait_for(lambda: next(row for row in client.ask("desk")["desk"]["surfaces"]
                          if row["id"] == "left-numpad")["state"] == "missing")
    with pytest.raises(EngineError, match="is not on the bench"):
        client.ask("press", surface="left-numpad", control="9")
    number = client.ask("press", surface="left-numpad", control="9", by_hand=True)["trace"]
    client.ask("press", surface="left-numpad", control="9", down=False, by_hand=True)
    trace = finished(client, number)
    assert trace["state"] == "done" and trace["raw"].endswith("(0x49), by hand")
    assert stage_state(client)["camera"] == "oven"
    # What is held goes with the client that holds it.
    with EngineClient(engine, "other") as other:
        other.ask("press", surface="left-numpad", control="dot", by_hand=True)
        wait_for(lambda: "titles" in client.ask("focus")["on"]["left-numpad"])
    wait_for(lambda: "titles" not in client.ask("focus")["on"]["left-numpad"])
    client.ask("rest", surface="left-numpad")
    with pytest.raises(EngineError, match="is resting"):
        client.ask("press", surface="left-numpad", control="9", by_hand=True)
