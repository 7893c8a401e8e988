"""What macros ask a person, and what they keep: over the socket, by the command line, on the surface itself."""

from __future__ import annotations

import json
import os
import pty
import select
import signal
import subprocess
import time
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from brass_pebble.client import EngineClient, EngineError, start_engine
from brass_pebble.demo import know
from conftest import run_cli, wait_for
from terminal import BRASS_PEBBLE

Row = dict[str, Any]
DESK = """
format = 1
name = "Radio"
output = "stage"
[surface.pad]
layout = "numpad"
device = { port = "bench hub" }
[surface.pad.layer.base.press]
plus = { play = "card" }
minus = { play = "level" }
enter = { tap = "E" }
num = { do = "stop everything" }
8 = { sustain = "Ctrl+8" }
0 = { do = "stop everything" }
dot = { play = "count", label = "take {take}" }
"""
BENCH = '[[device]]\nid = "bench/pad"\nname = "Pad"\nport = "bench hub"\nlayout = "numpad"\n'
MACROS = {
    "card": 'name "Guest card"\nask guest "Name of the guest" proposing last at most 20s\ntype "{guest}"\n',
    "level": 'name "Level"\nask level "How loud" from 0 to 100 at most 20s\nlet steps be level / 10\ntap Home\n'
             "repeat steps\n  tap Up\n",
    "count": "kept take from 1\nlet take be take + 1\ntap T\n",
    "brief": 'ask a "Quick" at most 200ms\ntap A\n',
    "other": 'ask a "Quick" of "Rye" "Wheat" at most 200ms\notherwise\n  tap B\n',
    "price": 'kept price from 2.50\nlet price be price + 0.10\n',
    "card-2": 'ask topic "Topic"\ntype "{topic}"\n',
    "look": 'read text from file "notes.txt" first 2 lines\nread said from command "printf" "rye"\n'
            'type "{text}{said}"\n',
    "gone": 'read text from file "nowhere.txt"\ntype "{text}"\n',
    "endless": 'read text from command "yes" at most 5s\ntype "{text}"\n',
}


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    desk = tmp_path / "radio"
    (desk / "macros").mkdir(parents=True, mode=0o700)
    desk.chmod(0o700)
    (desk / "desk.toml").write_text(DESK)
    (tmp_path / "bench.toml").write_text(BENCH)
    for name, text in MACROS.items():
        (desk / "macros" / f"{name}.macro").write_text(text)
    (desk / "notes.txt").write_text("one\ntwo\nthree\n")
    know(desk)
    return desk


class Radio:
    """The desk, its engine, and a client that hears what is asked."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.socket, self.process = start_engine(folder, "--bench", str(folder.parent / "bench.toml"), "--bench-only")
        self.client = EngineClient(self.socket, "test")
        self.client.set_timeout(10)

    def questions(self) -> list[Row]:
        return list(self.client.ask("questions")["questions"])

    def asked(self, count: int = 1) -> list[Row]:
        wait_for(lambda: len(self.questions()) == count)
        return self.questions()

    def press(self, control: str) -> None:
        self.client.ask("press", surface="pad", control=control, down=True)
        self.client.ask("press", surface="pad", control=control, down=False)

    def trace(self, macro: str) -> Row:
        """The latest trace of a macro, when its run is over."""
        def last() -> Row:
            found = [row for row in self.client.ask("traces")["traces"] if macro in row["words"]]
            return dict(found[-1]) if found else {"state": "playing"}
        wait_for(lambda: last()["state"] not in ("playing", "holding", "queued"))
        return last()

    def typed(self, macro: str) -> str:
        return "".join(event["key"] for event in self.trace(macro)["sent"] if event["down"])

    def values(self) -> dict[str, Row]:
        return {row["name"]: row for row in self.client.ask("values")["values"]}

    def end(self, number: int = signal.SIGTERM) -> None:
        self.client.close()
        self.process.send_signal(number)
        self.process.wait(timeout=15)


@pytest.fixture
def radio(folder: Path) -> Iterator[Radio]:
    desk = Radio(folder)
    yield desk
    if desk.process.poll() is None:
        desk.end()


def test_another_client_answers_and_the_macro_types_it(radio: Radio) -> None:
    radio.press("plus")
    row = radio.asked()[0]
    assert (row["name"], row["words"], row["macro"], row["kind"], row["proposal"]) == (
        "guest", "Name of the guest", "Guest card", "text", "")
    assert run_cli("questions").stdout.startswith("guest: Name of the guest (Guest card, ")
    assert run_cli("answer", "guest", "Ada").returncode == 0
    assert radio.typed("Guest card") == "LShiftAda" or radio.typed("Guest card").lower().endswith("ada")
    assert "“Name of the guest” was answered with “Ada” by brass-pebble answer" in json.dumps(
        radio.trace("Guest card"), ensure_ascii=False)
    assert radio.questions() == [] and run_cli("questions").stdout == "No macro asks anything.\n"


def test_the_last_answer_is_proposed_after_a_kill(radio: Radio, folder: Path) -> None:
    radio.press("plus")
    radio.client.ask("answer", question=radio.asked()[0]["question"], text="Grace")
    radio.trace("Guest card")
    state = Path(os.environ["XDG_STATE_HOME"])
    wait_for(lambda: any("Grace" in file.read_text() for file in state.rglob("answers.json")))
    radio.end(signal.SIGKILL)
    again = Radio(folder)
    again.press("plus")
    assert again.asked()[0]["proposal"] == "Grace"
    again.end()


def test_digits_of_the_pad_are_the_answer(radio: Radio) -> None:
    radio.press("minus")
    assert radio.asked()[0]["surface"] == "pad"
    for key in ("9", "9", "9"):
        radio.press(key)
    assert radio.questions()[0]["typed"] == "999"
    # Enter ends the answer instead of stopping everything; it is out of range, so the question stays.
    radio.press("enter")
    wait_for(lambda: radio.questions()[0]["typed"] == "")
    for key in ("3", "5"):
        radio.press(key)
    radio.press("enter")
    wait_for(lambda: radio.questions() == [])
    trace = radio.trace("Level")
    assert [event["key"] for event in trace["sent"] if event["down"]] == ["Home", "Up", "Up", "Up"]
    # From now on the keys mean what they meant before.
    radio.press("enter")
    told = [row["why"] for row in radio.client.ask("traces")["traces"] if row["surface"] == "pad"]
    assert "counted for the answer to “How loud”: 35" in told and not told[-1]


def test_digits_count_after_a_moment_without_enter(radio: Radio) -> None:
    radio.press("minus")
    radio.asked()
    radio.press("2")
    radio.press("5")
    assert [event["key"] for event in radio.trace("Level")["sent"] if event["down"]] == ["Home", "Up", "Up"]


def test_stopping_takes_the_question_away_and_sends_nothing(radio: Radio) -> None:
    radio.press("plus")
    radio.asked()
    assert radio.client.ask("stop")["runs"] == 1
    assert radio.questions() == [] and radio.trace("Guest card")["sent"] == []
    with pytest.raises(EngineError, match="not open any more"):
        radio.client.ask("answer", question="guest", text="late")


def test_closing_it_or_the_time_ends_the_macro_or_takes_the_other_way(radio: Radio) -> None:
    radio.press("plus")
    radio.client.ask("answer", question=radio.asked()[0]["question"])
    assert "was closed without an answer by test" in json.dumps(radio.trace("Guest card"), ensure_ascii=False)
    radio.client.ask("play", macro="brief")
    assert "“Quick” was not answered within 200 ms" in json.dumps(radio.trace("brief"), ensure_ascii=False)
    assert radio.trace("brief")["sent"] == []
    radio.client.ask("play", macro="other")
    assert radio.typed("other") == "B"


def test_several_questions_wait_in_their_order(radio: Radio) -> None:
    radio.press("plus")
    radio.client.ask("play", macro="card-2")
    assert [row["name"] for row in radio.asked(2)] == ["guest", "topic"]
    radio.client.ask("answer", text="first")
    assert radio.typed("Guest card").lower() == "first"
    radio.client.ask("answer", question="topic", text="second")
    assert radio.typed("card-2").lower() == "second"


def test_an_answer_that_does_not_fit_is_refused_and_the_question_stays(radio: Radio) -> None:
    radio.press("minus")
    row = radio.asked()[0]
    with pytest.raises(EngineError, match=r"101 is out of range. Answer with a whole number from 0 to 100"):
        radio.client.ask("answer", question=row["question"], text="101")
    assert radio.questions()[0]["question"] == row["question"]
    done = run_cli("answer", "level", "loud")
    assert done.returncode == 1 and "“loud” is not a number" in done.stderr


def test_play_takes_answers_and_asks_for_the_rest_in_its_terminal(radio: Radio) -> None:
    assert run_cli("play", "card", "--answer", "guest=Ada").returncode == 0
    assert radio.typed("Guest card").lower().endswith("ada")
    leader, follower = pty.openpty()
    play = subprocess.Popen([BRASS_PEBBLE, "play", "level"], stdin=follower, stdout=follower, stderr=follower)
    said = b""

    def reads(what: bytes) -> bool:
        nonlocal said
        if select.select([leader], [], [], 0.1)[0]:
            said += os.read(leader, 4096)
        return what in said
    wait_for(lambda: reads(b"How loud (a whole number from 0 to 100): "))
    os.write(leader, b"500\n")
    wait_for(lambda: reads(b"500 is out of range"))
    os.write(leader, b"10\n")
    assert play.wait(timeout=10) == 0
    assert [event["key"] for event in radio.trace("Level")["sent"] if event["down"]] == ["Home", "Up"]
    os.close(leader)
    os.close(follower)


def test_reading_files_and_commands(radio: Radio) -> None:
    radio.client.ask("play", macro="look")
    assert radio.typed("look") == "oneEntertworye" or radio.typed("look").lower() == "oneentertworye"
    radio.client.ask("play", macro="gone")
    assert "nowhere.txt cannot be read: it is not there" in json.dumps(radio.trace("gone"), ensure_ascii=False)
    radio.client.ask("play", macro="endless")
    trace = radio.trace("endless")
    assert "said more than 1,000,000 characters and was ended" in json.dumps(trace) and trace["sent"] == []


# Kept values.

def test_a_value_outlives_a_kill_and_is_changed_undone_and_reset(radio: Radio, folder: Path) -> None:
    file = folder / "values" / "take.toml"
    for _ in range(3):
        radio.press("dot")
    wait_for(lambda: file.exists() and tomllib.loads(file.read_text()) == {"value": 4})
    radio.end(signal.SIGKILL)
    again, began = Radio(folder), time.time()
    assert again.values()["take"] == {
        "name": "take", "value": "4", "kind": "whole number", "first": "1", "is_set": True, "macros": ["count"],
        "trouble": "", "changes": []}
    assert run_cli("values", "set", "take", "12").stdout == "Done: value take: 12.\n"
    wait_for(lambda: again.values()["take"]["value"] == "12")
    again.press("dot")
    wait_for(lambda: tomllib.loads(file.read_text()) == {"value": 13})
    # A macro has changed it since: undo does not overwrite that.
    with pytest.raises(EngineError, match=r"values/take.toml was changed"):
        again.client.ask("undo")
    again.client.ask("set_value", value="take", to="20")
    again.client.ask("undo")
    wait_for(lambda: again.values()["take"]["value"] == "13")
    assert run_cli("values", "reset", "take").returncode == 0
    wait_for(lambda: again.values()["take"]["is_set"] is False)
    # What it became since this engine was started, the newest first; by a macro, or by a person.
    changes = again.values()["take"]["changes"]
    assert [(change["value"], change["macro"], change["is_set"]) for change in changes] == [
        ("1", "", False), ("13", "", True), ("20", "", True), ("13", "count", True), ("12", "", True)]
    assert began <= changes[-1]["at"] <= changes[0]["at"] <= time.time()
    assert not file.exists() and "take = 1  (whole number, not set yet; count uses it)" in run_cli("values").stdout
    again.end()


def test_a_file_edited_by_hand_is_taken_up_and_nonsense_leaves_the_last_value(radio: Radio, folder: Path) -> None:
    file = folder / "values" / "price.toml"
    radio.client.ask("play", macro="price")
    wait_for(lambda: file.exists() and file.read_text() == "value = 2.60\n")
    file.write_text("value = 9.90\n")
    wait_for(lambda: radio.values()["price"]["value"] == "9.90")
    file.write_text("value = oven\n")
    wait_for(lambda: any(row["file"] == "values/price.toml" and row["line"] == 1
                         for row in radio.client.ask("desk")["problems"]))
    radio.client.ask("play", macro="price")
    wait_for(lambda: file.read_text() == "value = 10.00\n")
    assert (folder / "values" / "price.toml.draft").read_text() == "value = oven\n"
    wait_for(lambda: not radio.client.ask("desk")["problems"])
    file.write_text('value = "a text"\n')
    wait_for(lambda: radio.values()["price"]["trouble"] == "price cannot use it: it is a text")
    radio.client.ask("play", macro="price")
    assert "the kept value “price” is a text now" in json.dumps(radio.trace("price"), ensure_ascii=False)
    with pytest.raises(EngineError, match="“dear” is not a number with decimals"):
        radio.client.ask("set_value", value="price", to="dear")


def test_a_value_written_by_hand_while_a_macro_counts_is_kept_and_told(radio: Radio, folder: Path) -> None:
    file = folder / "values" / "take.toml"
    (folder / "macros" / "many.macro").write_text("kept take from 1\nrepeat 100000 every 5ms\n  let take be take + 1\n")
    wait_for(lambda: "many" in {row["id"] for row in radio.client.ask("desk")["desk"]["macros"]})
    radio.client.ask("play", macro="many")
    wait_for(file.exists)
    draft, mine = folder / "values" / "take.toml.draft", folder / "mine"

    def told() -> bool:
        # As an editor saves it, again and again, since a run that has just begun to count takes it up.
        mine.write_text("value = 1000000\n")
        mine.replace(file)
        return any("was changed in another program while a macro changed it" in row["what"]
                   for row in radio.client.ask("desk")["problems"])
    wait_for(told)
    radio.client.ask("stop")
    assert draft.read_text() == "value = 1000000\n"


def test_a_value_that_is_a_link_leaves_what_it_leads_to_alone(radio: Radio, folder: Path, tmp_path: Path) -> None:
    mine = tmp_path / "profile"
    mine.write_text("alias ls=ls\n")
    (folder / "values").mkdir(exist_ok=True)
    (folder / "values" / "take.toml").symlink_to(mine)
    radio.press("dot")
    file = folder / "values" / "take.toml"
    wait_for(lambda: not file.is_symlink() and file.read_text() == "value = 2\n")
    assert mine.read_text() == "alias ls=ls\n" and not (folder / "values" / "take.toml.draft").exists()


def test_a_value_is_saved_as_soon_as_its_disk_has_room(radio: Radio, folder: Path) -> None:
    """Seen: after that it was saved only when it changed again."""
    (folder / "values").write_text("in the way")
    radio.press("dot")
    wait_for(lambda: any("the value could not be saved" in row["what"] for row in radio.client.ask("desk")["problems"]))
    (folder / "values").unlink()
    wait_for((folder / "values" / "take.toml").exists)
    assert (folder / "values" / "take.toml").read_text() == "value = 2\n"


def test_what_killed_engines_left_among_the_values_is_swept(radio: Radio, folder: Path) -> None:
    (folder / "values").mkdir(exist_ok=True)
    left = folder / "values" / ".take.toml.99999999.new"
    left.write_text("value = 1\n")
    radio.end(signal.SIGKILL)
    again = Radio(folder)
    assert not left.exists()
    again.end()


def test_two_runs_that_count_lose_nothing(radio: Radio, folder: Path) -> None:
    (folder / "macros" / "many.macro").write_text(
        "kept take from 1\nagain both\nrepeat 50\n  let take be take + 1\n  wait 1ms\n".replace(
            "kept take from 1\nagain both\n", "again both\nkept take from 1\n"))
    wait_for(lambda: "many" in {row["id"] for row in radio.client.ask("desk")["desk"]["macros"]})
    for _ in range(4):
        radio.client.ask("play", macro="many")
    wait_for(lambda: radio.values()["take"]["value"] == "201")
    radio.end(signal.SIGTERM)
    assert tomllib.loads((folder / "values" / "take.toml").read_text()) == {"value": 201}


def test_a_package_has_no_values(radio: Radio, folder: Path, tmp_path: Path) -> None:
    radio.press("dot")
    wait_for((folder / "values" / "take.toml").exists)
    done = run_cli("desk", "export", str(tmp_path / "radio.zip"), "--desk", str(folder))
    assert done.returncode == 0, done.stderr
    import zipfile
    assert not [name for name in zipfile.ZipFile(tmp_path / "radio.zip").namelist() if "values" in name]
    # Unless that is asked for; then it is listed before, and taken in like anything else.
    done = run_cli("desk", "export", str(tmp_path / "all.zip"), "--values", "--desk", str(folder))
    assert "keeps a value: value = 2   [value take, kept]" in done.stdout
    assert "values/take.toml" in zipfile.ZipFile(tmp_path / "all.zip").namelist()
    radio.press("dot")
    wait_for(lambda: (folder / "values" / "take.toml").read_text() == "value = 3\n")
    done = run_cli("desk", "import", str(tmp_path / "all.zip"), "--theirs", "take", "--yes", "--desk", str(folder))
    assert done.returncode == 0, done.stderr
    wait_for(lambda: radio.values()["take"]["value"] == "2")


def test_what_was_held_before_is_let_go_and_stop_keeps_its_meaning(radio: Radio) -> None:
    radio.client.ask("press", surface="pad", control="8", down=True)
    radio.press("minus")
    radio.asked()
    radio.client.ask("press", surface="pad", control="8", down=False)
    assert radio.questions()[0]["typed"] == ""
    wait_for(lambda: not [row for row in radio.client.ask("traces")["traces"] if row["state"] == "holding"])
    radio.press("1")
    radio.press("0")
    assert radio.questions() == [] and radio.trace("Level")["sent"] == []
