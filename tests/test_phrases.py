"""Phrases of the demo's desk without sound: said by request, as the bench says them; and how they are changed."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from brass_pebble.client import EngineClient, EngineError
from conftest import wait_for


@pytest.fixture
def booth(client: EngineClient) -> Iterator[EngineClient]:
    client.ask("follow", topics=["voice"])
    yield client


def say(client: EngineClient, words: str) -> str:
    return str(client.ask("say", surface="booth", words=words)["words"])


def voice(client: EngineClient) -> dict[str, Any]:
    return dict(client.ask("voices")["voices"][0])


def trace(client: EngineClient) -> dict[str, Any]:
    return dict(client.ask("traces", count=1)["traces"][-1])


def state(client: EngineClient) -> dict[str, Any]:
    return dict(client.ask("desk")["programs"][0]["state"])


def is_lit(client: EngineClient, level: int) -> bool:
    """Whether the light has come to a level.  On a machine that stands still now and then the program, which looks once
    a frame, may miss a step or two of 4 %."""
    playing = any(row["state"] == "playing" for row in client.ask("traces", count=3)["traces"])
    return not playing and level - 8 <= state(client)["glow"] <= level


def desk_file(client: EngineClient) -> Path:
    return Path(client.hello["folder"]) / "desk.toml"


def test_a_phrase_does_what_a_key_does_and_its_trace_tells_what_was_heard(booth: EngineClient) -> None:
    assert voice(booth)["state"] == "typed" and "light" in voice(booth)["listens"]
    assert say(booth, "Dear bakery, set a chapter!") == "tap Ctrl+Alt+G"
    wait_for(lambda: state(booth)["markers"] == 10)
    # Its key is still down for a moment.
    wait_for(lambda: "tapped Ctrl+Alt+G" in trace(booth)["sentence"])
    told = trace(booth)["sentence"]
    assert told.startswith("Table microphone chapter, press, in Voice: tapped Ctrl+Alt+G")
    assert "heard “set a chapter”" in told and "Ovenlight: chapter set, marker 10" in told
    assert voice(booth)["last"]["do"] == "act"


def test_ordinary_talk_leaves_a_trace_and_does_nothing(booth: EngineClient) -> None:
    assert say(booth, "set a chapter") == (
        "heard “set a chapter” without “dear bakery” before it; nothing was sent")
    assert say(booth, "we talk about bread").startswith("heard “we talk about bread”, which is not a phrase here")
    assert trace(booth)["sentence"].startswith("Table microphone: heard “we talk about bread”")
    assert trace(booth)["surface"] == "booth" and state(booth)["markers"] == 0
    # The attention word alone opens a while.
    assert say(booth, "dear bakery") == "listening for a phrase"
    assert voice(booth)["attentive_ms"] > 3_000
    assert say(booth, "set a chapter") == "tap Ctrl+Alt+G"


def test_a_spoken_number_sets_a_level_by_steps_of_four_and_is_told(booth: EngineClient) -> None:
    assert say(booth, "dear bakery set the light to forty per cent") == "macro “Light to”: light at 40 per cent"
    wait_for(lambda: is_lit(booth, 40))
    assert say(booth, "dear bakery light 72") == "macro “Light to”: light at 72 per cent"
    wait_for(lambda: is_lit(booth, 72))
    assert say(booth, "dear bakery half light").endswith("light at 50 per cent")
    wait_for(lambda: is_lit(booth, 48))
    assert say(booth, "dear bakery light two hundred") == (
        "heard “dear bakery light two hundred”, but 200 is not from 0 to 100; nothing was sent")


def test_a_choice_is_the_very_chord_that_is_tapped_and_free_words_are_typed(booth: EngineClient) -> None:
    say(booth, "dear bakery show the guest camera")
    wait_for(lambda: state(booth)["camera"] == "guest")
    say(booth, "dear bakery new title fresh rye today")
    wait_for(lambda: state(booth)["words"] == "fresh rye today")


def test_a_scroll_repeats_until_it_is_stopped_by_voice(booth: EngineClient) -> None:
    say(booth, "dear bakery scroll the recipe")
    wait_for(lambda: state(booth)["recipe"] >= 4)
    say(booth, "stop scrolling")
    wait_for(lambda: not any(row["state"] == "playing" for row in booth.ask("traces", count=9)["traces"]))
    stopped = state(booth)["recipe"]
    time.sleep(0.6)
    assert state(booth)["recipe"] == stopped < 40
    # With the setting any phrase ends what repeats.
    booth.ask("set_listening", surface="booth", what="ends_repeats", value=True)
    say(booth, "dear bakery scroll the recipe")
    wait_for(lambda: state(booth)["recipe"] > stopped + 2)
    say(booth, "dear bakery oven lamp")
    wait_for(lambda: state(booth)["oven_lamp"] == "on" and not any(
        row["state"] == "playing" for row in booth.ask("traces", count=9)["traces"]))


def test_listening_is_stopped_and_started_but_cancelling_goes_on(booth: EngineClient) -> None:
    assert say(booth, "dear bakery stop listening") == "phrases do not count until listening starts again"
    assert voice(booth)["on"] is False and voice(booth)["listens"] == ["cancel"]
    assert "not a phrase here" in say(booth, "dear bakery set a chapter")
    assert say(booth, "cancel everything").startswith("stop everything")
    assert say(booth, "start listening") == "phrases count again"
    booth.ask("set_hearing", surface="booth", on=False)
    assert voice(booth)["on"] is False
    booth.ask("set_hearing", on=True)
    assert say(booth, "dear bakery set a chapter") == "tap Ctrl+Alt+G"


def test_two_equal_phrases_are_asked_about_and_chosen_by_voice_request_or_a_key(booth: EngineClient) -> None:
    reply = booth.ask("add_phrase", surface="booth", say=["set a chapter"])
    assert reply["phrase"] == "set-a-chapter"
    booth.ask("bind", surface="booth", control="set-a-chapter", kind="tap", target="Ctrl+Alt+2")
    assert say(booth, "dear bakery set a chapter") == "not sure: “set a chapter” or “set a chapter”; choose one"
    choices = voice(booth)["choices"]
    assert [row["phrase"] for row in choices] == ["chapter", "set-a-chapter"] and voice(booth)["left_ms"] > 3_000
    assert say(booth, "two") == "tap Ctrl+Alt+2" and state(booth)["markers"] == 0
    wait_for(lambda: state(booth)["camera"] == "hob")
    assert "chosen from several" in trace(booth)["sentence"]
    say(booth, "dear bakery set a chapter")
    assert booth.ask("take_reading", number=1)["words"] == "tap Ctrl+Alt+G"
    with pytest.raises(EngineError, match="nothing to choose from"):
        booth.ask("take_reading", number=1)
    # By any control that is bound to it.
    booth.ask("bind", surface="pedals", control="right", kind="do", target="take no reading")
    say(booth, "dear bakery set a chapter")
    for down in (True, False):
        booth.ask("press", surface="pedals", control="right", down=down)
    wait_for(lambda: not voice(booth)["choices"])
    # They vanish after a time.
    booth.ask("set_listening", surface="booth", what="choose_within", value="1s")
    say(booth, "dear bakery set a chapter")
    wait_for(lambda: "no reading was chosen in time" in trace(booth)["sentence"])


def test_phrases_are_listened_for_with_the_layers_that_are_on(booth: EngineClient) -> None:
    file = desk_file(booth)
    file.write_text(file.read_text() + '\n[surface.booth.phrase.moon]\nsay = ["moon light"]\n'
                    '[surface.booth.layer.night]\nname = "Night"\n'
                    '[surface.booth.layer.night.press]\nmoon = { tap = "Ctrl+Alt+L" }\n')
    wait_for(lambda: any(row["id"] == "moon" for surface in booth.ask("desk")["desk"]["surfaces"]
                         for row in surface["phrases"]))
    assert "moon" not in voice(booth)["listens"]
    booth.ask("layer", surface="booth", layer="night", how="on")
    wait_for(lambda: "moon" in voice(booth)["listens"])
    assert say(booth, "dear bakery moon light") == "tap Ctrl+Alt+L"


def test_a_phrase_is_changed_by_one_edit_and_all_of_it_can_be_undone(booth: EngineClient) -> None:
    def row() -> dict[str, Any]:
        surface = next(each for each in booth.ask("desk")["desk"]["surfaces"] if each["id"] == "booth")
        return dict(next(each for each in surface["phrases"] if each["id"] == "chapter"))
    before = desk_file(booth).read_text()
    booth.ask("set_phrase", surface="booth", phrase="chapter", say=["set the flag"], strict=80, attention=False,
              reply_text="flag set")
    assert (row()["say"], row()["strict"], row()["attention"], row()["reply"]) == (
        ["set the flag"], 80, False, "flag set")
    assert say(booth, "set the flag") == "tap Ctrl+Alt+G: flag set"
    booth.ask("set_phrase", surface="booth", phrase="chapter", say=["flag {n}"],
              slots={"n": {"low": 1, "high": 3}})
    assert row()["counts"] == "n: a number from 1 to 3"
    booth.ask("remove_phrase", surface="booth", phrase="chapter")
    assert "Ctrl+Alt+G" not in desk_file(booth).read_text().split("surface.booth")[1]
    for _ in range(3):
        booth.ask("undo")
    assert desk_file(booth).read_text() == before


@pytest.mark.parametrize("request_, why", [
    ({"do": "add_phrase", "surface": "booth", "say": ["go [on"]}, "is not closed"),
    ({"do": "add_phrase", "surface": "booth", "say": []}, "at least one wording"),
    ({"do": "add_phrase", "surface": "pedals", "say": ["go"]}, "is not spoken to"),
    ({"do": "set_phrase", "surface": "booth", "phrase": "markr"}, "has no phrase “markr”"),
    ({"do": "set_phrase", "surface": "booth", "phrase": "chapter"}, "nothing was to be changed"),
    ({"do": "set_phrase", "surface": "booth", "phrase": "light", "slots": {}}, "there is no slot “level”"),
    ({"do": "set_listening", "surface": "booth", "what": "replay"}, "there is no setting “replay”"),
    ({"do": "set_listening", "surface": "booth", "what": "reply", "value": "loud"}, "not a value for “reply”"),
    ({"do": "draw", "surface": "booth", "layout": "numpad"}, "is drawn from its phrases"),
    ({"do": "say", "surface": "pedals", "words": "go"}, "is not spoken to"),
    ({"do": "say", "surface": "booth", "words": "a@b"}, "not a word that can be said"),
])
def test_what_cannot_be_is_refused_in_a_sentence(booth: EngineClient, request_: dict[str, Any], why: str) -> None:
    with pytest.raises(EngineError) as caught:
        booth.ask(str(request_.pop("do")), **request_)
    assert why in caught.value.what


def test_a_trial_ends_with_its_client_and_stopping_goes_on_meanwhile(booth: EngineClient, engine: Path) -> None:
    with EngineClient(engine, "other") as other:
        other.ask("try_phrase", surface="booth", phrase="chapter", step="say")
        assert say(booth, "dear bakery set a chapter").startswith("trying out: ")
        assert state(booth)["markers"] == 0 and voice(booth)["trial"]["said"] == [100]
        assert say(booth, "cancel everything").startswith("stop everything")
        with pytest.raises(EngineError, match="not a step of a trial"):
            other.ask("try_phrase", surface="booth", phrase="chapter", step="dance")
    wait_for(lambda: voice(booth)["trial"] is None)
    assert say(booth, "dear bakery set a chapter") == "tap Ctrl+Alt+G"


def test_what_needs_to_stay_down_is_refused_with_what_can_be_done_instead(booth: EngineClient) -> None:
    for fields, why in (({"kind": "sustain", "target": "Ctrl+M"}, "nothing can be sustained as long as it is held"),
                        ({"kind": "rapid", "target": "Left"}, "nothing can be tapped as long as it is held"),
                        ({"kind": "layer", "target": "while held voice"}, "nothing can be switched on"),
                        ({"kind": "tap", "target": "A", "gesture": "hold"}, "there is no “hold” of what is said")):
        with pytest.raises(EngineError) as caught:
            booth.ask("bind", surface="booth", control="chapter", **fields)
        assert why in caught.value.what and caught.value.hint


def test_without_a_microphone_the_desk_says_what_is_missing(booth: EngineClient) -> None:
    booth.ask("bench", device="bench/booth-microphone", there=False)
    wait_for(lambda: voice(booth)["state"] == "gone")
    assert "not connected" in voice(booth)["why"] or "pulled" in voice(booth)["why"]
    # It can still be spoken for, and comes back by itself.
    assert say(booth, "dear bakery set a chapter") == "tap Ctrl+Alt+G"
    booth.ask("bench", device="bench/booth-microphone", there=True)
    wait_for(lambda: voice(booth)["state"] == "typed")
