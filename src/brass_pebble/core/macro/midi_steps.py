"""Steps that send MIDI: notes that sound for a while, values, whole messages, a clock to play along with."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from lark import Token

from brass_pebble.core.effects.drive import midi_set
from brass_pebble.core.effects.messages import midi_send, note_code
from brass_pebble.core.effects.reach import DRIVES_MIDI
from brass_pebble.core.say.durations import write_duration
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.midi import CONTINUE, PROGRAM, START, STOP, whole_messages
from brass_pebble.core.signals.signal import FINE_CC, NRPN, family_of, find_signal, number_and_channel

from .asks import Laying
from .steps import Block, Pieces, Step, read_time, reckon, token
from .timetable import Timeline, lay_all
from .value.kinds import Known
from .value.reckon import check_whole, is_fixed, quoted, say, unquote

# MIDI 1.0: so many clock messages for each beat.
PULSES = 24
SLOWEST, FASTEST = 20, 400
LONGEST_MESSAGE = 65_536
_COMMANDS = {kind.word: kind.status for kind in (START, CONTINUE, STOP)}


def read_receiver(piece: Token | object | None) -> str:
    """Where a message goes; an empty name is the desk's usual receiver."""
    return unquote(str(piece)) if piece is not None else ""


def _behind(to: str) -> str:
    return f" to {quoted(to)}" if to else ""


def read_channel(piece: object | None, line: int) -> int:
    """A channel, counted from 0; 1 if none is told."""
    if piece is None:
        return 0
    word = token(piece)  # type: ignore[arg-type]
    if not word.isdigit() or not 1 <= int(word) <= 16:
        raise ProblemError(f"“{word}” is not a channel", line=line, column=word.column or 0,
                           hint="MIDI has channels from 1 to 16")
    return int(word) - 1


@dataclass(eq=False, repr=False)
class SendNote(Step):
    """A note that sounds for a while; it is let go however the run ends."""

    reach: ClassVar[str] = DRIVES_MIDI
    note: object = None
    channel: int = 0
    strength: object = None
    length: int | None = None
    to: str = ""

    def read(self, pieces: Pieces, known: Known) -> None:
        self.note, self.strength = pieces[0], pieces[2]
        self.channel, self.length = read_channel(pieces[1], self.line), read_time(pieces[3], self.line)
        self.to = read_receiver(pieces[4])
        for expression in (self.note, self.strength):
            check_whole(expression, known, self.line)

    @property
    def fixed(self) -> bool:
        return is_fixed(self.note) and is_fixed(self.strength)

    def lay(self, timeline: Timeline) -> Laying:
        note = reckon(self.note, timeline, self.line)
        strength = 100 if self.strength is None else reckon(self.strength, timeline, self.line)
        if not 0 <= note <= 127 and is_fixed(self.note):
            raise ProblemError(f"there is no note {note}", line=self.line, hint="Notes are 0 to 127, 60 is middle C")
        # What is reckoned from a press stays within what there is.
        note = max(0, min(127, note))
        code = note_code(self.to, self.channel, note)
        if code in timeline.down:
            timeline.release((code,))
        timeline.down[code] = timeline.line
        timeline.timetable.add(timeline.now, code, max(1, min(127, strength)), timeline.line)
        timeline.pass_time(timeline.tap if self.length is None else self.length)
        timeline.release((code,))
        yield from ()

    def words(self) -> str:
        strength = f" strength {say(self.strength)}" if self.strength is not None else ""
        length = f" for {write_duration(self.length)}" if self.length is not None else ""
        return f"send note {say(self.note)} on {self.channel + 1}{strength}{length}{_behind(self.to)}"


@dataclass(eq=False, repr=False)
class SendValue(Step):
    """A control change, pair, NRPN, bend or pressure, set to a value; or a program change."""

    reach: ClassVar[str] = DRIVES_MIDI
    kind: str = "cc"
    number: str = ""
    channel: int = 0
    value: object = None
    to: str = ""

    def read(self, pieces: Pieces, known: Known) -> None:
        self.kind, self.number = " ".join(str(pieces[0]).split()), str(pieces[1] or "")
        self.channel, self.value, self.to = read_channel(pieces[2], self.line), pieces[3], read_receiver(pieces[4])
        check_whole(self.value, known, self.line)
        if self.kind != "program" and self.value is None:
            raise ProblemError(f"{self.kind} needs a value", line=self.line, hint=f"Write send {self._signal} at 64")
        if self.kind == "program" and (self.value is not None or not self.number):
            raise ProblemError("a program change has a number and nothing else", line=self.line,
                               hint="Write send program 5 on 1")
        try:
            find_signal(self._signal)
        except ProblemError as error:
            raise ProblemError(error.problem.what, line=self.line, column=token(pieces[0]).column or 0,
                               hint=error.problem.hint) from None

    @property
    def _signal(self) -> str:
        return f"{self.kind} {self.number}".strip() + f" on {self.channel + 1}"

    @property
    def fixed(self) -> bool:
        return self.value is None or is_fixed(self.value)

    def lay(self, timeline: Timeline) -> Laying:
        signal = find_signal(self._signal)
        if self.value is None:
            number, channel = number_and_channel(signal)
            timeline.move(*midi_send(self.to, PROGRAM.on(channel, number)))
        else:
            wide = family_of(signal) in (FINE_CC, NRPN) or self.kind == "bend"
            value = max(0, min(16383 if wide else 127, reckon(self.value, timeline, self.line)))
            for code, packed in midi_set(signal, value, self.to):
                timeline.move(code, packed)
        yield from ()

    def words(self) -> str:
        value = f" at {say(self.value)}" if self.value is not None else ""
        return f"send {self._signal}{value}{_behind(self.to)}"


@dataclass(eq=False, repr=False)
class SendBytes(Step):
    """A whole message as it is, like a system exclusive one."""

    reach: ClassVar[str] = DRIVES_MIDI
    message: bytes = b""
    to: str = ""

    def read(self, pieces: Pieces, known: Known) -> None:
        text, self.to = unquote(str(pieces[0])), read_receiver(pieces[1])
        try:
            self.message = bytes.fromhex(text)
            whole = any(list(whole_messages(self.message)))
        except ValueError:
            whole = False
        if not whole or len(self.message) > LONGEST_MESSAGE:
            raise ProblemError("these are not complete MIDI "
                               "messages", line=self.line, column=token(pieces[0]).column or 0,
                               hint='Write two hex digits for each byte, as send bytes "F0 7D 01 F7"')

    def lay(self, timeline: Timeline) -> Laying:
        timeline.move(*midi_send(self.to, self.message))
        yield from ()

    def words(self) -> str:
        return f'send bytes "{self.message.hex(" ").upper()}"{_behind(self.to)}'


@dataclass(eq=False, repr=False)
class SendCommand(Step):
    """Start, continue or stop, for what follows a clock."""

    reach: ClassVar[str] = DRIVES_MIDI
    command: str = "start"
    to: str = ""

    def read(self, pieces: Pieces, known: Known) -> None:
        self.command, self.to = str(pieces[0]), read_receiver(pieces[1])

    def lay(self, timeline: Timeline) -> Laying:
        timeline.move(*midi_send(self.to, bytes((_COMMANDS[self.command],))))
        yield from ()

    def words(self) -> str:
        return f"send {self.command}{_behind(self.to)}"


@dataclass(eq=False, repr=False)
class Clock(Block):
    """A MIDI clock that runs while the block plays, with start before it and stop behind: 24 messages a beat.

    Each message has its place counted from the start: a slow drift is impossible.
    """

    reach: ClassVar[str] = DRIVES_MIDI
    tempo: int = 120
    to: str = ""
    takes_body: ClassVar[bool] = True

    def read(self, pieces: Pieces, known: Known) -> None:
        word = token(pieces[0])
        self.to = read_receiver(pieces[1])
        if not word.isdigit() or not SLOWEST <= int(word) <= FASTEST:
            raise ProblemError(f"“{word}” is not a tempo", line=self.line, column=word.column or 0,
                               hint=f"Write beats a minute, from {SLOWEST} to {FASTEST}: clock 120")
        self.tempo = int(word)

    def lay(self, timeline: Timeline) -> Laying:
        if not super().fixed:
            raise ProblemError("steps that wait or depend on the press cannot be played to a clock", line=self.line,
                               hint="Take it out of the clock's block")
        timetable, first, start = timeline.timetable, len(timeline.timetable.times), timeline.now
        timeline.move(*midi_send(self.to, b"\xfa"))
        before, timeline.whole = timeline.whole, True
        yield from lay_all(self.body, timeline)
        timeline.whole = before
        end = timeline.now
        code, packed = midi_send(self.to, b"\xf8")
        pulses = [(start + count * 60_000_000_000 // (self.tempo * PULSES), code, packed, self.line)
                  for count in range((end - start) * self.tempo * PULSES // 60_000_000_000 + 1)]
        events = timetable.take_from(first)
        beats = [(*pulse, timetable.rights) for pulse in pulses]
        # The clock's own message comes before what sounds on it; the start comes before both.
        merged = sorted([*events[:1], *beats, *events[1:]], key=lambda event: event[0])
        timetable.put_back(merged)
        timeline.begin(self.line)
        timeline.move(*midi_send(self.to, b"\xfc"))

    def words(self) -> str:
        return f"clock {self.tempo}{_behind(self.to)}"


MIDI_STEPS: dict[str, type[Step]] = {
    "send_note": SendNote, "send_value": SendValue, "send_bytes": SendBytes, "send_command": SendCommand,
    "clock": Clock,
}
