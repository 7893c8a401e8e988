"""A real receiving program: a window under Xvfb that tells every event it gets, driven by the engine through XTEST."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import pytest

from brass_pebble.client import EngineClient, EngineError, start_engine
from brass_pebble.core.desk.layer_switch import fits
from brass_pebble.demo import know
from brass_pebble.kinds.windows.x11 import WindowsOfX11
from conftest import wait_for
from needed import needs
from standstill import took
from terminal import Terminal

Row = dict[str, Any]
CLIENT = """
import sys, time
from Xlib import X, XK, display
names = {getattr(XK, name): name[3:] for name in reversed(dir(XK)) if name.startswith("XK_")}
d = display.Display(); s = d.screen()
w = s.root.create_window(0, 0, 800, 600, 0, s.root_depth, event_mask=X.KeyPressMask | X.KeyReleaseMask |
                         X.ButtonPressMask | X.ButtonReleaseMask | X.PointerMotionMask)
w.set_wm_name(sys.argv[1]); w.set_wm_class("crumbcut", sys.argv[2] if len(sys.argv) > 2 else "Crumbcut")
w.map(); d.sync()
time.sleep(0.2); w.set_input_focus(X.RevertToParent, X.CurrentTime); d.sync()
print("ready", flush=True)
while True:
    e = d.next_event()
    if e.type in (X.KeyPress, X.KeyRelease):
        name = names.get(d.keycode_to_keysym(e.detail, 0), e.detail)
        print(f"{'down' if e.type == X.KeyPress else 'up'} {name} {e.time}", flush=True)
        how = {("v", X.ControlMask): "CLIPBOARD", ("v", X.ControlMask | X.ShiftMask): "CLIPBOARD",
               ("Insert", X.ShiftMask): "PRIMARY"}.get((name.lower() if len(str(name)) == 1 else name, e.state & 0xFF))
        if e.type == X.KeyPress and how and "--deaf" not in sys.argv:
            w.convert_selection(d.intern_atom(how), d.intern_atom("UTF8_STRING"), d.intern_atom("GOT"), e.time)
    elif e.type == X.SelectionNotify and e.property:
        print(f"pasted {w.get_full_property(e.property, X.AnyPropertyType).value.decode()!r} 0", flush=True)
    elif e.type in (X.ButtonPress, X.ButtonRelease):
        print(f"{'down' if e.type == X.ButtonPress else 'up'} button{e.detail} {e.time}", flush=True)
    elif e.type == X.MotionNotify:
        print(f"at {e.root_x},{e.root_y} {e.time}", flush=True)
"""
DESK = """
format = 1
name = "X desk"
output = "x11"
[surface.pad]
layout = "grid-3x2"
device = { port = "bench hub" }
[surface.pad.layer.base.press]
1 = { play = "keys" }
2 = { play = "mouse" }
3 = { play = "window" }
4 = { sustain = "Ctrl+M" }
5 = { play = "world" }
6 = { play = "paste" }
"""
BENCH = '[[device]]\nid = "bench/pad"\nname = "Pad"\nport = "bench hub"\nlayout = "grid-3x2"\n'
MACROS = {
    "keys": "keep Ctrl+Shift down\n  tap A\nwait 100ms\ntap B for 60ms\n",
    "mouse": "move to 100 80\nclick\nwait 30ms\nmove by 20 10\nclick right\nscroll down 2\nmove to 50% 50%\n",
    "window": 'wait until window "Late*" is focused at most 8s\ntap C\n',
    "paste": 'paste "Žluťoučký kůň"\n',
}


class Receiver:
    """The window's process, and what it told."""

    def __init__(self, title: str, *more: str) -> None:
        self.process = subprocess.Popen([sys.executable, "-c", CLIENT, title, *more], stdout=subprocess.PIPE, text=True)
        self.told: list[str] = []
        self.ready = False
        threading.Thread(target=self._read, daemon=True).start()
        wait_for(lambda: self.ready, 20)

    def _read(self) -> None:
        assert self.process.stdout
        for line in self.process.stdout:
            if line.strip() == "ready":
                self.ready = True
            else:
                self.told.append(line.strip())

    @property
    def events(self) -> list[str]:
        return [line.rsplit(" ", 1)[0] for line in self.told]

    def times(self) -> list[int]:
        return [int(line.rsplit(" ", 1)[1]) for line in self.told]

    def close(self) -> None:
        self.process.kill()
        self.process.wait()


@pytest.fixture
def receiver(display: str) -> Iterator[Receiver]:
    window = Receiver("Crumbcut, the timeline")
    yield window
    window.close()


@pytest.fixture
def client(receiver: Receiver, tmp_path: Path) -> Iterator[EngineClient]:
    desk = tmp_path / "desk"
    (desk / "macros").mkdir(parents=True)
    (desk / "desk.toml").write_text(DESK)
    (tmp_path / "bench.toml").write_text(BENCH)
    for name, text in MACROS.items():
        (desk / "macros" / f"{name}.macro").write_text(text)
    (desk / "macros" / "world.macro").write_text("tap Z\n")
    know(desk)
    socket, process = start_engine(desk, "--bench", str(tmp_path / "bench.toml"), "--bench-only")
    with EngineClient(socket, "test") as connected:
        connected.set_timeout(10)
        yield connected
        with contextlib.suppress(EngineError):
            connected.ask("quit")
    assert process.wait(timeout=15) == 0


def press(client: EngineClient, control: str) -> None:
    client.ask("press", surface="pad", control=control, down=True)
    client.ask("press", surface="pad", control=control, down=False)


def last(client: EngineClient) -> Row:
    return dict(client.ask("traces")["traces"][-1])


def write(client: EngineClient, text: str) -> None:
    client.ask("write_macro", macro="world", text=text)


def test_keys_arrive_in_order_and_on_time(client: EngineClient, receiver: Receiver) -> None:
    expected = ["down Control_L", "down Shift_L", "down a", "up a", "up Shift_L", "up Control_L", "down b", "up b"]
    planned = [0, 0, 0, 40, 40, 40, 140, 200]
    furthest = []
    # A busy machine may stop the display's server or the engine for a while; both have to come through it once.
    for _ in range(30):
        receiver.told.clear()
        press(client, "1")
        wait_for(lambda: len(receiver.told) >= 8)
        assert receiver.events == expected
        times = receiver.times()
        furthest.append(max(abs(at - times[0] - plan) for at, plan in zip(times, planned, strict=True)))
        if furthest[-1] <= 10:
            break
        time.sleep(0.7)
    assert min(furthest) <= 10, furthest


def test_the_pointer_moves_clicks_and_scrolls(client: EngineClient, receiver: Receiver) -> None:
    press(client, "2")
    wait_for(lambda: "up button5" in receiver.events and last(client)["state"] == "done")
    buttons = [event for event in receiver.events if "button" in event]
    assert buttons == ["down button1", "up button1", "down button3", "up button3", *["down button5", "up button5"] * 2]
    wait_for(lambda: receiver.events[-1] in ("at 400,300", "at 399,299", "at 400,299"))
    places = [event for event in receiver.events if event.startswith("at")]
    assert "at 100,80" in places and "at 120,90" in places


def test_a_window_is_waited_for(client: EngineClient, receiver: Receiver) -> None:
    press(client, "3")
    time.sleep(0.4)
    assert last(client)["state"] == "playing" and receiver.events == []
    late = Receiver("Late title editor")
    try:
        wait_for(lambda: late.events == ["down c", "up c"])
    finally:
        late.close()
    assert {window.title for window in look()} == {"Crumbcut, the timeline"}


def look() -> list[Any]:
    windows = WindowsOfX11()
    try:
        return windows.look()
    finally:
        windows.close()


def test_a_window_that_never_comes_ends_the_run_and_says_so(client: EngineClient, receiver: Receiver) -> None:
    write(client, 'keep Ctrl down\n  wait until window class "nothing" is there at most 200ms\n  tap A\n')
    press(client, "5")
    wait_for(lambda: last(client)["state"] == "stopped")
    assert last(client)["why"] == 'line 2: timed out waiting until window class "nothing" is there'
    wait_for(lambda: receiver.events == ["down Control_L", "up Control_L"])


def test_nothing_stays_down_when_the_engine_ends(client: EngineClient, receiver: Receiver) -> None:
    client.ask("press", surface="pad", control="4", down=True)
    wait_for(lambda: receiver.events == ["down Control_L", "down m"])
    client.ask("quit")
    wait_for(lambda: receiver.events[2:] == ["up m", "up Control_L"])


def clipboard(*words: str, given: bytes | None = None) -> bytes:
    """What the clipboard holds, asked for or set by another program."""
    needs("xclip")
    way = ("-i",) if given is not None else ("-o",)
    done = subprocess.run(["xclip", "-selection", "clipboard", *words, *way], input=given, timeout=5, check=False,
                          stdout=subprocess.DEVNULL if given is not None else subprocess.PIPE,
                          stderr=subprocess.DEVNULL)
    return done.stdout or b""


def pasted(receiver: Receiver) -> list[str]:
    return [event.split(" ", 1)[1] for event in receiver.events if event.startswith("pasted")]


def test_pasting_gives_the_text_and_the_clipboard_back(client: EngineClient, receiver: Receiver) -> None:
    clipboard(given=b"what was there")
    press(client, "6")
    wait_for(lambda: pasted(receiver) == ["'Žluťoučký kůň'"])
    wait_for(lambda: [event for event in receiver.events if " v" in event or "Control" in event] == [
        "down Control_L", "down v", "up v", "up Control_L"])
    wait_for(lambda: clipboard() == b"what was there")
    wait_for(lambda: last(client)["state"] == "done")
    assert last(client)["remarks"] == []


def test_a_picture_stays_a_picture_byte_for_byte(client: EngineClient, receiver: Receiver) -> None:
    # More than a property of a window holds at once, so that it comes and goes in pieces.
    picture = bytes(range(256)) * 3_000
    clipboard("-t", "image/png", given=picture)
    press(client, "6")
    wait_for(lambda: pasted(receiver) == ["'Žluťoučký kůň'"])
    wait_for(lambda: clipboard("-t", "image/png") == picture)
    assert b"image/png" in clipboard("-t", "TARGETS")


def test_every_form_comes_back(client: EngineClient, receiver: Receiver) -> None:
    from brass_pebble.kinds.clipboard.x11 import ClipboardOfX11
    from brass_pebble.kinds.errands.call import Call
    from brass_pebble.kinds.errands.names import Names
    forms = {"UTF8_STRING": "žluť".encode(), "text/html": b"<b>rye</b>", "image/png": bytes(200_000),
             "application/x-own": b"1"}
    owner = ClipboardOfX11()
    owner._owning().own("clipboard", forms)
    press(client, "6")
    wait_for(lambda: pasted(receiver) == ["'Žluťoučký kůň'"])
    wait_for(lambda: last(client)["state"] == "done")
    reader = ClipboardOfX11()
    assert reader.keep("clipboard", Call(5, Names())).forms == forms
    assert owner._owner is not None and owner._owner.forms("clipboard") is None


def test_a_program_that_fetches_nothing_is_told_and_the_clipboard_is_back(client: EngineClient) -> None:
    deaf = Receiver("Deaf", "Deaf", "--deaf")
    clipboard(given=b"what was there")
    press(client, "6")
    wait_for(lambda: last(client)["state"] == "done")
    assert last(client)["remarks"] == [
        "line 1: nobody fetched the pasted text within 2 s; what the clipboard held is back"]
    assert clipboard() == b"what was there"
    deaf.close()


def test_an_owner_that_never_answers_holds_nobody_up(client: EngineClient, receiver: Receiver) -> None:
    silent = subprocess.Popen([sys.executable, "-c", "from Xlib import X, display; d = display.Display()\n"
                               "w = d.screen().root.create_window(0, 0, 1, 1, 0, X.CopyFromParent)\n"
                               "w.set_selection_owner(d.intern_atom('CLIPBOARD'), X.CurrentTime); d.sync()\n"
                               "print('ready', flush=True)\nimport time; time.sleep(60)"], stdout=subprocess.PIPE)
    assert silent.stdout and silent.stdout.readline()
    press(client, "6")
    wait_for(lambda: last(client)["state"] == "stopped")
    assert "the program that holds the clipboard does not answer" in last(client)["remarks"][0]
    assert receiver.events == []
    silent.kill()
    silent.wait()


def test_each_program_pastes_by_its_own_chord(client: EngineClient) -> None:
    write(client, 'paste "rye"\nwait 50ms\n')
    for cls, chord in (("Some-Terminal", ["Control_L", "Shift_L", "v"]), ("XTerm", ["Shift_L", "Insert"]),
                       ("Writer", ["Control_L", "v"])):
        window = Receiver(cls, cls)
        press(client, "5")
        wait_for(lambda window=window: pasted(window) == ["'rye'"])
        assert [event.split()[1].replace("V", "v") for event in window.events if event.startswith("down")] == chord
        wait_for(lambda: last(client)["state"] == "done")
        window.close()


def test_a_block_of_lines_arrives_as_it_is(client: EngineClient, receiver: Receiver) -> None:
    write(client, "let loaf be \"rye\"\npaste lines\n  One {loaf}:\n\n    - two {not a value}\n  # three\n")
    press(client, "5")
    wait_for(lambda: pasted(receiver) == [repr("One rye:\n\n  - two {not a value}\n# three")])


def test_a_question_leaves_the_focus_where_it_was(client: EngineClient, receiver: Receiver) -> None:
    write(client, 'ask name "Who"\ntype "{name}"\n')
    press(client, "5")
    wait_for(lambda: client.ask("questions")["questions"])
    time.sleep(0.3)
    other = Receiver("The terminal")
    wait_for(lambda: [window.title for window in look() if window.focused] == ["The terminal"])
    client.ask("answer", text="ad")
    wait_for(lambda: receiver.events == ["down a", "up a", "down d", "up d"])
    assert other.events == []
    # The window that was asked from is closed meanwhile: nothing is sent anywhere else.
    press(client, "5")
    wait_for(lambda: client.ask("questions")["questions"])
    time.sleep(0.3)
    receiver.close()
    client.ask("answer", text="ad")
    wait_for(lambda: last(client)["state"] == "stopped")
    assert any("was closed meanwhile; nothing was sent" in remark for remark in last(client)["remarks"])
    assert other.events == []
    other.close()


def test_reading_the_clipboard_and_a_title(client: EngineClient, receiver: Receiver) -> None:
    clipboard(given=b"rye")
    write(client, 'read clip from clipboard\nread title from window title\nshow "{clip} in {title}"\n')
    client.ask("follow", topics=["note"])
    press(client, "5")
    assert next(client.news())["text"] == "rye in Crumbcut, the timeline"


def test_other_programs_and_what_becomes_of_them(client: EngineClient, receiver: Receiver, tmp_path: Path) -> None:
    asked: list[str] = []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            asked.append(self.rfile.read(int(self.headers["Content-Length"])).decode())
            self.send_response(204)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            """Quiet."""
    server = HTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    mark = tmp_path / "made by the macro"
    write(client, f'run "touch" "{mark}"\nrun "false"\nrun "no-such-program"\nrun "sleep" "30" at most 100ms\n'
                  f'run shell "exit 7"\nrequest post "http://127.0.0.1:{server.server_port}/x" with "{{\\"a\\": 1}}"\n'
                  'show "done"\nring\ntap Z\nwait 1s\n'.replace('"{\\"', '"\\{\\"').replace('1}"', '1\\}"'))
    client.ask("follow", topics=["note"])
    press(client, "5")
    wait_for(lambda: mark.exists() and asked == ['{"a": 1}'])
    for told in ("sleep did not end", "exit code 7", "answered 204", "exit code 1", "could not be run"):
        wait_for(lambda told=told: any(told in remark for remark in last(client)["remarks"]))
    remarks = sorted(last(client)["remarks"])
    assert "line 2: false ended with exit code 1" in remarks
    assert "line 3: no-such-program could not be run: No such file or directory" in remarks
    assert ("line 4: sleep did not end within 0.1 s and was ended; write start instead of run for a program that stays"
            in remarks)
    assert "line 5: the shell ended with exit code 7" in remarks
    assert any("answered 204" in remark for remark in remarks)
    assert next(client.news())["text"] == "done"
    assert receiver.events == ["down z", "up z"]
    server.shutdown()


def test_osc_leaves_as_the_standard_says(client: EngineClient) -> None:
    import socket as sockets
    with sockets.socket(sockets.AF_INET, sockets.SOCK_DGRAM) as listener:
        listener.bind(("127.0.0.1", 0))
        listener.settimeout(10)
        write(client, f'send osc "/level" 3 "on" to "127.0.0.1:{listener.getsockname()[1]}"\n')
        press(client, "5")
        assert listener.recv(100) == b"/level\0\0,is\0\0\0\0\3on\0\0"


def test_patterns_of_titles() -> None:
    assert fits("Oven*rec", "My OVENLIGHT recording") and fits("light", "Ovenlight") and not fits("rye", "Ovenlight")


COLOURED = """
import sys, time
from Xlib import X, display
d = display.Display(); s = d.screen()
w = s.root.create_window(int(sys.argv[1]), int(sys.argv[2]), 60, 40, 0, s.root_depth,
                         background_pixel=int(sys.argv[3], 16))
w.set_wm_name("Lamp"); w.map(); d.sync(); time.sleep(0.2); d.sync()
print("ready", flush=True)
while True:
    time.sleep(float(sys.argv[4])); w.change_attributes(background_pixel=0xe0a030); w.clear_area(); d.sync()
"""


def lamp(x: int, y: int, colour: str, after: float) -> subprocess.Popen[str]:
    process = subprocess.Popen([sys.executable, "-c", COLOURED, str(x), str(y), colour, str(after)],
                               stdout=subprocess.PIPE, text=True)
    assert process.stdout and process.stdout.readline() == "ready\n"
    return process


def test_the_look_of_a_place_is_waited_for(client: EngineClient, receiver: Receiver) -> None:
    light = lamp(300, 200, "102030", 0.4)
    write(client, 'if place 310 210 looks "102030"\n  tap A\nwait until place 305 205 size 20 20 looks "e0a02c" '
                  'within 8 at most 5s\ntap B\nwait until place 310 210 looks "000000" at most 200ms\n')
    press(client, "5")
    wait_for(lambda: last(client)["state"] == "stopped")
    assert receiver.events == ["down a", "up a", "down b", "up b"]
    assert "line 5: the place looked e0a030" in last(client)["remarks"]
    light.kill()
    light.wait()


def test_the_pointer_goes_to_a_place_of_a_window_and_back(client: EngineClient, receiver: Receiver) -> None:
    from Xlib import display
    light = lamp(400, 300, "102030", 60)
    screen = display.Display()

    def pointer() -> tuple[int, int]:
        at = screen.screen().root.query_pointer()
        return at.root_x, at.root_y
    write(client, 'move to 20 30\nremember pointer\nmove to 50% 50% of window "Lamp"\nwait 300ms\nmove back\n')
    press(client, "5")
    wait_for(lambda: pointer() in ((429, 319), (430, 320), (430, 319), (429, 320)))
    wait_for(lambda: pointer() == (20, 30))
    write(client, 'move to 50% 50% of window "Nowhere"\notherwise\n  move to 7 8\n')
    press(client, "5")
    wait_for(lambda: pointer() == (7, 8))
    screen.close()
    light.kill()
    light.wait()


def test_a_place_is_picked_by_a_click_or_by_resting(client: EngineClient, receiver: Receiver) -> None:
    from Xlib import X, display
    from Xlib.ext import xtest
    light = lamp(500, 300, "e0a030", 60)
    screen = display.Display()
    screen.screen().root.warp_pointer(530, 320)
    screen.sync()
    rested = client.ask("pick_place", seconds=0.3)
    assert (rested["x"], rested["y"], rested["clicked"], rested["colour"]) == (530, 320, False, "e0a030")
    assert rested["window"]["title"] == "Lamp" and rested["inside"] == [500, 300, 60, 40]

    def click() -> None:
        time.sleep(0.4)
        screen.screen().root.warp_pointer(515, 310)
        xtest.fake_input(screen, X.ButtonPress, 1)
        screen.sync()
        time.sleep(0.08)
        xtest.fake_input(screen, X.ButtonRelease, 1)
        screen.sync()
    hand = threading.Thread(target=click, daemon=True)
    hand.start()
    began = time.monotonic()
    clicked = client.ask("pick_place", seconds=9)
    hand.join()
    assert (clicked["x"], clicked["y"], clicked["clicked"]) == (515, 310, True) and time.monotonic() - began < 5
    light.kill()
    light.wait()


def test_a_picked_place_is_written_into_the_line(client: EngineClient, receiver: Receiver, tmp_path: Path) -> None:
    from Xlib import display
    light = lamp(500, 300, "e0a030", 60)
    screen = display.Display()
    screen.screen().root.warp_pointer(530, 320)
    screen.sync()
    file = tmp_path / "desk" / "macros" / "keys.macro"
    terminal = Terminal("--desk", str(tmp_path / "desk"))
    try:
        terminal.wait("PAD")
        terminal.keys("O")
        terminal.wait("✓ live")
        terminal.keys("F11")
        terminal.wait("Click the place")
        terminal.wait("A place was picked")
        terminal.keys("Down", "Down", "Enter")
        # The cursor is on the head of a block: it is the first step of it.
        wait_for(lambda: 'down\n  move to 50.85% 51.28% of window "Lamp"  # 530 320; ' in file.read_text())
        terminal.keys("F11")
        terminal.wait("A place was picked")
        terminal.keys("Up", "Enter")
        wait_for(lambda: 'wait until place 530 320 looks "e0a030" at most 5s\n' in file.read_text())
        terminal.wait("✓ live")
    finally:
        terminal.close()
        light.kill()
        light.wait()


def test_a_template_arrives_identical_in_an_editor_that_indents_and_in_a_terminal(client: EngineClient,
                                                                                  tmp_path: Path) -> None:
    needs("module tkinter")
    lines = ["Dear baker,", "", "    the rye", "      rises", "  slowly; so", "do we.", "", "-- it rises", "{ 1 }",
             "end"]
    block = "".join(f"  {line}\n" if line else "\n" for line in lines)
    editor = subprocess.Popen([sys.executable, "-c", EDITOR, str(tmp_path / "typed")])
    wait_for((tmp_path / "typed.ready").exists, 20)
    write(client, f"taps last 5ms\ngaps last 5ms\ntype lines clearing indents\n{block}tap F12\n")
    press(client, "5")
    wait_for((tmp_path / "typed").exists, 60)
    assert (tmp_path / "typed").read_text() == "\n".join(lines) + "\n"
    editor.kill()
    editor.wait()
    needs("xterm")
    terminal = subprocess.Popen(["xterm", "-e", f"cat > {tmp_path / 'told'}; touch {tmp_path / 'over'}"])
    wait_for(lambda: any(window.cls == "XTerm" for window in look()), 20)
    write(client, f"taps last 5ms\ngaps last 5ms\nwait 500ms\ntype lines\n{block}tap Enter\ntap Ctrl+D\n")
    from Xlib import X, display
    screen = display.Display()
    for window in look():
        if window.cls == "XTerm":
            screen.create_resource_object("window", window.key).set_input_focus(X.RevertToParent, X.CurrentTime)
    screen.sync()
    press(client, "5")
    wait_for((tmp_path / "over").exists, 60)
    assert (tmp_path / "told").read_text() == "\n".join(lines) + "\n"
    terminal.kill()
    terminal.wait()


# An editor that indents a new line as the one before, as most do.
EDITOR = """
import sys, tkinter
from pathlib import Path
root = tkinter.Tk(className="Editor")
area = tkinter.Text(root)
area.pack()
def enter(event):
    line = area.get("insert linestart", "insert")
    indent = line[:len(line) - len(line.lstrip())]
    if area.tag_ranges("sel"):
        area.delete("sel.first", "sel.last")
    area.insert("insert", "\\n" + indent)
    area.see("insert")
    return "break"
area.bind("<Return>", enter)
root.bind("<F12>", lambda event: Path(sys.argv[1]).write_text(area.get("1.0", "end")))
root.after(400, lambda: (area.focus_force(), Path(sys.argv[1] + ".ready").touch()))
root.mainloop()
"""


def test_a_strangers_keys_reach_no_program_before_they_are_approved(client: EngineClient, receiver: Receiver,
                                                                   tmp_path: Path) -> None:
    """Seen: a command typed into a real shell, key by key with a lone Shift between, with nothing approved."""
    desk = tmp_path / "desk"
    (desk / "guests.toml").write_text('[macro]\ntheirs = "A package"\n')
    text = "".join(f"tap {key}\ntap Shift\n" for key in "LSLSLS") + "tap Enter\n"
    (desk / "macros" / "theirs.macro").write_text(text)
    wait_for(lambda: "theirs" in {row["id"] for row in client.ask("desk")["desk"]["macros"]})
    client.ask("play", macro="theirs")
    wait_for(lambda: last(client)["state"] == "done")
    assert "waiting for your approval" in last(client)["sentence"] and receiver.events == []
    client.ask("approve", marks=[row["mark"] for row in client.ask("asleep")["asleep"]])
    client.ask("play", macro="theirs")
    wait_for(lambda: "down Return" in receiver.events)
    assert [event for event in receiver.events if event.startswith("down")][0::2][:3] == ["down l", "down s", "down l"]


# Those who hang on purpose.

HOLDS = """
import sys, time
from Xlib import X, Xatom, display
from Xlib.protocol.event import SelectionNotify
d = display.Display()
w = d.screen().root.create_window(0, 0, 1, 1, 0, X.CopyFromParent)
w.set_selection_owner(d.intern_atom("CLIPBOARD"), X.CurrentTime)
d.sync()
atom = d.intern_atom
names = [atom("UTF8_STRING"), *(atom(f"FORM_{n}") for n in range(int(sys.argv[1])))]
print("ready", flush=True)
while True:
    event = d.next_event()
    if event.type == X.SelectionRequest:
        where = event.property
        if event.target == atom("TARGETS"):
            event.requestor.change_property(where, Xatom.ATOM, 32, names)
        else:
            event.requestor.change_attributes(event_mask=X.PropertyChangeMask)
            event.requestor.change_property(where, atom("INCR"), 32, [1_000])
        event.requestor.send_event(SelectionNotify(time=event.time, requestor=event.requestor, target=event.target,
                                                   selection=event.selection, property=where))
        d.flush()
    elif event.type == X.PropertyNotify and event.state == X.PropertyDelete:
        time.sleep(0.7)
        event.window.change_property(event.atom, atom("UTF8_STRING"), 8, b"x")
        d.flush()
"""


@pytest.fixture
def dripping(client: EngineClient) -> Iterator[Callable[[int], None]]:
    """Starts programs that hold the clipboard and give it a byte at a time."""
    started: list[subprocess.Popen[bytes]] = []

    def start(forms: int) -> None:
        holder = subprocess.Popen([sys.executable, "-c", HOLDS, str(forms)], stdout=subprocess.PIPE)
        started.append(holder)
        assert holder.stdout and holder.stdout.readline()
    yield start
    for holder in started:
        holder.kill()
        holder.wait()


def made(client: EngineClient, text: str) -> None:
    client.ask("write_macro", macro="made", name="made", text=text)
    client.ask("play", macro="made")


def test_a_clipboard_that_drips_is_read_no_longer_than_at_most(client: EngineClient,
                                                               dripping: Callable[[int], None]) -> None:
    dripping(0)
    began = time.monotonic()
    made(client, "read x from clipboard at most 1s\notherwise\n  tap B\n")
    wait_for(lambda: last(client)["state"] != "playing")
    assert took(began) < 2.5 and last(client)["count"] == 2, last(client)


def test_a_paste_throws_a_reading_out_that_hangs(client: EngineClient, receiver: Receiver,
                                                 dripping: Callable[[int], None]) -> None:
    dripping(0)
    made(client, "read x from clipboard at most 30s\n")
    time.sleep(0.3)
    began = time.monotonic()
    press(client, "6")
    wait_for(lambda: len(pasted(receiver)) == 1)
    # What was there has to be asked for, too, before it is replaced; that takes its own time at most, and the reading
    # would have held it for thirty seconds.
    assert took(began) < 12
    wait_for(lambda: any("somebody else needs the clipboard" in remark for row in client.ask("traces")["traces"]
                         for remark in row["remarks"]))


def test_a_clipboard_with_thousands_of_forms_holds_nobody_up(client: EngineClient, receiver: Receiver,
                                                             dripping: Callable[[int], None]) -> None:
    dripping(10_000)
    began = time.monotonic()
    press(client, "6")
    wait_for(lambda: len(pasted(receiver)) == 1)
    assert took(began) < 6


def test_a_display_that_hangs_holds_up_no_client_and_no_end(client: EngineClient, display: str,
                                                            receiver: Receiver) -> None:
    """Seen: `move to`, the display stopped, and nobody was answered until it went on."""
    engine = client.hello["pid"]
    (server,) = [int(folder.name) for folder in Path("/proc").glob("[0-9]*") if is_display(folder, display)]
    os.kill(server, signal.SIGSTOP)
    try:
        client.ask("write_macro", macro="made", name="made",
                   text='repeat 300\n  move to 100 100\n  tap A for 5ms\nwait until window "zz" is there at most 1s\n')
        began = time.monotonic()
        client.ask("play", macro="made")
        waits = []
        while time.monotonic() - began < 4:
            asked = time.monotonic()
            client.ask("traces", count=1)
            waits.append(took(asked))
            time.sleep(0.02)
        assert max(waits) < 1
        client.ask("press", surface="pad", control="4")
        began = time.monotonic()
        os.kill(engine, signal.SIGTERM)
        wait_for(lambda: Path(f"/proc/{engine}/stat").read_text().rpartition(")")[2].split()[0] == "Z")
        assert took(began) < 3
    finally:
        os.kill(server, signal.SIGCONT)


def is_display(folder: Path, display: str) -> bool:
    with contextlib.suppress(OSError):
        words = (folder / "cmdline").read_bytes().split(b"\0")
        return words[0].endswith(b"Xvfb") and display.encode() in words
    return False
