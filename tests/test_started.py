"""Programs that macros start and run, with a real engine: who stays, who is ended, and what is told."""

from __future__ import annotations

import os
import signal
import time
from pathlib import Path

import pytest

from brass_pebble.client import EngineClient, start_engine
from brass_pebble.core.macro.guests.reach import reaches
from brass_pebble.core.macro.reader import parse, read_macro
from brass_pebble.core.macro.writer import format_macro
from brass_pebble.demo import ENGINE_OPTIONS
from conftest import wait_for


def bound(client: EngineClient, text: str) -> None:
    """A key of the demo plays this macro."""
    client.ask("write_macro", macro="bound", text=text)
    client.ask("bind", surface="right-numpad", control="1", kind="play", target="bound")


def pressed(client: EngineClient) -> int:
    """Press that key; returns the trace's number."""
    number = int(client.ask("press", surface="right-numpad", control="1", down=True)["trace"])
    client.ask("press", surface="right-numpad", control="1", down=False)
    return number


def remarks(client: EngineClient, trace: int) -> str:
    found = next((t for t in client.ask("traces")["traces"] if t["id"] == trace), None)
    return " / ".join(found["remarks"]) if found else ""


def pid_in(file: Path) -> int:
    wait_for(lambda: file.exists() and file.read_text().strip().isdigit())
    return int(file.read_text())


def runs(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


@pytest.mark.parametrize("end", [signal.SIGTERM, signal.SIGKILL])
def test_a_program_that_was_started_stays_whatever_ends(desk: Path, tmp_path: Path, end: signal.Signals) -> None:
    path, process = start_engine(desk, *[word for word in ENGINE_OPTIONS if word != "--until-left"])
    file = tmp_path / "pid"
    with EngineClient(path, "test") as client:
        client.set_timeout(10)
        bound(client, f'start shell "echo $$ > {file}; exec sleep 60"\nwait 30s\n')
        trace = pressed(client)
        pid = pid_in(file)
        assert os.getsid(pid) == pid and {os.readlink(f"/proc/{pid}/fd/{number}") for number in (0, 1, 2)} == {
            "/dev/null"}
        # Nothing of the engine's is open in it.
        assert not any("socket" in os.readlink(f"/proc/{pid}/fd/{fd}") for fd in os.listdir(f"/proc/{pid}/fd"))
        wait_for(lambda: "started the shell" in remarks(client, trace))
        client.ask("stop")
        time.sleep(0.3)
        assert runs(pid)
    process.send_signal(end)
    process.wait(timeout=15)
    time.sleep(0.3)
    assert runs(pid)
    os.kill(pid, signal.SIGKILL)


def test_a_program_that_cannot_start_is_told_at_once(client: EngineClient) -> None:
    bound(client, 'start "no-such-program"\nstart shell "exit 3"\nstart "true"\n')
    trace = pressed(client)
    wait_for(lambda: "line 1: no-such-program could not be started" in remarks(client, trace))
    wait_for(lambda: "line 2: the shell ended at once, with exit code 3" in remarks(client, trace))
    wait_for(lambda: "line 3: started true" in remarks(client, trace))
    assert "true ended" not in remarks(client, trace)


def test_stopping_ends_what_is_run_and_its_limit_is_told(client: EngineClient, tmp_path: Path) -> None:
    file = tmp_path / "pid"
    bound(client, f'run shell "echo $$ > {file}; exec sleep 60"\nwait 30s\n')
    trace = pressed(client)
    pid = pid_in(file)
    wait_for(lambda: "the shell may run for 30 s at most" in remarks(client, trace))
    client.ask("stop")
    wait_for(lambda: not runs(pid))
    wait_for(lambda: "the shell was stopped" in remarks(client, trace))


def test_a_long_lived_program_that_is_run_is_told_once(client: EngineClient, desk: Path) -> None:
    bound(client, 'run "sleep" "30" at most 200ms\n')
    trace = pressed(client)
    wait_for(lambda: "write start instead of run" in remarks(client, trace))

    def told() -> list[str]:
        return [row["what"] for row in client.ask("desk")["problems"] if "waited for" in row["what"]]
    wait_for(told)
    pressed(client)
    time.sleep(0.6)
    assert len(told()) == 1


def test_it_is_written_formatted_and_asleep_like_a_run() -> None:
    text = 'overtaken go on\n\nstart "player" "--now"\nstart shell "a | b"\ntap Ctrl+PlaceZ\n'
    untidy = 'overtaken   go   on\n\nstart   "player"  "--now"\nstart shell "a | b"\ntap ctrl+placez'
    assert format_macro(untidy) == text
    assert [found.does for found in reaches(parse(text).steps)] == ["starts a program"] * 2
    _, problems = read_macro('start shell "a" "b"')
    assert "one line" in problems[0].what


def test_an_old_desk_whose_chords_change_is_told_once(desk: Path) -> None:
    file = desk / "desk.toml"
    file.write_text(file.read_text().replace('output = "stage"', 'output = "stage"\nkeyboard = "de"'))
    options = [word for word in ENGINE_OPTIONS if word != "--until-left"]
    told = []
    for _ in range(2):
        path, process = start_engine(desk, *options)
        with EngineClient(path, "test") as client:
            client.ask("bind", surface="left-numpad", control="times", kind="tap", target="Ctrl+Z")
            told.append([row["what"] for row in client.ask("desk")["problems"]
                         if "another key than before" in row["what"]])
        process.send_signal(signal.SIGTERM)
        assert process.wait(timeout=15) == 0
    assert [len(found) for found in told] == [1, 0] and "Ctrl+Z" in told[0][0]


def test_a_shell_that_leaves_a_program_behind_is_told_when_the_desk_is_read(client: EngineClient) -> None:
    bound(client, 'tap F13\nrun shell "sleep 60 &"\n')

    def told() -> list[tuple[str, int]]:
        return [(row["file"], row["line"]) for row in client.ask("desk")["problems"] if "waited for" in row["what"]]
    wait_for(told)
    assert told() == [("macros/bound.macro", 2)]
