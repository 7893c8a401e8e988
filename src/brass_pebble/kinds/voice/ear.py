"""The process that hears one microphone: sound in, verdicts out.  `python -m brass_pebble.kinds.voice.ear SOURCE`.

It reads orders from its input and tells on its output (messages.py), and ends with its input.  Nothing it does, and no
death of it, can hold up a key: it shares nothing with the engine but these two pipes.
"""

from __future__ import annotations

import contextlib
import os
import resource
import select
import selectors
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import msgspec

from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.voice.alike import Pair, alike_pairs

from .follower import Follower, Judged
from .keeping import Keeper
from .messages import (
    LONGEST_LINE,
    Alike,
    Cannot,
    Dictate,
    Dictated,
    Gone,
    Keep,
    Kept,
    Knows,
    Level,
    Listen,
    Order,
    Over,
    Ready,
    Second,
    Told,
    Uttered,
    Watch,
)
from .recogniser import RATE, NoRecogniser
from .second import Whisper
from .sent import receive_phrases, tell_verdict
from .sources import COMMANDS, FILE, RECORDING, SILENCE, SoundError, read_wav, why_gone
from .speech import FRAME_BYTES

# The most memory it may take, in bytes of address space; the model and its words need about a quarter of it.
MOST_MEMORY, MOST_MEMORY_OF_TWO = 1 << 30, 6 << 30
# How often somebody who looks is told how loud it is, and how often sound of a file comes, in s.
LOOKS, PIECE = 0.1, 0.03
# So long the first sound of a microphone is waited for before the recogniser is read, in s.
FIRST_SOUND = 0.5
# For so long at a time phrases are compared, in s; so many pairs are told.
COMPARES, MOST_ALIKE = 0.01, 200
# A recording is heard in pieces of so many frames; so much silence follows it, so that its last words are over, in s.
AT_A_TIME, SILENT_AFTER = 20, 2.0


class Ear:
    """One microphone, its recogniser, and the two pipes."""

    _follower: Follower

    def __init__(self, source: str, orders: int, out: int) -> None:
        self._kind, _, self._name = source.partition(":")
        self._orders, self._out = orders, out
        self._waits = selectors.DefaultSelector()
        self._command: subprocess.Popen[bytes] | None = None
        self._samples = b""
        # What came before there was a recogniser.
        self._first = b""
        self._played = 0.0
        self._came = b""
        self._number = 0
        self._watched = self._running = self._reads = False
        self._told_at = 0.0
        self._pairs: Iterator[Pair | None] | None = None
        self._alike: list[Pair] = []
        self._second = "", ""
        self._second_opens = False
        self._keeper: Keeper | None = None
        # How much of a recording was heard, in bytes.
        self._position = 0

    def open(self) -> bool:
        """Open the source; false if it cannot be read, which is told.  A microphone that somebody else holds is tried
        again and again: that must not cost a recogniser each time."""
        try:
            self._open()
        except SoundError as error:
            self._tell(Gone(why=str(error)))
            return False
        if self._command is None:
            return True
        assert self._command.stdout is not None
        sound = self._command.stdout.fileno()
        if not select.select([sound], [], [], FIRST_SOUND)[0]:
            return True
        first = self._read()
        if first == b"":
            self._tell_gone()
            return False
        self._first = first or b""
        return True

    def run(self, follower: Follower) -> None:
        """Hear until the orders end, or the sound does."""
        self._follower, self._running = follower, True
        if self._first:
            self._ready()
            self._follow(self._first)
        self._waits.register(self._orders, selectors.EVENT_READ, self._take_orders)
        if self._command is None:
            self._ready()
        while self._running:
            for key, _ in self._waits.select(self._patience()):
                key.data()
            if self._pairs is not None and not self._follower.speaking:
                self._compare()
            if self._kind == RECORDING:
                self._hear_recording()
            elif self._command is None:
                self._play()
            if self._watched and time.monotonic() - self._told_at >= LOOKS:
                self._told_at = time.monotonic()
                self._tell(Level(loud=round(self._follower.loud, 1), speaking=self._follower.speaking,
                                 words=" ".join(self._follower.words)[:2_000]))
        if self._command is not None:
            self._command.kill()
            self._command.wait()

    def _patience(self) -> float:
        """How long to wait for orders or sound, in s."""
        if self._kind == RECORDING and self._number and not self._second_opens:
            return 0.0
        return PIECE if self._command is None else LOOKS

    def _open(self) -> None:
        if self._kind in (FILE, RECORDING, SILENCE):
            self._samples = read_wav(Path(self._name)) if self._kind != SILENCE else b""
            if self._kind == RECORDING:
                self._samples += bytes(round(SILENT_AFTER * RATE) * 2)
            self._played = time.monotonic()
            return
        if self._kind not in COMMANDS:
            raise SoundError(f"“{self._kind}” is not a kind of source")
        try:
            # It dies with this process: its output is gone then.
            self._command = subprocess.Popen(COMMANDS[self._kind](self._name), stdin=subprocess.DEVNULL,
                                             stdout=subprocess.PIPE, stderr=subprocess.PIPE,
                                             env={**os.environ, "LC_ALL": "C.UTF-8"})
        except OSError as error:
            raise SoundError(f"the microphone cannot be read ({error})") from None
        assert self._command.stdout is not None
        os.set_blocking(self._command.stdout.fileno(), False)
        self._waits.register(self._command.stdout.fileno(), selectors.EVENT_READ, self._hear)

    def _read(self) -> bytes | None:
        """What has come from the microphone; None for nothing yet, empty at its end."""
        assert self._command is not None and self._command.stdout is not None
        try:
            return os.read(self._command.stdout.fileno(), 1 << 16)
        except BlockingIOError:
            return None

    def _hear(self) -> None:
        data = self._read()
        if data is None:
            return
        if data:
            if not self._reads:
                self._ready()
            self._follow(data)
            return
        self._follower.drop()
        self._keep_no_more()
        self._tell_gone()
        self._running = False

    def _tell_gone(self) -> None:
        """The command that reads the microphone has ended: why, by its own last word."""
        assert self._command is not None and self._command.stderr is not None
        self._command.kill()
        said = self._command.stderr.read().decode(errors="replace").strip()
        self._tell(Gone(why=why_gone(self._kind, self._name, said.splitlines()[-1] if said else "")))

    def _ready(self) -> None:
        self._reads = True
        self._tell(Ready(recogniser="pocketsphinx"))

    def _play(self) -> None:
        """The next piece of a file, as it would arrive from a microphone; silence after it."""
        while self._played <= time.monotonic():
            piece, self._samples = self._samples[:FRAME_BYTES], self._samples[FRAME_BYTES:]
            self._played += FRAME_BYTES / 2 / RATE
            self._follow(piece.ljust(FRAME_BYTES, b"\0"))

    def _hear_recording(self) -> None:
        """The next piece of a recording, as soon as it is known what to listen for; its times are its own."""
        if not self._number or self._second_opens:
            return
        piece = self._samples[self._position:self._position + FRAME_BYTES * AT_A_TIME]
        self._position += len(piece)
        if not piece:
            self._tell(Over())
            self._running = False
            return
        self._hear_until(piece, round(self._position / RATE / 2 * 1e9))

    def _follow(self, samples: bytes) -> None:
        if self._keeper is not None:
            try:
                full = not self._keeper.keep(samples)
            except OSError as error:
                self._keep_no_more(f"it could not be kept ({error.strerror})")
            else:
                if full:
                    self._keep_no_more()
        self._hear_until(samples, time.monotonic_ns())

    def _hear_until(self, samples: bytes, at: int) -> None:
        began = time.monotonic_ns()
        for judged in self._follower.take(samples, at):
            self._tell(_uttered(judged, self._number, time.monotonic_ns() - began))
            if self._follower.dictates:
                self._tell(Dictated(readings=[words[:2_000] for words in judged.readings]))

    def _keep(self, order: Keep) -> None:
        self._keep_no_more()
        if order.file:
            try:
                self._keeper = Keeper(Path(order.file), order.seconds)
            except OSError as error:
                self._tell(Kept(why=f"it cannot be kept ({error.strerror})"))

    def _keep_no_more(self, why: str = "") -> None:
        if self._keeper is not None:
            keeper, self._keeper = self._keeper, None
            with contextlib.suppress(OSError):
                keeper.close()
            self._tell(Kept(seconds=keeper.seconds, why=why))

    def _take_orders(self) -> None:
        data = os.read(self._orders, 1 << 20)
        if not data or len(self._came) > LONGEST_LINE:
            self._running = False
            return
        *lines, self._came = (self._came + data).split(b"\n")
        for line in lines:
            try:
                self._obey(msgspec.json.decode(line, type=Order))
            except (msgspec.MsgspecError, ProblemError, ValueError) as error:
                print(f"an order was not understood: {error}", file=sys.stderr, flush=True)

    def _obey(self, order: Order) -> None:
        if isinstance(order, Watch):
            self._watched = order.on
            return
        if isinstance(order, Dictate):
            self._follower.dictates = order.on
            return
        if isinstance(order, Keep):
            self._keep(order)
            return
        assert isinstance(order, Listen)
        self._follower.listen_for(receive_phrases(order.phrases),
                                  {word: tuple(sounds) for word, sounds in order.pronounced.items()})
        self._number = order.number
        self._alike = []
        self._pairs = alike_pairs({name: phrase for name, phrase in self._follower.asked_for.items()
                                   if not name.startswith("@")}, self._follower.recogniser.pronounce)
        self._ask_second(order.second, order.language)
        self._tell(Knows(number=order.number, unknown=[word[:500] for word in self._follower.unknown]))

    def _ask_second(self, folder: str, language: str) -> None:
        """Have a second opinion, or none; its model is read beside, since that takes a while."""
        if (folder, language) == self._second:
            return
        self._second = folder, language
        self._follower.second = None
        if folder:
            self._second_opens = True
            threading.Thread(target=self._open_second, args=(folder, language), daemon=True).start()

    def _open_second(self, folder: str, language: str) -> None:
        try:
            with contextlib.suppress(ValueError, OSError):
                resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY_OF_TWO, MOST_MEMORY_OF_TWO))
            second = Whisper(Path(folder).expanduser(), language)
        except NoRecogniser as error:
            self._tell(Second(why=str(error)))
        except Exception as error:
            self._tell(Second(why=f"the model of the second opinion cannot be read: {error!r}"[:500]))
        else:
            if self._second == (folder, language):
                self._follower.second = second
                self._tell(Second())
        finally:
            self._second_opens = False

    def _compare(self) -> None:
        """Look at some more pairs of phrases: whether they sound alike.  Nobody speaks meanwhile."""
        assert self._pairs is not None
        until = time.monotonic() + COMPARES
        for pair in self._pairs:
            if pair is not None and len(self._alike) < MOST_ALIKE:
                self._alike.append(pair)
            if time.monotonic() > until:
                return
        self._pairs = None
        self._tell(Alike(number=self._number, pairs=self._alike))

    def _tell(self, told: Told) -> None:
        data = msgspec.json.encode(told) + b"\n"
        while data:
            try:
                data = data[os.write(self._out, data):]
            except OSError:
                # Nobody listens any more.
                self._running = False
                return


def _uttered(judged: Judged, number: int, worked: int) -> Uttered:
    utterance, verdict = judged.utterance, judged.verdict
    return Uttered(number=number, kind=verdict.kind, candidates=tell_verdict(verdict), why=verdict.why[:4_000],  # type: ignore[arg-type]
                   began=max(0, utterance.began), ended=max(0, utterance.ended), waited=judged.waited, worked=worked,
                   loud=round(utterance.loud, 1), clipped=utterance.clipped, sounds=list(utterance.sounds[:2_000]))


def main() -> None:
    """Hear the source that is named, on the two standard pipes."""
    from .sphinx import Sphinx
    with contextlib.suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY_OF_TWO))
    out = os.dup(1)
    # Whatever a library prints goes to the log, and not among the messages.
    os.dup2(2, 1)
    ear = Ear(sys.argv[1], 0, out)
    if not ear.open():
        return
    try:
        recogniser = Sphinx()
    except NoRecogniser as error:
        os.write(out, msgspec.json.encode(Cannot(why=str(error))) + b"\n")
        return
    ear.run(Follower(recogniser))


if __name__ == "__main__":
    main()
