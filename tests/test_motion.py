"""Knobs, sticks, sliders and struck pads through the router, with a made-up clock; axis arithmetic as tables."""

from __future__ import annotations

import tomllib
from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brass_pebble.core.desk.model import Desk
from brass_pebble.core.desk.read.desk import read_desk
from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.layout import Layout, read_layout, write_layout
from brass_pebble.core.devices.lights import state_of
from brass_pebble.core.devices.proposal import propose
from brass_pebble.core.devices.walk import Walk
from brass_pebble.core.effects.drive import parse_drive, parse_level
from brass_pebble.core.effects.kinds import tell
from brass_pebble.core.effects.messages import message_of, midi_send
from brass_pebble.core.macro.reader import read_macro
from brass_pebble.core.play.axis import (
    AxisSettings,
    Calibration,
    Detents,
    Scale,
    directions,
    in_zone,
    smoothed,
)
from brass_pebble.core.play.player import Effect, Player
from brass_pebble.core.play.router import Router
from brass_pebble.core.play.told import TraceRow
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.problem import Problem, ProblemError
from brass_pebble.core.say.setting import read_share, write_share
from brass_pebble.core.signals.midi_in import MidiDecoder
from brass_pebble.core.signals.signal import FAMILIES, find_signal, signal_name, spell, tone
from brass_pebble.engine.disk.desk_reader import read_layout_file
from brass_pebble.kinds.inputs.base import Input, InputError
from brass_pebble.kinds.inputs.bench import Bench as NoDevices
from brass_pebble.kinds.inputs.table import input_kinds
from brass_pebble.paths import SHIPPED_LAYOUTS

MS = 1_000_000
LAYOUTS: dict[str, Layout] = {name: layout for name in ("pads-16", "knobs-sliders-8", "dial-pad-6", "controller")
                              if (layout := read_layout_file(SHIPPED_LAYOUTS / f"{name}.toml", []))}


def load(text: str) -> tuple[Desk, list[Problem]]:
    return read_desk(tomllib.loads(text), text=text, file="desk.toml", layouts=LAYOUTS.get, layout_names=LAYOUTS,
                     macros={}, broken_macros={})


class Bench:
    """A router with a desk; `sent` is what left, in words, `traces` what was told."""

    def __init__(self, text: str) -> None:
        self.desk, problems = load(text)
        assert not problems, [(p.what, p.hint) for p in problems]
        self.router = Router(Player())
        self.router.load(self.desk)
        self.now = 1_000 * MS
        self.sent: list[str] = []
        self.traces: dict[int, Trace] = {}

    def _take(self, out: list[Effect]) -> None:
        for code, value, _, _ in out:
            name = tell(code, value)
            self.sent.append(f"{name} {'down' if value else 'up'}" if code < 0x10000 else name)
        self.traces |= {trace.id: trace for trace in self.router.fresh}
        self.router.fresh = []

    def move(self, surface: str, signal: str, value: int) -> list[str]:
        """Report a raw value; returns what was sent because of it, at once."""
        out: list[Effect] = []
        before = len(self.sent)
        self.router.mover.move(surface, find_signal(signal), value, self.now, self.now, out)
        self._take(out)
        return self.sent[before:]

    def press(self, surface: str, signal: str, value: int) -> list[str]:
        out: list[Effect] = []
        before = len(self.sent)
        trace = self.router.feed(surface, find_signal(signal), value, self.now, self.now, out)
        self._take(out)
        if trace:
            self.traces[trace.id] = trace
        return self.sent[before:]

    def wait(self, ms: int) -> list[str]:
        before, end = len(self.sent), self.now + ms * MS
        while True:
            dues = [due for due in (self.router.next_deadline(), self.router.player.next_deadline()) if due is not None]
            if not dues or min(dues) > end:
                break
            self.now = max(self.now, min(dues))
            out: list[Effect] = []
            self.router.advance(self.now, out)
            self.router.player.advance(self.now, out)
            self._take(out)
        self.now = end
        return self.sent[before:]

    def count(self, what: str) -> int:
        return self.sent.count(what)

    def told(self) -> list[TraceRow]:
        return [trace.told(0) for trace in self.traces.values()]


def surface(layout: str, layer: str, more: str = "") -> str:
    return f'''
format = 1
[surface.s]
name = "Surface"
layout = "{layout}"
{more}
[surface.s.layer.base]
name = "Base"
{layer}
'''


# Signals.

@given(st.sampled_from([f for f in FAMILIES if not f.word.startswith(("osc", "phrase"))]), st.data())
def test_every_signal_has_a_name_that_is_read_back(family: Any, data: Any) -> None:
    signal = data.draw(st.integers(family.first, family.last))
    assert find_signal(signal_name(signal)) == signal


@pytest.mark.parametrize("word, wrong", [
    ("note 128 on 1", "numbers from 0 to 127"), ("note 60 on 17", "channels from 1 to 16"),
    ("note 60", "no key or signal"), ("fine cc 32 on 1", "numbers from 0 to 31"), ("axis q", "no key or signal"),
])
def test_wrong_signals_are_told_exactly(word: str, wrong: str) -> None:
    with pytest.raises(ProblemError, match=wrong):
        find_signal(word)


def test_the_musical_name_and_the_raw_bytes_stand_beside_the_number() -> None:
    assert spell(find_signal("note 36 on 10")) == "note 36 on 10 · C2 · 99 24"
    assert spell(find_signal("note 36 on 10"), 3) == "note 36 on 10 · C1 · 99 24"
    assert spell(find_signal("cc 7 on 1")) == "cc 7 on 1 · B0 07"
    assert (tone(60), tone(61), tone(59), tone(60, 5)) == ("C4", "C♯4", "B3", "C5")


def test_shipped_drawings_are_written_as_they_are_read() -> None:
    for layout in LAYOUTS.values():
        text = write_layout(layout)
        again, problems = read_layout(tomllib.loads(text), id=layout.id, file="", text=text)
        assert not problems and again == layout


# Decoding.

def decode(decoder: MidiDecoder, *messages: str) -> list[tuple[str, int]]:
    out: list[tuple[int, int, int]] = []
    for message in messages:
        decoder.decode(bytes.fromhex(message), 5, out)
    return [(signal_name(signal), value) for signal, value, _ in out]


@pytest.mark.parametrize("messages, told", [
    (("99 24 64", "89 24 40"), [("note 36 on 10", 100), ("note 36 on 10", 0)]),
    (("99 24 64", "99 24 00"), [("note 36 on 10", 100), ("note 36 on 10", 0)]),
    (("99 24 64", "99 24 20"), [("note 36 on 10", 100), ("note 36 on 10", 0), ("note 36 on 10", 32)]),
    (("89 24 40",), []),
    (("90 24 64", "91 24 64", "B0 7B 00"), [("note 36 on 1", 100), ("note 36 on 2", 100), ("note 36 on 1", 0)]),
    (("B0 07 40",), [("cc 7 on 1", 64)]),
    (("C2 05",), [("program 5 on 3", 127), ("program 5 on 3", 0)]),
    (("E0 00 40", "E0 7F 7F"), [("bend on 1", 8192), ("bend on 1", 16383)]),
    (("D0 33", "A0 24 10"), [("pressure on 1", 51), ("key pressure 36 on 1", 16)]),
    (("99", "99 24", "", "F8", "F0 7D F7"), []),
])
def test_messages_become_signals(messages: tuple[str, ...], told: list[tuple[str, int]]) -> None:
    assert decode(MidiDecoder(), *messages) == told


def test_pairs_and_numbered_parameters_count_only_where_a_control_wants_them() -> None:
    fine = MidiDecoder({find_signal("fine cc 7 on 1")})
    assert decode(fine, "B0 07 40", "B0 27 01", "B0 08 05") == [
        ("fine cc 7 on 1", 8192), ("fine cc 7 on 1", 8193), ("cc 8 on 1", 5)]
    assert decode(MidiDecoder(), "B0 07 40", "B0 27 01") == [("cc 7 on 1", 64), ("cc 39 on 1", 1)]
    numbered = MidiDecoder({find_signal("nrpn 1234 on 1")})
    assert decode(numbered, "B0 63 09", "B0 62 52", "B0 06 01", "B0 26 02", "B0 60 00", "B0 65 00", "B0 06 01") == [
        ("nrpn 1234 on 1", 128), ("nrpn 1234 on 1", 130), ("nrpn 1234 on 1", 131), ("cc 6 on 1", 1)]


def test_pads_that_never_let_go() -> None:
    assert decode(MidiDecoder(never_lets_go=True), "99 24 64", "99 24 30") == [
        ("note 36 on 10", 100), ("note 36 on 10", 0), ("note 36 on 10", 48), ("note 36 on 10", 0)]


# Arithmetic.

@pytest.mark.parametrize("settings, place, response", [
    (AxisSettings(), 0.5, 0.5), (AxisSettings(dead=0.2), 0.2, 0.0), (AxisSettings(dead=0.2), 0.6, 0.5),
    (AxisSettings(dead=0.2), -0.6, -0.5), (AxisSettings(full=0.8), 0.8, 1.0), (AxisSettings(curve=2.0), 0.5, 0.25),
    (AxisSettings(curve=2.0), -0.5, -0.25), (AxisSettings(invert=True), 0.25, -0.25),
])
def test_responses(settings: AxisSettings, place: float, response: float) -> None:
    assert settings.respond(place, centred=True) == pytest.approx(response)


@given(st.floats(0, 0.8), st.floats(0.1, 5), st.floats(-1, 1), st.floats(-1, 1), st.booleans())
def test_a_response_never_turns_back(dead: float, curve: float, one: float, other: float, invert: bool) -> None:
    settings = AxisSettings(dead=dead, curve=curve, invert=invert)
    low, high = sorted((one, other))
    first, second = settings.respond(low, centred=True), settings.respond(high, centred=True)
    assert (first >= second - 1e-12) if invert else (first <= second + 1e-12)
    assert -1.0 <= first <= 1.0 and settings.respond(0.0, centred=True) == 0.0


@given(st.lists(st.integers(0, 127), max_size=60), st.integers(1, 40))
def test_steps_of_a_knob_add_up(values: list[int], per_cent: int) -> None:
    detents, total = Detents(Fraction(per_cent, 100)), 0
    detents.to(Fraction(0))
    for value in values:
        total += detents.to(Fraction(value, 127))
        # Where it is and the steps told are never a whole step apart.
        assert abs(Fraction(value, 127) - total * Fraction(per_cent, 100)) < Fraction(per_cent, 100)
    assert total + detents.to(Fraction(0)) == 0


def test_a_way_there_and_back_is_as_many_steps_and_jitter_is_none() -> None:
    detents = Detents(Fraction(1, 20))
    assert [detents.to(Fraction(place, 127)) for place in (0, 127, 0)] == [0, 20, -20]
    assert sum(abs(detents.to(Fraction(place, 127))) for place in (63, 64) * 50) == 10
    wheel = Detents(Fraction(3))
    assert [wheel.by(change) for change in (1, 1, 1, 2, -2, 7, -1)] == [0, 0, 1, 0, 0, 2, 0]


@pytest.mark.parametrize("x, y, active, found", [
    (0.3, 0, "", ""), (0.6, 0, "", "right"), (0.45, 0, "right", "right"), (0.45, 0, "", ""), (0.38, 0, "right", ""),
    (0.6, 0.6, "", "right down"), (0.6, 0.2, "", "right"), (0.6, 0.24, "right down", "right down"),
    (-0.7, -0.7, "", "left up"), (0, -1, "", "up"),
])
def test_directions_with_diagonals_and_hysteresis(x: float, y: float, active: str, found: str) -> None:
    assert directions(x, y, frozenset(active.split()), AxisSettings(dead=0.1)) == frozenset(found.split())


@given(st.floats(-1, 1), st.floats(-1, 1))
def test_never_two_opposite_directions(x: float, y: float) -> None:
    found = directions(x, y, frozenset(), AxisSettings())
    assert len(found) <= 2 and not {"left", "right"} <= found and not {"up", "down"} <= found


def test_zones_shares_scales_smoothing_and_calibration() -> None:
    assert in_zone(0.33, 0.33, 0.66, False) and not in_zone(0.325, 0.33, 0.66, False)
    assert in_zone(0.325, 0.33, 0.66, True) and in_zone(1.0, 0.66, 1.0, False)
    assert [read_share(text) for text in ("12 %", "12%", "0.12", "x", "nan")] == [0.12, 0.12, 0.12, None, None]
    assert write_share(0.125) == "12.5 %"
    assert [Scale(0, 255, 128).place(raw) for raw in (-5, 0, 64, 128, 255, 300)] == [-1.0, -1.0, -0.5, 0.0, 1.0, 1.0]
    assert smoothed(0.0, 1.0, 0, AxisSettings(smooth=20 * MS)) == 0.0
    assert smoothed(0.0, 1.0, 20 * MS, AxisSettings(smooth=20 * MS)) == pytest.approx(0.632, abs=0.001)
    assert smoothed(0.0, 1.0, 1_000 * MS, AxisSettings(smooth=20 * MS)) == 1.0
    calibration = Calibration()
    for raw in (120, 10, 240, 121):
        calibration.see(raw)
    found = calibration.result(AxisSettings(), centred=True)
    assert found is not None and (found.low, found.centre, found.high) == (10, 120, 240)
    assert Scale(0, 255, 128).fitted(found).place(240) == 1.0


def test_ten_thousand_steps_are_exactly_one() -> None:
    bench = Bench(surface("pads-16", '''
[surface.s.layer.base.press]
1 = { step = "controller z by 1/10000" }
2 = { step = "controller x by -1/3 %" }
3 = { set = "controller x at 50 %" }
'''))
    for _ in range(10_000):
        bench.press("s", "note 36 on 10", 90)
        bench.press("s", "note 36 on 10", 0)
    assert bench.router.levels.at["controller z"] == 1
    assert bench.sent[-1] == "controller z 32767" and bench.sent[4999] == "controller z 16384"
    bench.press("s", "note 38 on 10", 90)
    for _ in range(150):
        bench.press("s", "note 37 on 10", 90)
        bench.press("s", "note 37 on 10", 0)
    assert bench.router.levels.at["controller x"] == 0
    assert bench.sent[-1] == "controller x 0"


@pytest.mark.parametrize("text, wrong", [
    ("contrller x", "position cannot drive"), ("controller q", "no axis"), ("note 3 on 1", "does not take a position"),
    ("osc /x", "has no destination"), ("osc /x to here:99999", "has no destination"),
])
def test_what_a_position_cannot_drive(text: str, wrong: str) -> None:
    with pytest.raises(ProblemError, match=wrong):
        parse_drive(text)


@pytest.mark.parametrize("text", ["controller x", "controller x by x", "controller z by 3", "pointer x by 1/2"])
def test_level_changes_that_are_none(text: str) -> None:
    with pytest.raises(ProblemError):
        parse_level(text, steps=True)


@given(st.binary(max_size=40))
def test_messages_survive_being_numbers(message: bytes) -> None:
    code, value = midi_send("Kiln", message)
    assert message_of(code, value) == message and code != midi_send("Gull", message)[0]
    assert {code: 1}[midi_send("Kiln", message)[0]]


# Through the router.

def test_strength_chooses_between_bands() -> None:
    bench = Bench(surface("pads-16", '''
[surface.s.layer.base."strike 1 to 79"]
1 = { tap = "A" }
[surface.s.layer.base."strike 80 to 127"]
1 = { tap = "B" }
[surface.s.layer.base.hold]
2 = { tap = "D" }
[surface.s.layer.base."strike 100 to 127"]
2 = { sustain = "C" }
'''))
    assert bench.press("s", "note 36 on 10", 40) == ["A down"]
    bench.press("s", "note 36 on 10", 0)
    bench.wait(200)
    assert bench.press("s", "note 36 on 10", 100) == ["B down"]
    bench.press("s", "note 36 on 10", 0)
    bench.wait(200)
    assert bench.press("s", "note 37 on 10", 99) == [] and bench.wait(400) == ["D down", "D up"]
    bench.press("s", "note 37 on 10", 0)
    assert bench.press("s", "note 37 on 10", 120) == ["C down"]
    assert [(t.gesture, t.strength) for t in bench.told()][:2] == [("strike 1 to 79", 40),
                                                                         ("strike 80 to 127", 100)]


def test_a_knob_steps_a_chord_for_every_five_per_cent_and_loses_none() -> None:
    bench = Bench(surface("knobs-sliders-8", '''
[surface.s.layer.base."turn right"]
knob-1 = { tap = "Equal", each = "5 %" }
[surface.s.layer.base."turn left"]
knob-1 = { tap = "Minus", each = "5 %" }
'''))
    bench.move("s", "cc 16 on 1", 0)
    for value in range(1, 128):
        bench.move("s", "cc 16 on 1", value)
    bench.wait(2_000)
    assert bench.count("Equal down") == bench.count("Equal up") == 20 and bench.count("Minus down") == 0
    bench.move("s", "cc 16 on 1", 0)
    bench.wait(2_000)
    assert bench.count("Minus down") == 20
    for value in (1, 0) * 100:
        bench.move("s", "cc 16 on 1", value)
    assert bench.wait(500) == []


def test_a_dial_without_ends_counts_and_its_press_is_a_key() -> None:
    bench = Bench(surface("dial-pad-6", '''
[surface.s.layer.base.press]
knob = { tap = "Space" }
[surface.s.layer.base."turn right"]
knob = { tap = "Right" }
[surface.s.layer.base."turn left"]
knob = { tap = "Left" }
'''))
    bench.move("s", "turn dial", 3)
    bench.move("s", "turn dial", -1)
    bench.press("s", "Mute", 1)
    bench.wait(500)
    assert (bench.count("Right down"), bench.count("Left down"), bench.count("Space down")) == (3, 1, 1)


def test_a_stick_becomes_directions_and_is_let_go_when_it_is_unplugged() -> None:
    bench = Bench(surface("controller", '''
[surface.s.layer.base."push left"]
stick-left = { sustain = "A" }
[surface.s.layer.base."push right"]
stick-left = { sustain = "D" }
[surface.s.layer.base."push up"]
stick-left = { sustain = "W" }
[surface.s.layer.base.move]
stick-right = { drive = ["controller x", "controller y"] }
'''))
    assert bench.move("s", "axis x", 3000) == []
    assert bench.move("s", "axis x", 32767) == ["D down"]
    assert bench.move("s", "axis y", -32768) == ["W down"]
    assert bench.wait(100) == []
    assert bench.move("s", "axis x", 0) == ["D up"]
    assert bench.move("s", "axis rx", 32767) == ["controller x 32767", "controller y 0"]
    out: list[Effect] = []
    bench.router.let_go_surface("s", bench.now, out)
    assert sorted(tell(code, value) for code, value, _, _ in out) == ["W", "controller x 0"]


def test_a_trigger_is_a_button_with_hysteresis_and_has_all_gestures() -> None:
    bench = Bench(surface("controller", '''
[surface.s.layer.base.press]
trigger-left = { sustain = "Q" }
[surface.s.layer.base.hold]
trigger-right = { tap = "H" }
[surface.s.layer.base.tap]
trigger-right = { tap = "T" }
''', '[surface.s.axis.trigger-left]\nthreshold = "40 %"\ngap = "10 %"'))
    bench.router.mover.set_ranges("s", {find_signal("axis z"): (0, 255), find_signal("axis rz"): (0, 255)})
    sent = [bench.move("s", "axis z", value) + bench.wait(50) for value in (90, 110, 95, 80, 70, 95, 110)]
    assert sent == [[], ["Q down"], [], [], ["Q up"], [], ["Q down"]]
    bench.move("s", "axis rz", 255)
    bench.wait(50)
    assert bench.move("s", "axis rz", 0) == ["T down"]
    bench.wait(100)
    bench.move("s", "axis rz", 255)
    assert bench.wait(400) == ["H down", "H up"]


def test_what_is_no_key_is_never_passed_through() -> None:
    text = surface("pads-16", '[surface.s.layer.base.press]\n1 = { do = "pass through" }', 'unbound = "pass"')
    _, problems = load(text)
    assert [(problem.what, problem.line) for problem in problems] == [
        ("“1” cannot be passed through, because no virtual device can send it", 10)]
    bench = Bench(surface("pads-16", '[surface.s.layer.base.press]\n2 = { tap = "A" }', 'unbound = "pass"'))
    for signal in ("note 36 on 10", "note 38 on 10", "note 99 on 3"):
        assert bench.press("s", signal, 90) == [] and bench.press("s", signal, 0) == []
    assert all("no virtual device can send it" in trace.why for trace in bench.told())
    assert len(bench.told()) == 3


def test_zones_each_have_their_own_action() -> None:
    bench = Bench(surface("knobs-sliders-8", '''
[surface.s.layer.base."at 0 to 33 %"]
slider-1 = { sustain = "F1" }
[surface.s.layer.base."at 33 to 100 %"]
slider-1 = { sustain = "F2" }
'''))
    assert bench.move("s", "cc 48 on 1", 10) == ["F1 down"] and bench.wait(50) == []
    assert bench.move("s", "cc 48 on 1", 60) == ["F1 up", "F2 down"]
    assert bench.move("s", "cc 48 on 1", 127) == []


def test_a_position_goes_on_as_midi_osc_and_controller() -> None:
    bench = Bench(surface("knobs-sliders-8", '''
[surface.s.layer.base.move]
slider-1 = { drive = "cc 7 on 2 to Kiln" }
slider-2 = { drive = "osc /oven/glow to 127.0.0.1:9000" }
slider-3 = { drive = "fine cc 7 on 1 to Kiln" }
slider-4 = { drive = "controller x" }
'''))
    assert bench.move("s", "cc 48 on 1", 127) == ["cc 7 on 2 = 127 to Kiln"]
    assert bench.move("s", "cc 49 on 1", 127) == ["osc /oven/glow 1 to 127.0.0.1:9000"]
    assert bench.move("s", "cc 50 on 1", 127) == ["cc 7 on 1 = 127 to Kiln", "cc 39 on 1 = 127 to Kiln"]
    assert bench.move("s", "cc 51 on 1", 0) == ["controller x -32767"]
    assert bench.move("s", "cc 48 on 1", 127) == []
    bench.wait(1_000)
    told = bench.told()
    assert len(told) == 4 and all(trace.state == "done" for trace in told)
    assert told[0].gesture == "move" and told[0].why == "at 100 %"


def test_a_stick_moves_the_pointer_as_fast_as_it_is_pushed() -> None:
    text = surface("controller", '''
[surface.s.layer.base.move]
stick-left = { drive = ["pointer x at 1000", "pointer y at 1000"] }
''')
    way = {}
    for raw in (32767, 18000):
        bench = Bench(text)
        bench.move("s", "axis x", raw)
        bench.wait(500)
        bench.move("s", "axis x", 0)
        way[raw] = sum(int(word.split()[-1]) for word in bench.sent if word.startswith("pointer right"))
        assert not [word for word in bench.sent if word.startswith("pointer down")]
        assert bench.wait(500) == []
    assert way[32767] == pytest.approx(500, abs=10) and 150 < way[18000] < 350


def test_a_pushed_stick_taps_the_faster_the_further_it_is_pushed() -> None:
    text = surface("controller", '''
[surface.s.layer.base."push right"]
stick-left = { rapid = "Right", every = "50ms", by_strength = true }
''')
    taps = {}
    for raw in (32767, 20000):
        bench = Bench(text)
        bench.move("s", "axis x", raw)
        bench.wait(2_000)
        taps[raw] = bench.count("Right down")
    assert 35 <= taps[32767] <= 41 and taps[20000] < taps[32767] * 0.8


def test_a_pointer_as_directions_ends_when_it_rests() -> None:
    LAYOUTS["mouse"] = read_layout(tomllib.loads('''
name = "Mouse"
control = [{ id = "motion", moves = ["turn x", "turn y"], x = 0, y = 0 }]
'''), id="mouse", file="")[0]
    bench = Bench(surface("mouse", '''
[surface.s.layer.base."push right"]
motion = { sustain = "D" }
'''))
    for _ in range(8):
        bench.move("s", "turn x", 6)
        bench.wait(8)
    assert bench.sent == ["D down"]
    assert bench.wait(300) == ["D up"]


def test_jitter_at_rest_says_nothing_and_smoothing_arrives() -> None:
    bench = Bench(surface("controller", '''
[surface.s.layer.base.move]
stick-left = { drive = "controller x" }
trigger-left = { drive = "controller z" }
''', '[surface.s.axis.trigger-left]\nsmooth = "30ms"'))
    bench.router.mover.set_ranges("s", {find_signal("axis z"): (0, 255)})
    for value in (100, -80, 60, -100) * 200:
        bench.move("s", "axis x", value)
    assert set(bench.sent) <= {"controller x 0"}
    bench.move("s", "axis z", 0)
    bench.move("s", "axis z", 255)
    values = [int(word.split()[-1]) for word in bench.wait(500) if word.startswith("controller z")]
    assert values == sorted(values) and values[-1] == 32767 and len(values) > 5


@pytest.mark.parametrize("layer, wrong", [
    ('[surface.s.layer.base.move]\nknob-1 = { tap = "A" }', "can only drive"),
    ('[surface.s.layer.base."turn left"]\nknob-1 = { drive = "scroll" }', "cannot drive"),
    ('[surface.s.layer.base."strike 90 to 12"]\nknob-1 = { tap = "A" }', "not a valid range"),
    ('[surface.s.layer.base."turn left"]\nknob-1 = { tap = "A", each = "150 %" }', "how far a step"),
    ('[surface.s.layer.base."turn left"]\nknob-1 = { layer = "while held base" }', "off again at once"),
])
def test_bindings_of_motions_that_make_no_sense(layer: str, wrong: str) -> None:
    _, problems = load(surface("knobs-sliders-8", layer))
    assert problems and wrong in problems[0].what


def test_motions_of_keys_and_wrong_axis_settings_are_reported() -> None:
    _, problems = load(surface("pads-16", '[surface.s.layer.base."push up"]\n1 = { tap = "A" }'))
    assert "does not move" in problems[0].what
    _, problems = load(surface("controller", "", '[surface.s.axis.stick-left]\ndead = "95 %"\ncurve = 40\nsmoth = 3\n'
                               "[surface.s.axis.stik]\ndead = 0.1"))
    assert [p.what.split("”")[0] for p in problems] == ["“dead", "“curve", "“smoth", "the drawing has no “stik"]


def test_thirty_two_controls_that_move_together_keep_their_order() -> None:
    def layers(channel: int) -> str:
        return "[surface.s.layer.base.move]\n" + "\n".join(
            f'{kind}-{n} = {{ drive = "cc {n + 20 * (kind == "slider")} on {channel}" }}'
            for kind in ("knob", "slider") for n in range(1, 9))
    two = surface("knobs-sliders-8", layers(3)) + surface("knobs-sliders-8", layers(4)).replace(
        "surface.s", "surface.t").replace("format = 1", "")
    bench = Bench(two)
    for step in range(1, 128):
        for n in range(16):
            for name in ("s", "t"):
                bench.move(name, f"cc {n + 16 if n < 8 else n + 40} on 1", step)
    for channel in (3, 4):
        for n in [*range(1, 9), *range(21, 29)]:
            values = [int(word.split(" = ")[1]) for word in bench.sent if word.startswith(f"cc {n} on {channel} ")]
            assert values == list(range(1, 128))
    assert len(bench.sent) == 32 * 127


def test_pads_and_knobs_are_walked_like_keys() -> None:
    walk = Walk(Layout("new", "New", ()))
    for signal in ("note 36 on 10", "note 37 on 10"):
        walk.press(find_signal(signal))
    walk.new_row()
    for signal in ("cc 16 on 1", "cc 16 on 1", "bend on 1"):
        walk.press(find_signal(signal))
    found = [(c.id, c.x, c.y, c.shape, len(c.moves)) for c in walk.layout.controls]
    assert found == [("pad-1", 0, 0, "cap", 0), ("pad-2", 1, 0, "cap", 0), ("knob-1", 0, 1, "knob", 1),
                     ("knob-2", 1, 1, "knob", 1)]
    text = write_layout(walk.layout)
    again, problems = read_layout(tomllib.loads(text), id="new", file="", text=text)
    assert not problems and [c.code for c in again.controls] == [c.code for c in walk.layout.controls]


def test_midi_devices_are_offered_drawings_of_pads_and_knobs() -> None:
    facts = DeviceFacts("midi/x", "Gannet", "MIDI", port="Gannet #1", kind="midi")
    found = propose(facts, LAYOUTS.values(), plays_notes=True)
    assert [p.layout.id for p in found] == ["pads-16", "knobs-sliders-8"]
    assert all(p.learn for p in found)
    # Only the kinds that send notes are drawn as such, by what their row says.
    kinds = input_kinds(NoDevices(), Nobody())
    assert {name for name, kind in kinds.items() if kind.plays_notes} == {"midi", "session"}


class Nobody:
    """Nobody is connected."""

    def peers(self) -> list[DeviceFacts]:
        return []

    def senders(self) -> list[DeviceFacts]:
        return []

    def open_peer(self, facts: DeviceFacts) -> Input:
        raise InputError("nobody")

    def open_sender(self, facts: DeviceFacts) -> Input:
        raise InputError("nobody")


@pytest.mark.parametrize("state, value", [
    ({"down": True, "bound": True}, 127), ({"latched": True, "bound": True}, 100), ({"playing": True}, 90),
    ({"bound": True}, 20), ({}, 0), ({"resting": True, "down": True}, 0),
])
def test_what_a_pad_shows(state: dict[str, bool], value: int) -> None:
    every = {"down": False, "latched": False, "playing": False, "bound": False, "resting": False}
    lights = LAYOUTS["pads-16"].lights
    assert lights.value(state_of(**{**every, **state})) == value
    assert lights.message(find_signal("note 36 on 10"), value) == bytes((0x99, 36, value))
    assert lights.value("bound", "sky") == 41 and lights.message(find_signal("A"), 1) is None


def test_a_clock_keeps_its_beat_and_notes_fall_on_it() -> None:
    macro, problems = read_macro('clock 90\n  beat 500ms\n    send note 36 on 10\n    send note 38 on 10\n')
    assert not problems
    sent = macro.timetable
    pulses = [at for at, code, value in zip(sent.times, sent.codes, sent.values, strict=True)
              if tell(code, value) == "clock"]
    assert pulses[:3] == [0, 27_777_777, 55_555_555] and pulses[18] == 500 * MS
    names = [tell(code, value) for code, value in zip(macro.timetable.codes, macro.timetable.values, strict=True)]
    assert names[0] == "start" and names[-1] == "stop" and names[2] == "note 36 on 10, strength 100"


@pytest.mark.parametrize("line, wrong", [
    ("send note 128", "no note 128"), ("send note 60 on 17", "is not a channel"), ("send cc 7 on 1", "needs a value"),
    ("send cc 200 on 1 at 3", "numbers from 0 to 127"), ('send bytes "90 20"', "not complete MIDI"),
    ('send bytes "hello"', "not complete MIDI"), ("send program 5 on 1 at 3", "nothing else"),
    ("clock 9000\n  tap A", "tempo"), ("clock 120\n  send note strength", "depend on the press"),
    ("send program on 1", "has a number"),
])
def test_midi_steps_that_make_no_sense(line: str, wrong: str) -> None:
    _, problems = read_macro(line + "\n")
    assert problems and wrong in problems[0].what, problems


def test_notes_that_sound_are_let_go_when_the_run_is_stopped() -> None:
    macro, _ = read_macro("send note 60 on 1 strength 77 for 2s\n")
    player, out = Player(), list[Effect]()
    run, _ = player.start(macro.timetable, 0, out)
    assert run is not None
    player.stop(run, 10 * MS, out)
    assert [tell(code, value) for code, value, _, _ in out] == ["note 60 on 1, strength 77", "note 60 on 1 off"]


def test_what_a_note_sends_is_a_note() -> None:
    from brass_pebble.core.effects.messages import note_code
    code = note_code("Kiln", 9, 36)
    assert message_of(code, 100) == bytes((0x99, 36, 100)) and message_of(code, 0) == bytes((0x89, 36, 64))
    assert tell(code, 100) == "note 36 on 10, strength 100 to Kiln"
