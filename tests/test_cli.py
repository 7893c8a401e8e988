"""The command line as a person would call it: sentences, exit codes, never a stack trace."""

from __future__ import annotations

import json
import os
import re
import shlex
import signal
import subprocess
import sys
import tomllib
from importlib import import_module
from pathlib import Path

import pytest
import typer

from brass_pebble import __version__
from brass_pebble.cli.help_list import first_sentence
from brass_pebble.cli.main import GROUPS, PARTS, command_line, name_of
from brass_pebble.client import EngineClient, EngineError
from brass_pebble.demo import HERE
from brass_pebble.kinds.kernel.listing import list_devices
from conftest import BRASS_PEBBLE, run_cli, wait_for
from terminal import Terminal

MACROS = HERE / "desk" / "macros"


def test_version_and_help() -> None:
    assert run_cli("--version").stdout == f"brass-pebble {__version__}\n"
    shown = run_cli("--help")
    assert shown.returncode == 0
    for command in ("demo", "run", "devices", "watch", "play", "stop", "macro"):
        assert command in shown.stdout
    assert "Exit codes: 0 ok" in shown.stdout
    # Under headings, each command once, on one line that is not cut off.
    listed = [name for names in GROUPS.values() for name in names]
    assert sorted(listed) == sorted(name for names in PARTS.values() for name in names)
    for words in ((), ("desk",), ("macro",), ("values",), ("secret",), ("programs",), ("service",)):
        said = run_cli(*words, "--help", COLUMNS="80").stdout
        group = typer.main.get_command(command_line(()))
        for word in words:
            group = group.commands[word]  # type: ignore[attr-defined]
        for name, command in group.commands.items():  # type: ignore[attr-defined]
            assert re.search(rf"^  {name} +{re.escape(first_sentence(command))}$", said, re.M), (name, said)


def test_a_mistake_in_a_command_leads_to_its_own_help() -> None:
    for words, leads in ((("bind",), "brass-pebble bind --help"), (("desk", "check", "--zz"), "desk check --help"),
                         (("macro", "rehearse"), "macro rehearse --help"), (("zz",), "Try: brass-pebble --help")):
        assert run_cli(*words).stderr.rstrip().endswith(leads)


def test_a_place_in_a_file_has_one_form(tmp_path: Path) -> None:
    file = tmp_path / "x.macro"
    file.write_text("tap A\n  zz\n")
    for words in (("check", str(file)), ("format", str(file))):
        assert run_cli("macro", *words).stdout.startswith(f"{file}:2:3: “zz” is not a step")
    assert run_cli("macro", "check", "-", given="zz\n").stdout.startswith("standard input:1:1: ")
    (tmp_path / "desk").mkdir()
    (tmp_path / "desk" / "desk.toml").write_text('format = 1\nname = "x"\nzz = 1\n')
    told = run_cli("desk", "check", str(tmp_path / "desk"))
    assert re.search(r"^desk\.toml:3:1: ", told.stdout, re.M), told.stdout


@pytest.mark.parametrize(("words", "code", "text"), [
    (["dmeo"], 2, "No such command 'dmeo'"),
    (["play"], 2, "Missing argument"),
    (["play", "welcome"], 3, "no engine is running. Start one with: brass-pebble run"),
    (["stop"], 3, "no engine is running"), (["watch"], 3, "no engine is running"),
    (["stop", "--desk", "/nowhere"], 3, "no engine runs the desk /nowhere"),
    (["run", "--desk", "/nowhere"], 2, "there is no desk in /nowhere. Make an empty one with: brass-pebble desk new"),
    (["macro", "check", "/nowhere.macro"], 2, "/nowhere.macro: No such file or directory"),
    ([], 2, "the screen needs a terminal"), (["demo"], 2, "the screen needs a terminal"),
    (["demo", "--headless", "--seconds", "soon"], 2, "Invalid value for '--seconds'"),
])
def test_every_refusal_is_a_sentence_with_a_code(words: list[str], code: int, text: str) -> None:
    done = run_cli(*words)
    assert done.returncode == code, done.stderr
    assert text in done.stderr
    assert done.stderr.startswith("brass-pebble: ")
    assert "Traceback" not in done.stderr + done.stdout


def test_the_headless_demo_tells_the_class() -> None:
    done = run_cli("demo", "--headless", "--seconds", "12")
    assert done.returncode == 0
    assert "~ Good evening from the Saltmarsh Bakehouse" in done.stdout
    # On a machine that pauses, the last of them may come a little later than planned.
    assert re.search(r"Left numpad 2, press, in Class: played “Welcome”; 50 key events over 4\.[2-9]\d? s", done.stdout)
    assert "Left numpad 7, press, in Class: tapped Ctrl+Alt+1; down" in done.stdout
    assert "Ovenlight: camera wide on air" in done.stdout


def test_macro_check() -> None:
    done = run_cli("macro", "check", *map(str, sorted(MACROS.glob("*.macro"))))
    assert done.returncode == 0
    assert "oven-close-up.macro: fine, 2.42 s, 18 key events, the closest 40 ms apart" in done.stdout


def test_macro_check_of_a_broken_file(tmp_path: Path) -> None:
    file = tmp_path / "x.macro"
    file.write_text("tpa A\nwait 3\n")
    done = run_cli("macro", "check", str(file))
    assert done.returncode == 6
    assert f"{file}:1:1: “tpa” is not a step. Did you mean tap?\n{file}:2:6: “3” has no unit" in done.stdout
    assert run_cli("macro", "times", str(file)).returncode == 6
    file.write_bytes(b"tap \xff")
    assert "not UTF-8" in run_cli("macro", "check", str(file)).stdout


def test_macro_times(tmp_path: Path) -> None:
    file = tmp_path / "x.macro"
    file.write_text("keep Ctrl down\n  tap 4\nwait 300ms\ntap B for 5ms\n")
    rows = [json.loads(line) for line in run_cli("macro", "times", str(file), "--json").stdout.splitlines()]
    assert [(row["ms"], row["key"], row["down"], row["line"]) for row in rows] == [
        (0, "Ctrl", True, 1), (0, "4", True, 2), (40, "4", False, 2), (40, "Ctrl", False, 1), (340, "B", True, 4),
        (345, "B", False, 4)]
    assert "     340.000 ms  B              down  line 4" in run_cli("macro", "times", str(file)).stdout


def test_times_follow_the_desk_the_file_belongs_to(desk: Path) -> None:
    text = (desk / "desk.toml").read_text()
    (desk / "desk.toml").write_text(text.replace('tap = "40ms"', 'tap = "25ms"'))
    rows = run_cli("macro", "times", str(desk / "macros" / "loaf-reveal.macro"), "--json").stdout.splitlines()
    assert json.loads(rows[1])["ms"] == 25


def test_play_watch_and_stop(engine: Path, client: EngineClient) -> None:
    # Whoever runs these tests may have told the shell to ignore Ctrl+C.
    watch = subprocess.Popen(["env", "--default-signal=INT", BRASS_PEBBLE, "watch", "--json"], stdout=subprocess.PIPE,
                             text=True)
    try:
        wait_for(lambda: client.ask("devices") and run_cli("play", "welcome").returncode == 0)
        assert watch.stdout
        first = json.loads(watch.stdout.readline())
        assert (first["origin"], first["words"]) == ("brass-pebble play", "“Welcome”")
    finally:
        watch.send_signal(signal.SIGINT)
        assert watch.wait(timeout=20) == 130
    assert run_cli("stop").stdout == "Stopped 1 run; nothing is down.\n"
    done = run_cli("play", "rye-titel")
    assert (done.returncode, done.stderr) == (
        1, "brass-pebble: there is no macro “rye-titel”. Did you mean rye-title?\n")


def test_an_engine_that_does_not_answer_is_named(engine: Path, client: EngineClient,
                                                 monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("brass_pebble.client.LONGEST_WAIT", 0.5)
    pid = client.hello["pid"]
    os.kill(pid, signal.SIGSTOP)
    try:
        with pytest.raises(EngineError, match="the engine does not respond"):
            EngineClient(engine)
    finally:
        os.kill(pid, signal.SIGCONT)


def test_run_says_what_it_has_and_what_is_missing(tmp_path: Path, desk: Path) -> None:
    process = subprocess.Popen([BRASS_PEBBLE, "run", "--desk", str(desk)], stdout=subprocess.PIPE, text=True)
    assert process.stdout
    lines = [process.stdout.readline() for _ in range(4)]
    assert f"engine {process.pid} is ready" in lines[0]
    assert lines[3] == "  Floor pedals: missing, its device is not connected (name “Tern three-pedal board”)\n"
    assert "already run by the engine with process id " + str(process.pid) in run_cli(
        "run", "--desk", str(desk)).stderr
    assert "The engine has ended." in run_cli("stop", "--quit", "--desk", str(desk)).stdout
    assert process.wait(timeout=20) == 0


def test_without_a_virtual_keyboard_nothing_is_taken_over(tmp_path: Path) -> None:
    (tmp_path / "desk.toml").write_text('format = 1\nname = "x"\noutput = "uinput"\n')
    done = run_cli("run", "--desk", str(tmp_path))
    if not os.path.exists("/dev/uinput"):
        assert done.returncode == 4
        assert "/dev/uinput" in done.stderr and "sudo modprobe uinput" in done.stderr


def node(root: Path, number: int, name: str, phys: str, key: str, uniq: str = "", rel: str = "0") -> None:
    device = root / f"event{number}" / "device"
    (device / "id").mkdir(parents=True)
    (device / "capabilities").mkdir()
    for file, text in {"name": name, "phys": phys, "uniq": uniq, "id/bustype": "0003", "id/vendor": "4d52",
                       "id/product": "0011", "capabilities/key": key, "capabilities/rel": rel, "capabilities/abs": "0",
                       "capabilities/led": "7"}.items():
        (device / file).write_text(text + "\n")


def test_nodes_become_devices(tmp_path: Path) -> None:
    pad = "1e 0"
    full = "fffffffffffffffe"
    node(tmp_path, 3, "Marram pad", "usb-1/input0", pad)
    node(tmp_path, 4, "Marram pad Consumer Control", "usb-1/input1", pad)
    node(tmp_path, 5, "Marram pad", "usb-2/input0", pad)
    node(tmp_path, 6, "Harbour keyboard", "usb-3/input0", full)
    node(tmp_path, 7, "Lid", "", "0")
    node(tmp_path, 10, "Brass Pebble keys", "brass-pebble/keys", full)
    node(tmp_path, 11, "Odd \x1b[31m name " + "x" * 200, "usb-4/input0", pad, rel="3")
    found = list_devices(tmp_path, Path("/dev/input"))
    assert [(f.name[:13], f.port, len(f.nodes), len(f.codes)) for f in found] == [
        ("Marram pad", "usb-1", 2, 4), ("Marram pad", "usb-2", 1, 4), ("Harbour keybo", "usb-3", 1, 63),
        ("Odd \x1b[31m nam", "usb-4", 1, 4)]
    assert [f.full for f in found] == [False, False, True, False]
    assert (found[3].can, found[0].can, found[0].lamps) == ("4 keys, a pointer", "4 keys", ("num", "caps", "scroll"))
    assert (found[0].name, found[0].where) == ("Marram pad", "USB, usb-1")
    assert found[3].shown.startswith("Odd \\u001b[31m name xxx") and len(found[3].shown) == 60


def test_forty_devices_and_one_that_vanishes(tmp_path: Path) -> None:
    for number in range(40):
        node(tmp_path, number, f"Pad {number}", f"usb-{number}/input0", "1e 0")
    (tmp_path / "event7" / "device" / "name").unlink()
    assert len(list_devices(tmp_path)) == 39


def test_every_command_is_found_where_the_table_says() -> None:
    """Only the file that has a command is loaded for it; the help has them all."""
    for part, words in PARTS.items():
        app = typer.Typer()
        import_module(f"brass_pebble.cli.{part}").add_to(app)
        found = [name_of(info) for info in app.registered_commands] + [info.name for info in app.registered_groups]
        assert sorted(found) == sorted(words)
    for word in (word for words in PARTS.values() for word in words):
        one = command_line([word])
        assert len(one.registered_commands) + len(one.registered_groups) == 1
    loaded = subprocess.run([sys.executable, "-c", "import sys\nfrom brass_pebble.cli.main import command_line\n"
                             "command_line(['play'])\nprint(*sys.modules)"], capture_output=True, text=True, check=True)
    assert not {"brass_pebble.cli.desk", "pydantic", "rich", "textual", "lark", "msgspec", "tomlkit"} & set(
        loaded.stdout.split())


def test_every_command_has_its_row_in_the_list_of_commands() -> None:
    rows = (Path(__file__).parent.parent / "docs" / "command-line.md").read_text().replace("undo\\|redo", "undo | redo")
    missing = [word for words in PARTS.values() for word in words
               if not re.search(rf"(brass-pebble|\|) {word}\b", rows)]
    assert missing == []


def complete(*words: str) -> list[str]:
    """What the shell would propose for the last word."""
    done = run_cli(_BRASS_PEBBLE_COMPLETE="complete_bash", COMP_WORDS=" ".join(["brass-pebble", *words]),
                   COMP_CWORD=str(len(words)))
    assert done.returncode == 0, done.stderr
    return done.stdout.split()


def test_the_shell_completes_commands_requests_and_their_fields() -> None:
    assert complete("clas") == ["clashes"]
    assert {"undo", "usage"} <= set(complete("ask", "u"))
    assert complete("ask", "bind", "hold") == ["hold_after="]
    assert "surface=" not in complete("ask", "bind", "surface=pad", "s")
    assert complete("ask", "nonsense", "x") == []
    # Which shell it is, is told by who started it.
    started = subprocess.run(["bash", "-c", f"{shlex.quote(str(BRASS_PEBBLE))} --show-completion; true"],
                             capture_output=True, text=True, timeout=60, check=False)
    assert "_BRASS_PEBBLE_COMPLETE" in started.stdout


def test_any_request_can_be_asked_and_a_wrong_one_is_refused_in_a_sentence(desk: Path, engine: Path) -> None:
    done = run_cli("ask", "bind", "surface=pedals", "layer=class", "control=left", "kind=tap", "target=F20",
                   "--desk", str(desk))
    assert json.loads(done.stdout) == {"words": "pedals left: tap F20"}
    # A number can be part of a text, and a text may look like one.
    assert json.loads(run_cli("ask", "traces", "count=0", "--desk", str(desk)).stdout) == {"traces": []}
    for words, code, text in ((["undoo"], 1, "undoo"), (["traces", "count=much"], 1, "“count”"),
                              (["traces", "count"], 2, "Write FIELD=VALUE")):
        done = run_cli("ask", *words, "--desk", str(desk))
        assert (done.returncode, done.stdout) == (code, ""), done.stderr
        assert text in done.stderr


def test_a_desk_is_made_checked_and_offered(tmp_path: Path) -> None:
    folder = tmp_path / "stage-left"
    none = run_cli("desk", "check", str(folder))
    assert none.returncode == 2 and f"brass-pebble desk new {folder}" in none.stderr
    made = run_cli("desk", "new", str(folder))
    assert made.returncode == 0 and f"brass-pebble --desk {folder}" in made.stdout, made.stderr
    assert tomllib.loads((folder / "desk.toml").read_text()) == {"format": 1, "name": "Stage left"}
    assert folder.stat().st_mode & 0o077 == 0
    again = run_cli("desk", "new", str(folder))
    assert again.returncode == 2 and "is not empty" in again.stderr
    # A macro that speaks is the person's own, and an old word is only a hint.
    (folder / "macros" / "a.macro").write_text('say "on"\n')
    fine = run_cli("desk", "check", str(folder))
    assert fine.returncode == 0 and "fine, “Stage left”, 0 surfaces, 0 layers, 1 macro" in fine.stdout, fine.stdout
    assert "macros/a.macro:1:1: “say” is now “speak”" in fine.stdout
    (folder / "macros" / "b.macro").write_text("tpa A\n")
    (folder / "programs").mkdir()
    (folder / "programs" / "x.toml").write_text("name = ")
    bad = run_cli("desk", "check", str(folder))
    assert bad.returncode == 6 and "has 2 mistakes" in bad.stderr
    assert "macros/b.macro:1:1: “tpa” is not a step. Did you mean tap?" in bad.stdout
    assert "programs/x.toml" in bad.stdout


def test_a_desk_that_is_not_there_is_made_where_the_first_device_is_met(tmp_path: Path) -> None:
    folder = tmp_path / "left"
    terminal = Terminal("--desk", str(folder))
    try:
        terminal.wait("Make an empty one there?")
        terminal.keys("n", "Enter")
        terminal.wait("nothing was made")
        assert not folder.exists()
    finally:
        terminal.close()
    terminal = Terminal("desk", "new", str(folder))
    try:
        terminal.wait("1 Which one is it?")
        terminal.keys("Escape")
        terminal.wait("This desk has no surfaces yet.")
    finally:
        terminal.close()
