"""Gestures, layers and actions through the router, with a made-up clock."""

from __future__ import annotations

import itertools
from typing import Any

import pytest

from brass_pebble.core.desk.action import ACTION_KINDS
from brass_pebble.core.desk.layer_switch import FocusedWindow, FollowRule, parse_target
from brass_pebble.core.desk.look.rows import control_row, layer_row
from brass_pebble.core.desk.look.shown import show_control
from brass_pebble.core.desk.model import Desk
from brass_pebble.core.desk.read.desk import read_desk
from brass_pebble.core.play import plan
from brass_pebble.core.play.plan import Planner
from brass_pebble.core.play.player import Effect, Player
from brass_pebble.core.play.router import Router
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.problem import Problem, ProblemError
from brass_pebble.core.signals.keys import key_table
from brass_pebble.engine.disk.desk_reader import read_layout_file
from brass_pebble.paths import SHIPPED_LAYOUTS

MS = 1_000_000
LAYOUTS = {name: read_layout_file(SHIPPED_LAYOUTS / f"{name}.toml", []) for name in ("numpad", "pedals-3")}


def load(text: str) -> tuple[Desk, list[Problem]]:
    import tomllib
    return read_desk(tomllib.loads(text), text=text, file="desk.toml", layouts=LAYOUTS.get, layout_names=LAYOUTS,
                     macros={}, broken_macros={})


def good(text: str) -> Desk:
    desk, problems = load(text)
    assert not problems, [problem.what for problem in problems]
    return desk


class Hands:
    """Presses controls of a desk; `sent` tells what left and when, `traces` what was said of it."""

    def __init__(self, text: str) -> None:
        self.desk = good(text)
        self.router = Router(Player())
        self.router.load(self.desk)
        self.now = 1_000 * MS
        self.sent: list[str] = []
        self.traces: list[Trace] = []
        self.began = self.now

    def _take(self, out: list[Effect]) -> None:
        self.sent += [f"{(at - self.began) // MS} {key_table().name(code)}{'+' if value else '-'}"
                      for code, value, at, _ in out]
        self.traces += self.router.fresh
        self.router.fresh = []

    def pass_time(self, ms: int) -> None:
        end = self.now + ms * MS
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

    def move(self, surface: str, control: str, value: int, *, gone: bool = False) -> Trace | None:
        out: list[Effect] = []
        code = self.desk.surfaces[surface].code_of(control)
        assert code is not None
        trace = self.router.feed(surface, code, value, self.now, self.now, out, gone=gone)
        self._take(out)
        if value and trace:
            self.traces.append(trace)
        return trace

    def down(self, control: str, surface: str = "pad") -> Trace | None:
        return self.move(surface, control, 1)

    def up(self, control: str, surface: str = "pad") -> None:
        self.move(surface, control, 0)

    def tap(self, control: str, surface: str = "pad", ms: int = 30) -> None:
        self.down(control, surface)
        self.pass_time(ms)
        self.up(control, surface)

    def on(self, surface: str = "pad") -> tuple[str, ...]:
        return self.router.layers.stack(self.desk.surfaces[surface])

    def said(self, index: int = -1) -> str:
        return str(self.traces[index].told(0).sentence)


PAD = """
[surface.pad]
name = "Pad"
layout = "numpad"
[surface.pad.layer.base.press]
"""


def test_a_press_alone_never_waits_and_a_double_tap_waits_only_as_long_as_it_must() -> None:
    hands = Hands(PAD + """1 = { tap = "A" }
[surface.pad.layer.base.tap]
2 = { tap = "B" }
[surface.pad.layer.base."double tap"]
2 = { tap = "C", second_within = "180ms" }
""")
    hands.tap("1")
    assert hands.sent[0] == "0 A+" and hands.router.next_deadline() is None
    hands.pass_time(100)
    hands.sent, hands.began = [], hands.now
    hands.tap("2")
    hands.pass_time(500)
    assert hands.sent == ["210 B+", "250 B-"]
    assert "waited 180 ms for a second tap" in hands.said()
    hands.sent, hands.began = [], hands.now
    hands.tap("2")
    hands.pass_time(100)
    hands.tap("2")
    hands.pass_time(500)
    assert hands.sent == ["130 C+", "170 C-"] and "the second tap came after 100 ms" in hands.said()
    # Another press decides at once, and comes second.
    hands.sent, hands.began = [], hands.now
    hands.tap("2")
    hands.pass_time(20)
    hands.tap("1")
    hands.pass_time(500)
    assert [event.split()[1] for event in hands.sent] == ["B+", "A+", "B-", "A-"]
    assert "waited 20 ms for a second tap" in hands.said(-2)


def test_a_first_tap_may_keep_its_meaning_at_once() -> None:
    hands = Hands(PAD + """[surface.pad.layer.base.tap]
2 = { tap = "B" }
[surface.pad.layer.base."double tap"]
2 = { tap = "C", adds = true }
""")
    hands.tap("2")
    assert hands.sent == ["30 B+"]
    hands.pass_time(100)
    hands.tap("2")
    hands.pass_time(500)
    assert [event.split()[1] for event in hands.sent] == ["B+", "B-", "C+", "C-"]


def test_hold_tap_release_and_sustain() -> None:
    hands = Hands("hold_after = \"400ms\"\n" + PAD + """[surface.pad.layer.base.tap]
1 = { tap = "A" }
[surface.pad.layer.base.hold]
1 = { sustain = "Ctrl+M", hold_after = "150ms" }
2 = { tap = "H" }
[surface.pad.layer.base.release]
1 = { tap = "R" }
""")
    hands.down("1")
    hands.pass_time(500)
    hands.up("1")
    hands.pass_time(100)
    assert hands.sent == ["150 Ctrl+", "150 M+", "500 M-", "500 Ctrl-", "500 R+", "540 R-"]
    assert "held for 150 ms" in hands.said(0)
    hands.sent, hands.began = [], hands.now
    hands.tap("1")
    hands.pass_time(100)
    assert hands.sent == ["30 A+", "30 R+", "70 A-", "70 R-"]
    hands.sent, hands.began = [], hands.now
    hands.down("2")
    hands.pass_time(450)
    assert hands.sent == ["400 H+", "440 H-"]


def test_a_release_that_the_kernel_saw_in_time_is_a_tap_however_late_it_is_read() -> None:
    hands = Hands(PAD + """[surface.pad.layer.base.tap]
1 = { tap = "A" }
[surface.pad.layer.base.hold]
1 = { tap = "H" }
""")
    hands.down("1")
    pressed = hands.now
    hands.now += 900 * MS
    out: list[Effect] = []
    code = hands.desk.surfaces["pad"].code_of("1")
    assert code is not None
    hands.router.feed("pad", code, 0, pressed + 100 * MS, hands.now, out)
    assert [key_table().name(effect[0]) for effect in out] == ["A"]


def test_together_with_a_control_of_another_surface() -> None:
    hands = Hands("""
[surface.feet]
layout = "pedals-3"
[surface.feet.layer.base.tap]
left = { tap = "L" }
""" + PAD + """1 = { tap = "A" }
[surface.pad.layer.base."with feet/left"]
1 = { tap = "B" }
[surface.pad.layer.base."with 0"]
1 = { tap = "Z" }
""")
    hands.down("left", "feet")
    hands.tap("1")
    hands.pass_time(100)
    hands.up("left", "feet")
    hands.pass_time(400)
    # The pedal was a modifier: it is no tap.
    assert [event.split()[1] for event in hands.sent] == ["B+", "B-"]
    assert hands.traces[0].told(0).gesture == "with feet/left"
    hands.tap("left", "feet")
    hands.tap("1")
    hands.pass_time(100)
    assert [event.split()[1] for event in hands.sent[2:]] == ["L+", "A+", "L-", "A-"]
    hands.down("0")
    hands.tap("1")
    hands.pass_time(100)
    assert hands.sent[-1].endswith("Z-")


def test_a_press_is_told_once_and_together_nothing_else_comes_of_it() -> None:
    hands = Hands(PAD + """0 = { tap = "Z" }
1 = { tap = "A" }
[surface.pad.layer.base.release]
1 = { tap = "R" }
[surface.pad.layer.base."double tap"]
2 = { do = "rest or wake" }
[surface.pad.layer.base."with 0"]
1 = { do = "record" }
""")
    hands.down("0")
    hands.tap("1")
    hands.up("0")
    hands.pass_time(100)
    assert keys(hands) == ["Z"]
    assert [trace.deed for trace in hands.traces] == ["", "record"]
    hands.tap("2")
    hands.pass_time(100)
    hands.tap("2", ms=40)
    # One trace for each thing done, and the second press is as long as the second press was.
    assert [trace.deed for trace in hands.traces[2:]] == ["rest or wake"]
    assert hands.traces[-1].told(0).held_ms == 40


def test_latch_rapid_and_cycle() -> None:
    hands = Hands(PAD + """1 = { latch = "Ctrl+D" }
2 = { rapid = "Right", every = "80ms" }
3 = { cycle = ["tap A", "tap B", "sustain C"], back = "2s" }
[surface.pad.layer.base.hold]
3 = { do = "back to the first" }
""")
    hands.tap("1")
    hands.pass_time(1000)
    assert hands.sent == ["0 Ctrl+", "0 D+"] and hands.router.player.down
    hands.tap("1")
    assert hands.sent[2:] == ["1030 D-", "1030 Ctrl-"] and hands.said() == \
        "Pad 1, press, in base: let Ctrl+D go again."
    hands.sent, hands.began = [], hands.now
    hands.down("2")
    hands.pass_time(180)
    hands.up("2")
    hands.pass_time(500)
    # It ends with a whole tap, however early the finger leaves.
    assert hands.sent == ["0 Right+", "40 Right-", "80 Right+", "120 Right-", "160 Right+", "200 Right-"]
    for expected in ("A", "B", "C", "A"):
        hands.sent = []
        hands.tap("3")
        hands.pass_time(100)
        assert hands.sent[0].split()[1] == f"{expected}+"
    assert "1 of 3" in hands.said()
    hands.pass_time(2500)
    hands.sent = []
    hands.tap("3")
    assert hands.sent[0].endswith("A+")
    hands.pass_time(100)
    hands.down("3")
    hands.pass_time(400)
    hands.up("3")
    assert "its cycle starts again" in hands.said()
    hands.sent = []
    hands.tap("3")
    assert hands.sent[0].endswith("A+")


LAYERED = """
[surface.pad]
name = "Pad"
layout = "numpad"
[surface.pad.layer.base.press]
1 = { tap = "A" }
2 = { tap = "B" }
7 = { layer = "while held one" }
8 = { layer = "while held two" }
9 = { layer = "on or off one" }
4 = { layer = "go to two" }
5 = { layer = "for one press one" }
6 = { layer = "next" }
3 = { layer = "previous" }
0 = { layer = "while held one on every surface" }
[surface.pad.layer.one.press]
1 = { tap = "C" }
9 = { layer = "on or off one" }
[surface.pad.layer.two]
follows = { class = "Crumb*", title = "*line" }
[surface.pad.layer.two.press]
1 = { tap = "D" }
[surface.feet]
layout = "pedals-3"
[surface.feet.layer.base.press]
left = { layer = "while held one on pad" }
right = { layer = "while held one on pad" }
[surface.feet.layer.one.press]
middle = { tap = "M" }
"""


def keys(hands: Hands) -> list[str]:
    found = [event.split()[1][:-1] for event in hands.sent if event.endswith("+")]
    hands.sent = []
    return found


def test_every_way_to_switch_layers() -> None:
    hands = Hands(LAYERED)
    hands.tap("1")
    hands.down("7")
    hands.tap("1")
    hands.tap("2")
    hands.up("7")
    hands.tap("1")
    assert keys(hands) == ["A", "C", "B", "A"]
    hands.tap("9")
    assert hands.on() == ("base", "one") and "one on" in hands.said()
    hands.tap("4")
    assert hands.on() == ("base", "two")
    hands.tap("6")
    assert hands.on() == ("base",)
    hands.tap("6")
    assert hands.on() == ("base", "one")
    hands.tap("3")
    hands.tap("3")
    assert hands.on() == ("base", "two")
    hands.tap("6")
    hands.tap("5")
    hands.tap("1")
    hands.tap("1")
    assert keys(hands) == ["C", "A"]
    hands.down("0")
    assert hands.on() == ("base", "one") and hands.on("feet") == ("base", "one")
    hands.up("0")
    assert hands.on() == hands.on("feet")[:1] == ("base",)


@pytest.mark.parametrize("order", list(itertools.permutations(("left", "right"))))
def test_both_feet_on_two_layer_pedals(order: tuple[str, str]) -> None:
    hands = Hands(LAYERED)
    hands.down("left", "feet")
    hands.down("right", "feet")
    hands.up(order[0], "feet")
    assert hands.on() == ("base", "one")
    hands.up(order[1], "feet")
    assert hands.on() == ("base",)


def test_what_goes_away_while_it_is_on() -> None:
    hands = Hands(LAYERED)
    hands.down("left", "feet")
    hands.router.let_go_surface("feet", hands.now, [])
    assert hands.on() == ("base",)
    hands.tap("9")
    hands.down("1")
    # The layer is deleted while it is on and one of its controls is down.
    hands.desk = good('[surface.pad]\nlayout = "numpad"\n[surface.pad.layer.base.press]\n1 = { tap = "A" }\n')
    hands.router.load(hands.desk)
    assert hands.on() == ("base",)
    hands.up("1")
    hands.pass_time(200)
    assert hands.router.player.down == {} and hands.router.held() == []
    hands.sent = []
    hands.tap("1")
    assert keys(hands) == ["A"]


def test_a_latch_whose_binding_is_gone_is_known() -> None:
    hands = Hands(PAD + '1 = { latch = "D" }\n')
    hands.tap("1")
    assert hands.router.lost_latches() == []
    hands.router.load(good(PAD + '1 = { tap = "D" }\n'))
    assert len(hands.router.lost_latches()) == 1


def test_a_layer_follows_the_focus_can_be_put_off_and_pinned() -> None:
    hands = Hands(LAYERED)
    layers = hands.router.layers

    def focus(cls: str, title: str = "") -> tuple[str, ...]:
        layers.focus(FocusedWindow(cls, title))
        hands.router.follow_layers()
        return hands.on()
    assert focus("crumbcut", "The timeline") == ("base", "two")
    hands.tap("1")
    assert keys(hands) == ["D"]
    assert focus("crumbcut", "Export") == ("base",) and focus("") == ("base",)
    assert focus("Crumbcut", "a line" + "x" * 1_000_000) == ("base",)
    focus("crumbcut", "The timeline")
    layers.pin(pinned=True)
    assert focus("Ovenlight") == ("base", "two")
    layers.pin(pinned=False)
    hands.router.follow_layers()
    assert hands.on() == ("base",)
    focus("crumbcut", "The timeline")
    hands.router.switch_layer("pad", "two", on=False)
    assert hands.on() == ("base",)
    # Put off until the window comes anew.
    focus("Ovenlight")
    assert focus("crumbcut", "The timeline") == ("base", "two")
    layers.focus(None)
    hands.router.follow_layers()
    assert hands.on() == ("base",)


def test_a_layer_owns_a_control_whole_and_lets_the_rest_fall_through() -> None:
    hands = Hands(PAD + """1 = { tap = "A" }
2 = { tap = "B" }
[surface.pad.layer.base.hold]
1 = { tap = "H" }
[surface.pad.layer.top]
starts = "on"
[surface.pad.layer.top.tap]
1 = { tap = "T" }
""")
    hands.down("1")
    hands.pass_time(600)
    hands.up("1")
    hands.tap("2")
    hands.pass_time(100)
    assert keys(hands) == ["T", "B"]


def test_what_a_cap_shows_is_what_a_press_does() -> None:
    desk = good(LAYERED + '[surface.pad.layer.two.hold]\n2 = { tap = "H" }\n'
                '[surface.pad.layer.one.tap]\n2 = { tap = "T" }\n'
                '[surface.pad.layer.two."with 0"]\n3 = { tap = "W" }\n')
    surface, planner = desk.surfaces["pad"], Planner(desk)
    rows = [layer_row(desk, layer, "always") for layer in surface.layers]
    for on in (("base",), ("base", "one"), ("base", "two"), ("base", "one", "two")):
        for control in surface.layout.controls:
            plan = planner.plan(surface, control.code, on)
            shown = show_control(control_row(desk, surface, control), rows, on)
            owner = surface.owner(control.id, on)
            assert set(plan.answers) == set(shown.gestures), (control.id, on)
            assert all(answer.layer is owner for answer in plan.answers.values())
            assert shown.layer == (owner.id if owner else "")
            assert [answer.gesture for _, answer in plan.together] == [row.gesture for row in shown.together]


def test_two_hundred_layers_and_a_loop_of_them() -> None:
    text = PAD + '1 = { layer = "go to l0" }\n' + "".join(
        f'[surface.pad.layer.l{n}.press]\n1 = {{ layer = "go to l{(n + 1) % 200}" }}\n'
        f'2 = {{ tap = "F{13 + n % 12}" }}\n'
        for n in range(200))
    hands = Hands(text)
    for n in range(450):
        hands.tap("1", ms=1)
        assert hands.on() == ("base", f"l{n % 200}")
    hands.tap("2")
    assert keys(hands) == ["F14"]


def test_stop_ends_every_wait_and_a_press_of_another_desk_is_clean() -> None:
    hands = Hands(PAD + """[surface.pad.layer.base.tap]
1 = { tap = "A" }
[surface.pad.layer.base."double tap"]
1 = { tap = "B" }
[surface.pad.layer.base.hold]
2 = { tap = "H" }
""")
    for control in ("1", "2"):
        hands.down(control)
        if control == "1":
            hands.up(control)
        hands.router.drop_gestures()
        hands.pass_time(1000)
    hands.up("2")
    assert hands.sent == [] and not hands.router.recognising


@pytest.mark.parametrize(("text", "expected"), [
    ('1 = { layer = "while held nowhere" }', "there is no layer “nowhere” on Pad"),
    ('1 = { layer = "hold one" }', "“hold one” is not a way to switch layers"),
    ('1 = { layer = "next one" }', "“next” takes no layer"),
    ('1 = { layer = "go to" }', "“go to” needs the name of a layer"),
    ('1 = { layer = "go to base on nobody" }', "there is no surface “nobody”"),
    ('1 = { cycle = ["tap A"] }', "a cycle has 2 to 24 actions, this one has 1"),
    ('1 = { cycle = ["tap A", "cycle B"] }', "a cycle cannot be part of a cycle"),
    ('1 = { rapid = "A", every = "1ms" }', "“every” must be at least 20 ms"),
    ('[surface.pad.layer.base.hold]\n1 = { tap = "A", hold_after = "1us" }', "“hold_after” must be between"),
    ('[surface.pad.layer.base."with 99"]\n1 = { tap = "A" }', "“Pad” has no control “99”"),
    ('[surface.pad.layer.base."with moon/1"]\n1 = { tap = "A" }', "there is no surface “moon”"),
    ('[surface.pad.layer.base."dobule tap"]\n1 = { tap = "A" }', "“dobule tap” is not known here"),
    ('[surface.pad.layer.base.tap]\n1 = { layer = "while held base" }', "the layer would switch off again at once"),
    ('[surface.pad.layer.two]\nfollows = { klass = "x" }', "“klass” is not known here"),
    ('[surface.pad.layer.two]\nstarts = "maybe"', "“maybe” is not a value for “starts”"),
])
def test_what_is_wrong_is_said_exactly(text: str, expected: str) -> None:
    _, problems = load(PAD + text + "\n")
    assert any(problem.what.startswith(expected) for problem in problems), [problem.what for problem in problems]
    assert all(problem.line for problem in problems)


def test_targets_and_patterns() -> None:
    target: Any = parse_target("for one press cut on left, right")
    assert (target.how, target.layer, target.surfaces) == ("for one press", "cut", ("left", "right"))
    assert str(target) == "for one press cut on left, right"
    with pytest.raises(ProblemError, match="on or off"):
        parse_target("toggle cut")
    assert FollowRule(cls="crumb*").fits(FocusedWindow("CRUMBCUT", ""))
    assert not FollowRule(cls="crumb*", title="*x*").fits(FocusedWindow("Crumbcut", "y"))
    assert not FollowRule().fits(FocusedWindow("a", "b"))


def test_every_kind_of_action_says_how_it_is_planned() -> None:
    assert plan._PLANNED.keys() == ACTION_KINDS.keys()
