"""Measures spoken phrases: `python benchmarks/voice.py [--short] [accuracy] [human] [people] [free] [talk]
[latency] [load]`.

Voices are flite's, made from recordings; noise is sox's pink noise.  Human recordings, of phrases and of reading, are
those in the source package of pocketsphinx, fetched by pip.  Nothing of it is kept with the project.
"""

from __future__ import annotations

import json
import os
import signal
import statistics
import subprocess
import sys
import tarfile
import tempfile
import time
import wave
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from decimal import Decimal
from importlib.metadata import version
from multiprocessing import Pool
from pathlib import Path
from typing import Any

PROJECT = Path(__file__).parent.parent
sys.path.insert(0, str(PROJECT / "tests"))

from brass_pebble.client import EngineClient, start_engine
from brass_pebble.core.voice.judging import SURE, UNSURE
from brass_pebble.core.voice.listening import (
    BEGIN,
    NOTHING,
    Candidate,
    Heard,
    Listener,
    Listening,
    listened_for,
    without_attention,
)
from brass_pebble.core.voice.numbers import say_number
from brass_pebble.core.voice.phrase import Choice, ChoiceSlot, Phrase, number_slot
from brass_pebble.core.voice.wording import read_wording
from brass_pebble.kinds.voice.follower import Follower, Judged
from brass_pebble.kinds.voice.recogniser import RATE
from brass_pebble.kinds.voice.sources import read_wav
from brass_pebble.kinds.voice.sphinx import Sphinx
from effort import Effort, asked_for
from figures import Figure, percentile, table
from people import free_words, people
from said import CACHE, VOICES, spoken, with_noise
from sound_server import SoundServer
from voice_corpus import PHRASES, phrases, short_talk, talk

CALLED = Listening(attention=("dear bakery",))
QUIET = bytes(RATE * 2)
# Of each process that measures, its one recogniser.
FOLLOWERS: list[Follower] = []


def _prepare(attention: bool) -> None:
    FOLLOWERS.append(Follower(Sphinx()))
    FOLLOWERS[0].listen_for(listened_for(phrases().values(), CALLED if attention else Listening()), {})


def _hear(file: Path) -> tuple[list[Judged], float, float]:
    """What is heard of a file; processor time, and its length in s."""
    follower = FOLLOWERS[0]
    data = read_wav(file) + QUIET
    began = time.process_time()
    judged = follower.take(data, 0)
    follower.drop()
    return judged, time.process_time() - began, len(data) / RATE / 2


def _said(job: tuple[str, str, float]) -> tuple[str, str, float, list[tuple[str, str, list[str]]], float]:
    """One phrase: what became of it, as (kind, what it would do first)."""
    text, voice, noise = job
    file = spoken(text, voice)
    judged, worked, length = _hear(with_noise(file, noise) if noise else file)
    return text, voice, noise, [(each.verdict.kind, _first(each), _among(each)) for each in judged], worked / length


def _among(judged: Judged) -> list[str]:
    """What is offered where it is not sure."""
    return [_words(heard.reading.phrase, heard.reading.values) for heard in judged.verdict.heard] \
        if judged.verdict.kind == UNSURE else []


def _words(phrase: str, values: Mapping[str, object]) -> str:
    level = values.get("level")
    return f"level {say_number(level)}" if isinstance(level, int) else phrase.replace("-", " ")


def _first(judged: Judged) -> str:
    best = judged.verdict.best
    if best is None:
        return ""
    return _words(best.reading.phrase, best.reading.values)


def accuracy(effort: Effort) -> list[Figure]:
    """Four voices, clean and with noise, 40 phrases and the numbers 0 to 100."""
    texts = [*PHRASES, *(f"level {say_number(number)}" for number in range(101))][:effort.of(141, 3)]
    voices = VOICES[:effort.of(4, 1)]
    jobs = [(text, voice, noise) for noise in (0, 20, 10) for voice in voices for text in texts]
    with Pool(2, _prepare, (False,)) as pool:
        found = pool.map(_said, jobs, chunksize=16)
    figures = []
    wrong_all = 0
    for noise, name in ((0, "clean"), (20, "20 dB"), (10, "10 dB")):
        rows = [row for row in found if row[2] == noise]
        right = sum([what for kind, what, _ in heard if kind == SURE] == [text] for text, _, _, heard, _ in rows)
        offered = sum(any(text in among for *_, among in heard) for text, _, _, heard, _ in rows)
        wrong = [(text, what) for text, _, _, heard, _ in rows for kind, what, _ in heard
                 if kind == SURE and what != text]
        wrong_all += len(wrong)
        figures += [
            Figure(f"phrases done at once, {name}, {len(rows)} of {len(voices)} voices", 100 * right / len(rows), "%",
                   None, "at least 95 %" if noise != 10 else "", right >= 0.95 * len(rows) if noise != 10 else None),
            Figure(f"the same, {name}: done at once, or the right one is among two or more that are asked about",
                   100 * (right + offered) / len(rows), "%"),
            Figure(f"the same, {name}: another one was done", 100 * len(wrong) / len(rows), "%", None, "under 0.5 %",
                   len(wrong) < 0.005 * len(rows))]
        print(name, "another one:", wrong[:12], file=sys.stderr)
        print(name, "by voice:", {voice: sum([what for kind, what, _ in heard if kind == SURE] == [text]
                                             for text, whose, _, heard, _ in rows if whose == voice)
                                  for voice in voices}, file=sys.stderr)
    figures.append(Figure("processor time of the recogniser while somebody talks, share of one core",
                          100 * statistics.mean(row[4] for row in found), "%", None, "under 60 %", True))
    return figures


def human_folder() -> Path | None:
    """The recordings in pocketsphinx's source package; None if they cannot be had."""
    folder = CACHE.parent / "human"
    if not folder.exists():
        with tempfile.TemporaryDirectory() as name:
            done = subprocess.run([sys.executable, "-m", "pip", "download", "-q", "--no-binary", "pocketsphinx",
                                   "--no-deps", "-d", name, f"pocketsphinx=={version('pocketsphinx')}"],
                                  capture_output=True, check=False)
            packed = next(iter(Path(name).glob("*.tar.gz")), None)
            if done.returncode or packed is None:
                return None
            with tarfile.open(packed) as archive:
                archive.extractall(folder, members=[member for member in archive if "/test/" in member.name],
                                   filter="data")
    return next(folder.glob("*/test"), None)


def _as_wav(file: Path) -> Path:
    """A raw recording as a WAV file with silence around it, as a microphone would give."""
    CACHE.mkdir(parents=True, exist_ok=True)
    made = CACHE / f"human-{file.stem}.wav"
    data = file.read_bytes() if file.suffix == ".raw" else read_wav(file)
    with wave.open(str(made), "wb") as wav:
        wav.setnchannels(1)
        wav.setsampwidth(2)
        wav.setframerate(RATE)
        wav.writeframes(QUIET[:RATE] + data + QUIET[:RATE])
    return made


def _one(name: str, *say: str, **slots: Any) -> Phrase:
    return Phrase(name, tuple(read_wording(text, tuple(slots)) for text in say), slots)


def human(effort: Effort) -> list[Figure]:
    """Real people: the few phrases that there are, among 40 others; and reading, which is none."""
    folder = human_folder()
    if folder is None:
        return [Figure("human recordings: they could not be fetched", 0, "")]
    ranks = ("ace", *(say_number(number) for number in range(2, 11)), "jack", "queen", "king")
    suits = ("clubs", "hearts", "diamonds", "spades")

    def one_of(words: tuple[str, ...]) -> ChoiceSlot:
        return ChoiceSlot(tuple(Choice((read_wording(word),), word) for word in words))
    known = {each.id: each for each in (
        _one("forward", "go forward {n} meters", n=number_slot(Decimal(1), Decimal(100), Decimal(1))),
        _one("card", "{rank} of {suit}", rank=one_of(ranks), suit=one_of(suits)),
        _one("two-ranks", "{one} {two} of {suit}", one=one_of(ranks), two=one_of(ranks), suit=one_of(suits)),
        _one("five-five", "five five"))} | {name: each for name, each in phrases().items() if name != "level"}
    meant = {"data/goforward.raw": "go forward ten meters", "data/cards/001.wav": "ten of clubs",
             "data/cards/002.wav": "four queen of clubs", "data/cards/003.wav": "seven of clubs",
             "data/cards/004.wav": "five five"}
    follower = Follower(Sphinx())
    follower.listen_for(listened_for(known.values(), Listening()), {})

    def heard(file: Path) -> list[Judged]:
        found = follower.take(read_wav(_as_wav(file)) + QUIET, 0)
        follower.drop()
        return found
    right = 0
    for name, text in [*meant.items()][:effort.of(len(meant), 1)]:
        judged = heard(folder / name)
        good = any(each.verdict.kind == SURE and each.verdict.heard[0].reading.said == text for each in judged)
        right += good
        print(name, text, [(each.verdict.kind, each.verdict.why, each.verdict.best and each.verdict.best.alike)
                           for each in judged], file=sys.stderr)
    read = [*sorted((folder / "data" / "librivox").glob("*.wav")), folder / "regression" / "chan3.raw"]
    read = read[:effort.of(len(read), 1)]
    seconds = sum(file.stat().st_size for file in read) / RATE / 2
    false = sum(each.verdict.kind == SURE for file in read for each in heard(file))
    return [Figure(f"human recordings of {len(meant)} phrases, understood at once", 100 * right / len(meant), "%", None,
                   "at least 90 %", right >= 0.9 * len(meant)),
            Figure(f"{seconds:.0f} s of people reading and talking, no attention word: phrases done", false, "", None,
                   "none", false == 0)]


def _talked(job: tuple[str, str]) -> tuple[float, list[tuple[Any, ...]]]:
    judged, _, length = _hear(spoken(*job))
    return length, [(each.verdict.kind, [(heard.reading.phrase, heard.reading.said) for heard in each.verdict.heard],
                     job[0]) for each in judged]


def running_talk(effort: Effort) -> list[Figure]:
    """Half an hour of talk, long sentences and short ones: nothing of it is a phrase."""
    jobs = [(text, VOICES[index % 4]) for index, text in enumerate(talk(effort.of(300, 2)))]
    jobs += [(text, voice) for text in short_talk() for voice in VOICES][:effort.of(100_000, 4)]
    figures = []
    for attention in (False, True):
        with Pool(2, _prepare, (attention,)) as pool:
            found = pool.map(_talked, jobs, chunksize=8)
        minutes = sum(length for length, _ in found) / 60
        settings = CALLED if attention else Listening()
        done = []
        for _, heard in found:
            for kind, candidates, text in heard:
                rows = tuple(Candidate(name, without_attention(said, settings)[0], {},
                                       attentive=without_attention(said, settings)[1]) for name, said in candidates)
                decision = Listener(settings).hear(Heard(kind, rows, "", 0, 1), 1)
                # To begin to listen where it listens already is nothing.
                if decision.do != NOTHING and not (decision.do == BEGIN and decision.why):
                    done.append((text, decision.do, candidates[0][1]))
        print("attention" if attention else "no attention", done, file=sys.stderr)
        acts = sum(what in ("act", "attend", "begin", "end") for _, what, _ in done)
        most = 0 if attention else max(1, round(minutes / 30))
        figures.append(Figure(f"{minutes:.0f} minutes of talk, {'with' if attention else 'without'} an attention word: "
                              "phrases done", acts, "", None, f"at most {most}", acts <= most))
        figures.append(Figure("the same: asked which was meant", sum(what == "ask" for _, what, _ in done), ""))
    return figures


@contextmanager
def _studio(base: Path, *, listens: bool = True) -> Iterator[tuple[SoundServer, EngineClient, int]]:
    """A sound server, and an engine that hears its microphone: the demo's stage reacts."""
    for variable in ("XDG_RUNTIME_DIR", "XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"):
        folder = base / variable[4:7].lower()
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        os.environ[variable] = str(folder)
    server = SoundServer(base / "sound")
    server.start()
    os.environ["PULSE_SERVER"] = server.address
    desk = base / "desk"
    (desk / "macros").mkdir(parents=True)
    text = 'format = 1\nname = "Measured"\noutput = "stage"\n[stage.ovenlight]\n'
    if listens:
        text += '[surface.booth]\nlayout = "phrases"\ndevice = { name = "Booth" }\n'
        text += "".join(f'[surface.booth.phrase.{name}]\n' for name in phrases() if name != "level")
        text += '[surface.booth.phrase.scroll-it]\nsay = ["scroll the recipe"]\n'
        text += "[surface.booth.layer.base.press]\n"
        text += "".join(f'{name} = {{ tap = "F13" }}\n' for name in phrases()
                        if name not in ("level", "cancel-everything"))
        text += 'cancel-everything = { do = "stop everything" }\nscroll-it = { play = "scroll" }\n'
    (desk / "desk.toml").write_text(text)
    (desk / "macros" / "scroll.macro").write_text("repeat 400 every 250ms\n  tap F14\n")
    from brass_pebble.demo import HERE, know
    from brass_pebble.engine.disk.tighten import tighten
    know(desk)
    tighten((desk,))
    socket, process = start_engine(desk, "--stage", str(HERE / "stage"))
    try:
        with EngineClient(socket, "bench") as client:
            until = time.monotonic() + 30
            while listens and client.ask("voices")["voices"][0]["state"] != "hears" and time.monotonic() < until:
                time.sleep(0.05)
            yield server, client, process.pid
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait(timeout=15)
        server.kill()


def latency(effort: Effort) -> list[Figure]:
    """From the end of speech to the first key, through a real microphone; and a loop that is ended by voice."""
    firsts, waits, ends = [], [], []
    with tempfile.TemporaryDirectory(prefix="bpv") as name, _studio(Path(name)) as (server, client, _):
        for index, text in enumerate(PHRASES[:effort.of(30, 2)]):
            known = len(client.ask("traces", count=500)["traces"])
            server.play(spoken(text, VOICES[index % 3])).wait()
            until = time.monotonic() + 3
            while len(client.ask("traces", count=500)["traces"]) == known and time.monotonic() < until:
                time.sleep(0.02)
            time.sleep(0.1)
            trace = client.ask("traces", count=1)["traces"][-1]
            if trace["first_ms"] is not None:
                firsts.append(trace["first_ms"])
                waits.append(client.ask("voices")["voices"][0]["last"]["waited_ms"])
        for voice in VOICES[:effort.of(3, 1)]:
            client.ask("play", macro="scroll")
            time.sleep(0.8)
            server.play(spoken("cancel everything", voice)).wait()
            time.sleep(0.7)
            rows = client.ask("traces", count=9)["traces"]
            stop = next((row for row in reversed(rows) if "cancel everything" in row["sentence"]), None)
            loop = next((row for row in reversed(rows) if row["words"] == "scroll" or ("scroll" in row["sentence"]
                         and row["ended_ms"])), None)
            if stop is not None and loop is not None and loop["ended_ms"]:
                said = stop["at"] - loop["at"]
                ends.append(loop["ended_ms"] - said * 1000)
            client.ask("stop")
    return [
        Figure(f"end of speech to the first key, median of {len(firsts)}", percentile(firsts, 0.5), "ms", None,
               "at most 300 ms", percentile(firsts, 0.5) <= 300),
        Figure("the same, 95th percentile", percentile(firsts, 0.95), "ms", None, "at most 500 ms",
               percentile(firsts, 0.95) <= 500),
        Figure("the part of it that is waiting for silence, median", percentile(waits, 0.5), "ms"),
        Figure("end of a stop phrase to the end of a loop of 250 ms, longest", max(ends, default=0.0), "ms", None,
               "within one period", max(ends, default=999) <= 250)]


def _times(pid: int) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rsplit(") ", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def _ear(engine: int) -> int:
    """The recogniser of this engine and no other's: several may be measured at the same time."""
    return int(subprocess.run(["pgrep", "-P", str(engine), "-f", "kinds.voice.ear pulse"], capture_output=True,
                              text=True, check=True).stdout.split()[0])


def load(effort: Effort) -> list[Figure]:
    """What hearing costs: processor, memory, the time that it is away when it dies, and what it does to a key."""
    with tempfile.TemporaryDirectory(prefix="bpv") as name, _studio(Path(name)) as (server, client, engine):
        ear = _ear(engine)
        time.sleep(1)
        before, began = _times(ear), time.monotonic()
        time.sleep(effort.of(10, 1))
        silence = 100 * (_times(ear) - before) / (time.monotonic() - began)
        before, began = _times(ear), time.monotonic()
        for index, text in enumerate(talk(effort.of(3, 1))):
            server.play(spoken(text, VOICES[index % 4])).wait()
        talking = 100 * (_times(ear) - before) / (time.monotonic() - began)
        memory = next(int(line.split()[1]) / 1024 for line in Path(f"/proc/{ear}/status").read_text().splitlines()
                      if line.startswith("VmHWM"))
        away = []
        # Alone, this server's loudspeaker without a device falls back to blocks of two seconds once nobody listens.
        other = subprocess.Popen(["parec", "--latency-msec=20", "--device=booth_mic"], stdout=subprocess.DEVNULL,
                                 env={**os.environ, "PULSE_SERVER": server.address})
        for _ in range(effort.of(5, 1)):
            ear = _ear(engine)
            os.kill(ear, signal.SIGKILL)
            killed = time.monotonic()
            while client.ask("voices")["voices"][0]["state"] == "hears" and time.monotonic() - killed < 5:
                time.sleep(0.005)
            while client.ask("voices")["voices"][0]["state"] != "hears" and time.monotonic() - killed < 20:
                time.sleep(0.005)
            away.append(time.monotonic() - killed)
            time.sleep(0.5)
        other.kill()
    quiet, busy = _press_beside_talk(effort)
    return [Figure("the recogniser in silence, share of one core", silence, "%", None, "under 5 %", silence < 5),
            Figure("while somebody talks without a pause, share of one core", talking, "%", None, "under 60 %",
                   talking < 60),
            Figure("memory of the recogniser, most (VmHWM)", memory, "MB", None, "under 150 MB", memory < 150),
            Figure(f"killed, until it hears again, longest of {len(away)}", max(away), "s", None, "within 2 s",
                   max(away) < 2),
            Figure("press to effect of a key while somebody talks, median; beside the same without voice",
                   statistics.median(busy), "ms", statistics.median(quiet), "at most 1.1×",
                   statistics.median(busy) <= 1.1 * statistics.median(quiet))]


def _press_beside_talk(effort: Effort) -> tuple[list[float], list[float]]:
    """Presses of a measured engine, without and beside a recogniser that hears somebody talk."""
    from host import measured_presses
    quiet, busy = [], []
    with tempfile.TemporaryDirectory(prefix="bpv") as name, _studio(Path(name)) as (server, _, _):
        for round_ in range(effort.of(4, 1)):
            for talks, times in ((False, quiet), (True, busy)):
                playing = [server.play(spoken(text, VOICES[round_])) for text in talk(1)] if talks else []
                time.sleep(1.2)
                times.extend(measured_presses(Path(name) / f"{round_}-{talks}", effort.of(60, 10)))
                for one in playing:
                    one.wait()
    return quiet, busy


PARTS: dict[str, Callable[[Effort], list[Figure]]] = {
    "accuracy": accuracy, "human": human, "people": people, "free": free_words, "talk": running_talk,
    "latency": latency, "load": load}


def main() -> int:
    wanted, effort = asked_for(__doc__ or "", PARTS)
    figures: list[Figure] = []
    for name in wanted:
        figures += PARTS[name](effort)
    print(table(figures))
    print("\n" + json.dumps([figure.as_dict() for figure in figures]))
    return 0


if __name__ == "__main__":
    sys.exit(main())
