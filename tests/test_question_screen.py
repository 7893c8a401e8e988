"""A macro's question on the screen, by keys and by mouse alone; the values that macros keep."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from brass_pebble.client import EngineClient, find_engine
from conftest import run_cli, wait_for
from terminal import Terminal
from test_mouse_only import Mouse


@pytest.fixture
def engine_of_demo(demo: Terminal) -> Iterator[EngineClient]:
    with EngineClient(find_engine(None), "test") as client:
        client.set_timeout(10)
        yield client


def folder_of(client: EngineClient) -> Path:
    return Path(client.hello["folder"])


def write(client: EngineClient, name: str, text: str) -> None:
    client.ask("write_macro", name=name, text=f'name "{name}"\n{text}')


def last(client: EngineClient) -> str:
    return str(client.ask("traces")["traces"][-1]["sentence"])


def test_a_name_is_asked_for_and_typed_into_the_program(demo: Terminal, engine_of_demo: EngineClient) -> None:
    # What is being typed when the question comes is no answer to it.
    demo.keys("O")
    demo.wait("Oven close-up")
    assert run_cli("play", "guest-title").returncode == 0
    demo.wait("“Guest title” asks")
    demo.keys("Enter")
    time.sleep(0.8)
    demo.wait(lambda screen: "Who is the guest?" in screen and "s left" in screen)
    demo.type("Ada Reed")
    demo.keys("Enter")
    demo.wait(lambda screen: "“Guest title” asks" not in screen)
    wait_for(lambda: "“Who is the guest?” was answered with “Ada Reed” on the screen" in last(engine_of_demo))
    demo.keys("Escape")
    demo.wait("Ada Reed")
    # The value that it keeps stands on the key that plays it.
    demo.wait("guest 1")
    run_cli("play", "guest-title")
    demo.wait("“Guest title” asks")
    time.sleep(0.8)
    # The last answer is proposed; Escape sends nothing.
    demo.wait(lambda screen: "Ada Reed" in screen.split("“Guest title” asks")[1])
    demo.keys("Escape")
    demo.wait(lambda screen: "“Guest title” asks" not in screen)
    wait_for(lambda: "was closed without an answer on the screen" in last(engine_of_demo))
    demo.wait("guest 1")


def test_a_choice_is_made_by_mouse_alone_and_a_text_on_the_screen_s_keys(demo: Terminal,
                                                                         engine_of_demo: EngineClient) -> None:
    write(engine_of_demo, "Bread", 'ask bread "Which bread" of "Rye" "Wheat" "Spelt"\nask note "Note"\n'
                                   'show "{bread}: {note}"\n')
    run_cli("play", "bread")
    mouse = Mouse(demo)
    time.sleep(0.8)
    mouse.click("2  Wheat")
    demo.wait("Answer with a text")
    time.sleep(0.8)
    mouse.click("F12: on-screen keys")
    mouse.type("o", "k")
    demo.wait("ok")
    mouse.click("Enter: OK")
    wait_for(lambda: "showed “Wheat: ok”" in last(engine_of_demo))


def test_a_number_out_of_range_says_what_fits_and_others_may_answer(demo: Terminal,
                                                                    engine_of_demo: EngineClient) -> None:
    write(engine_of_demo, "Level", 'ask level "How loud" from 0 to 100\nask sure "Really" yes or no\n'
                                   'show "{level} {sure}"\n')
    run_cli("play", "level")
    demo.wait("Answer with a whole number from 0 to 100")
    time.sleep(0.8)
    demo.type("500")
    demo.keys("Enter")
    demo.wait("✗ 500 is out of range")
    assert run_cli("answer", "level", "40").returncode == 0
    demo.wait("Choose one")
    time.sleep(0.8)
    demo.keys("1")
    wait_for(lambda: "showed “40 yes”" in last(engine_of_demo))
    demo.wait(lambda screen: "asks" not in screen.split("\n")[20])


def test_two_questions_wait_for_one_another_and_a_screen_that_comes_later_shows_them(
        demo: Terminal, engine_of_demo: EngineClient) -> None:
    write(engine_of_demo, "One", 'ask a "First thing"\nshow "{a}"\n')
    write(engine_of_demo, "Two", 'ask b "Second thing"\nshow "{b}"\n')
    run_cli("play", "one")
    run_cli("play", "two")
    demo.wait("1 more question waits")
    glance = Terminal("glance", "pedals", size=(80, 24))
    glance.wait("First thing")
    time.sleep(0.8)
    glance.type("from the glance")
    glance.keys("Enter")
    glance.wait("Second thing")
    demo.wait(lambda screen: "Second thing" in screen and "more question" not in screen)
    engine_of_demo.ask("stop")
    demo.wait(lambda screen: "asks" not in screen)
    glance.wait(lambda screen: "asks" not in screen)
    glance.close()


def test_values_are_seen_changed_reset_and_undone(demo: Terminal, engine_of_demo: EngineClient) -> None:
    run_cli("play", "guest-title", "--answer", "guest=Ada")
    file = folder_of(engine_of_demo) / "values" / "guests.toml"
    wait_for(file.exists)
    demo.keys("S")
    demo.wait("macros keep 1 value")
    demo.wait("used by Guest title")
    demo.wait("guest 1")
    demo.keys("Enter")
    demo.wait("A whole number.")
    demo.keys("C-u")
    demo.type("many")
    demo.keys("Enter")
    demo.wait("✗ “many” is not a whole number")
    demo.keys("C-u")
    demo.type("12")
    demo.keys("Enter")
    wait_for(lambda: file.read_text() == "value = 12\n")
    demo.wait("guest 12")
    demo.keys("Delete")
    demo.wait("not set yet")
    assert not file.exists()
    demo.keys("u")
    wait_for(lambda: file.exists() and file.read_text() == "value = 12\n")
    demo.keys("u")
    demo.wait(lambda screen: re.search(r"guest 1\b", screen) is not None)
    mouse = Mouse(demo)
    mouse.click("Del reset")
    demo.wait("not set yet")
