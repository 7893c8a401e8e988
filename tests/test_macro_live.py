"""Macros that depend on the press and on the world: values, choices, questions, other macros; and their formatter."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brass_pebble.core.effects.pointer import NAMES, is_motion
from brass_pebble.core.macro.asks import Ask, Errand, Window
from brass_pebble.core.macro.reader import link, parse, read_macro
from brass_pebble.core.macro.timetable import Macro
from brass_pebble.core.macro.value.kinds import Given
from brass_pebble.core.macro.writer import format_macro
from brass_pebble.core.play.player import FOR_EVER, Effect, Live, Manner, Player, Run
from brass_pebble.core.say.durations import MS, parse_duration, write_duration
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.keys import key_table
from test_macro_language import complaints, good

LEVEL = """name "Level"
label "level"

# The program knows one key for nothing and one for a step of 4 %.
let steps be most(number / 4, 25)
tap Home
repeat steps every 60ms
  tap Up for 20ms
"""


def name(code: int) -> str:
    return NAMES[code] if is_motion(code) else key_table().name(code)


class World:
    """A player, a clock that runs by itself, and answers to what runs ask."""

    def __init__(self, answers: dict[str, object] | None = None, takes_ms: int = 0) -> None:
        self.player, self.out = Player(), list[Effect]()
        self.now = 0
        self.asked: list[Ask] = []
        self._answers, self._takes = answers or {}, takes_ms * MS

    def play(self, macro: Macro, manner: Manner | None = None, **values: int) -> Run:
        given_ = Given({"strength": 127, "position": 0, "number": 0, **values}, lambda now: now // MS,
                       lambda: self.now < 250 * MS)
        live = Live(macro.score, given_) if macro.score else None
        run, _ = self.player.start(macro.timetable, self.now, self.out, manner=manner or Manner(), live=live)
        assert run
        return run

    def go(self, until_ms: int = 1_000_000) -> list[str]:
        while True:
            for run, ask in self.player.errands:
                self.asked.append(ask)
                if isinstance(ask, Window) or (isinstance(ask, Errand) and ask.wait):
                    self.now += self._takes
                    key = ask.pattern if isinstance(ask, Window) else ask.kind
                    self.player.errands.remove((run, ask))
                    self.player.resume(run, self._answers.get(key, True), self.now, self.out)
                    break
            else:
                self.player.errands.clear()
                due = self.player.next_deadline()
                if due is None or due > until_ms * MS:
                    break
                self.now = max(self.now, due)
                self.player.advance(self.now, self.out)
        return [f"{planned // MS} {name(code)}{value if is_motion(code) else '+' if value else '-'}"
                for code, value, planned, _ in self.out]


def sent(text: str, **values: int) -> list[str]:
    world = World()
    world.play(good(text), **values)
    return world.go()


def downs(text: str, **values: int) -> list[str]:
    return [event.split()[1][:-1] for event in sent(text, **values) if event.endswith("+")]


@pytest.mark.parametrize(("number", "taps"), [(0, 0), (3, 0), (4, 1), (40, 10), (99, 24), (100, 25), (400, 25)])
def test_the_worked_case_of_a_level_in_steps(number: int, taps: int) -> None:
    assert downs(LEVEL, number=number) == ["Home", *["Up"] * taps]


def test_steps_of_the_worked_case_keep_their_rhythm() -> None:
    assert sent(LEVEL, number=8) == ["0 Home+", "40 Home-", "40 Up+", "60 Up-", "100 Up+", "120 Up-"]


@pytest.mark.parametrize(("text", "value"), [
    ("7 / 2", 3), ("-7 / 2", -3), ("-7 % 2", -1), ("7 % -2", 1), ("2 + 3 * 4", 14), ("(2 + 3) * 4", 20),
    ("10 - 3 - 2", 5), ("most(3, 9)", 3), ("least(3, 9)", 9), ("-(2 + 1)", -3), ("strength / 2", 63),
    ("100 / 10 / 2", 5)])
def test_arithmetic(text: str, value: int) -> None:
    world = World()
    run = world.play(good(f"let n be {text}\nwait 1s"))
    assert run.timeline and run.timeline.values["n"] == value
    again = format_macro(f"let n be {text}")
    assert format_macro(again) == again
    run = World().play(good(again + "wait 1s"))
    assert run.timeline and run.timeline.values["n"] == value


def test_choices_by_strength() -> None:
    text = ("if strength > 100\n  tap A\notherwise\n  if strength > 50 and not strength = 77\n    tap B\n  otherwise\n"
            "    tap C\ntap D")
    assert downs(text, strength=120) == ["A", "D"]
    assert downs(text, strength=60) == ["B", "D"]
    assert downs(text, strength=77) == ["C", "D"]
    assert downs(text, strength=5) == ["C", "D"]


def test_as_long_as_the_control_is_held_but_never_for_ever() -> None:
    assert downs("repeat while held every 100ms\n  tap A\ntap B") == ["A", "A", "A", "B"]
    assert downs("repeat while held every 10ms at most 4 times\n  tap A for 5ms") == ["A"] * 4
    # A block without any time of its own does not turn at one instant.
    assert len(downs("repeat while held at most 5 times\n  let n be strength\ntap A")) == 1


def test_until_something_holds_and_what_the_press_brought() -> None:
    assert downs("let n be 0\nrepeat until n = 3\n  tap A\n  let n be n + 1") == ["A"] * 3
    assert downs("repeat until held > 200 every 50ms\n  tap A") == ["A"] * 5
    assert downs('type "n{number}"', number=42) == ["N", "4", "2"]


def test_windows_are_waited_for_and_what_happens_when_they_do_not_come() -> None:
    text = 'wait until window "Oven*" is focused at most 2s\ntap A'
    world = World({"Oven*": True}, takes_ms=130)
    run = world.play(good(text))
    assert world.go() == ["130 A+", "170 A-"]
    assert world.asked == [Window(1, 2000 * MS, False, "Oven*", True)] and run.state == "done"
    world = World({"Oven*": False}, takes_ms=2000)
    run = world.play(good("keep Ctrl down\n  tap B\n  " + text.replace("\n", "\n  ")))
    assert world.go() == ["0 Ctrl+", "0 B+", "40 B-", "2040 Ctrl-"]
    assert (run.state, run.trouble) == ("stopped", 'line 3: timed out waiting until window "Oven*" is focused')
    world = World({"Oven*": False})
    world.play(good(text.replace("\ntap A", "\notherwise\n  tap B\ntap A")))
    assert [event.split()[1] for event in world.go()] == ["B+", "B-", "A+", "A-"]


def test_errands_are_done_in_their_place() -> None:
    world = World()
    world.play(good('tap A\nspeak "level {strength}"\nrun "notify" "a b" at most 3s\nshow "on"\nring\nstop others\n'
                    'layer stings off\nrequest post "http://127.0.0.1/x" with "{strength}"\n'
                    'send osc "/level" 1 2.5 "{strength}" "on" to "127.0.0.1:9000"\ntap B'))
    assert world.go() == ["0 A+", "40 A-", "60 B+", "100 B-"]
    assert [(ask.kind, ask.words) for ask in world.asked if isinstance(ask, Errand)] == [
        ("speak", ("level 127",)), ("run", ("notify", "a b")), ("show", ("on",)), ("ring", ()), ("stop", ("",)),
        ("layer", ("stings", "off")), ("request", ("post", "http://127.0.0.1/x", "127")),
        ("osc", ("/level", "127.0.0.1:9000", "i:1", "f:2.5", "i:127", "s:on"))]


def test_pasting_never_sends_half() -> None:
    world = World()
    world.play(good('paste "žluťoučký"'))
    assert [event.split()[1] for event in world.go()] == ["Ctrl+", "V+", "V-", "Ctrl-"]
    assert [ask.kind for ask in world.asked if isinstance(ask, Errand)] == ["paste", "restore"]
    world = World({"paste": False})
    run = world.play(good('tap A\npaste "x"\ntap B'))
    assert [event.split()[1] for event in world.go()] == ["A+", "A-"]
    assert run.trouble == "line 2: the clipboard could not be used"


def test_the_pointer() -> None:
    assert sent("click right\nclick twice") == [
        "0 PointerRight+", "40 PointerRight-", "60 PointerLeft+", "100 PointerLeft-", "120 PointerLeft+",
        "160 PointerLeft-"]
    assert sent("move by 10 -20\nmove to 50% 100%\nscroll down 2") == [
        "0 pointer right10", "0 pointer down-20", "0 pointer to x16384", "0 pointer to y32767", "0 wheel up-1",
        "10 wheel up-1"]
    assert sent("press left button\nmove by 5 0\nwait 20ms") == [
        "0 PointerLeft+", "0 pointer right5", "20 PointerLeft-"]


def test_a_beat_begins_each_step_on_its_time() -> None:
    assert sent("beat 100ms\n  tap A\n  tap B\n  wait 20ms\n  tap C") == [
        "0 A+", "40 A-", "100 B+", "140 B-", "300 C+", "340 C-"]


def test_macros_that_play_others() -> None:
    drafts = {"a": parse("taps last 10ms\ntap A\nplay b\ntap C", id="a"), "b": parse('name "Bee"\ntap B', id="b")}
    link(drafts)
    program = drafts["a"].macro.timetable
    assert [(t // MS, name(c), v, line) for t, c, v, line in zip(
        program.times, program.codes, program.values, program.lines, strict=True)] == [
        (0, "A", 1, 2), (10, "A", 0, 2), (30, "B", 1, 3), (70, "B", 0, 3), (90, "C", 1, 4), (100, "C", 0, 4)]


@pytest.mark.parametrize(("texts", "complaint"), [
    ({"a": "play b", "b": "play c", "c": "play a"}, "1:6: this never ends: “a” plays “b” plays “c” plays “a”"),
    ({"a": "play a"}, "1:6: this never ends: “a” plays “a”"),
    ({"a": "tap A\nplay oven", "ovn": "tap B"}, "2:6: there is no macro “oven”. Did you mean ovn?"),
    ({"a": "play b", "b": "tpa B"}, "1:6: the macro “b” has a mistake in line 1. “tpa” is not a step"),
])
def test_macros_that_cannot_play_others(texts: dict[str, str], complaint: str) -> None:
    drafts = {id: parse(text, id=id, file="") for id, text in texts.items()}
    link(drafts)
    (problem,) = drafts["a"].problems
    assert f"{problem.line}:{problem.column}: {problem.what}. {problem.hint}".startswith(complaint)


@pytest.mark.parametrize(("text", "complaint"), [
    ("let n be 5 / 0\ntap A", ""),
    ("repeat levle\n  tap A", "1:8: there is no value called “levle”. Write let levle be 0 before it"),
    ("repeat strenght\n  tap A", "1:8: there is no value called “strenght”. Did you mean strength?"),
    ("if strength > 3ms\n  tap A", "1:15: “3ms” is not a number. Values are numbers without a unit"),
    ("otherwise\n  tap A", "1:1: this otherwise does not follow a step that has another way"),
    ("if strength\n  tap A", "1:12: the line is incomplete. Expected = != < > <= >=, contains, begins with"),
    ("wait until window Oven is there", "1:19: “Oven” does not fit here."),
    ('wait until window "Oven" is their', "1:29: “their” does not fit here. Did you mean there?"),
    ('type "{levl}"', "1:7: there is no value called “levl”."),
    ("move by 5% 3%", "1:9: the pointer cannot be moved by 5%. Write move by 10 -20"),
    ("move to 120% 3%", "1:9: the pointer cannot be moved to 120%."),
    ("release left button", "1: the left button is not down here"),
    ('request get "ftp://x"', "1:13: an address begins with http:// or https://"),
    ('send osc "/x" to "nowhere"', "1:18: the receiver is written as HOST:PORT"),
    ("beat 10ms\n  tap A\n  tap B", "3: the step before takes longer than the beat of 10 ms."),
    ("repeat while held\n  tpa A", "2:3: “tpa” is not a step. Did you mean tap?"),
])
def test_what_is_wrong_is_told_before_the_run(text: str, complaint: str) -> None:
    found = complaints(text)
    if not complaint:
        assert "divides by zero" in found[0]
    else:
        assert found and found[0].startswith(f"test.macro:{complaint}"), found


def test_trouble_in_the_middle_releases_everything_and_says_where() -> None:
    world = World()
    run = world.play(good("keep Ctrl down\n  tap A\n  wait 100ms\n  let n be 5 / strength\n  tap B"), strength=0)
    assert world.go() == ["0 Ctrl+", "0 A+", "40 A-", "140 Ctrl-"]
    assert run.trouble == "line 4: this divides by zero"


def test_a_run_can_be_bounded() -> None:
    world = World()
    run = world.play(good("down A\nwait 10s"), Manner(longest=300 * MS))
    assert world.go() == ["0 A+", "300 A-"]
    assert (run.state, run.trouble) == ("stopped", "its limit is 300 ms")


def test_several_turns_keep_their_time_and_end_in_order() -> None:
    text = "tap A for 30ms\nwait 70ms"
    for macro in (good(text), good(text + "\nset n to 1")):
        world = World()
        run = world.play(macro, Manner(turns=3))
        assert world.go() == ["0 A+", "30 A-", "100 A+", "130 A-", "200 A+", "230 A-"]
        assert run.state == "done" and world.player.down == {}


def test_for_as_long_as_held_and_until_pressed_again() -> None:
    world = World()
    run = world.play(good("tap A\nwait 60ms"), Manner(turns=FOR_EVER, while_held=True))
    world.go(until_ms=220)
    world.player.let_go(run, world.now, world.out)
    assert world.go()[-1] == "200 A-" and run.state == "done" and world.player.next_deadline() is None
    world = World()
    manner = Manner("end", FOR_EVER)
    first, _ = world.player.start(good("tap A\nwait 60ms").timetable, 0, world.out, again_key="k", manner=manner)
    world.go(until_ms=250)
    second, outcome = world.player.start(good("tap A").timetable, world.now, world.out, again_key="k", manner=manner)
    assert first and (first.state, second, outcome) == ("done", None, "ended")
    assert world.player.down == {}


FORMATTED = """name "Everything"
tint clay
taps last 20ms
lasts at most 1.5min

# keys
tap Ctrl+Alt+F4 for 80ms  # both
type "a # b" every 30ms
repeat 3 every 250ms
  keep Shift down
    tap Right
  # in the block
  wait 1.5s
if (strength + 1) * 2 > 100 or window class "oven" is there
  click right
otherwise
  scroll down strength / 30
  run shell "echo {strength}" at most 2s
wait until window "Crumb*" is focused at most 5s
otherwise
  stop here
"""


def test_formatting() -> None:
    untidy = FORMATTED.replace("  keep", "     keep").replace("    tap Right", "        tap  right").replace(
        "  # in", "     #in").replace("  wait 1.5s", "     wait  1500ms").replace("Ctrl+Alt+F4", "ctrl+alt+f4").replace(
        "at most 1.5min", "at most 90s").replace("\n\n", "\n\n\n\n").replace("  # both", "#both")
    assert untidy != FORMATTED
    assert format_macro(untidy) == FORMATTED
    assert format_macro(FORMATTED) == FORMATTED
    assert format_macro("") == ""
    with pytest.raises(ProblemError, match="not a step"):
        format_macro("tap A\ntpa B")


keys = st.sampled_from(["A", "Ctrl+B", "F24", "Pad5", "RightShift+Slash", "VolumeUp"])
amounts = st.integers(0, 3000).map(lambda ms: write_duration(ms * MS))
lines = st.one_of(
    keys.map("tap {}".format), st.tuples(keys, amounts).map("tap {0[0]} for {0[1]}".format),
    amounts.map("wait {}".format), st.sampled_from(['type "abc" every 20ms', "click twice", "move by 3 -4", "ring",
                                                    "scroll up 2", "let n be strength * 2", 'speak "n {number}"']))


@st.composite
def blocks(draw: st.DrawFn, depth: int = 0) -> list[str]:
    out: list[str] = []
    for _ in range(draw(st.integers(1, 4))):
        if depth < 3 and draw(st.booleans()):
            head = draw(st.sampled_from(["repeat 2", "repeat strength / 60", "keep Alt down", "if strength > 60",
                                         "repeat while held every 50ms at most 3 times"]))
            out += [head, *("  " + line for line in draw(blocks(depth + 1)))]
        else:
            out.append(draw(lines))
    return out


@given(blocks(), st.integers(0, 127))
def test_random_macros_are_read_formatted_played_and_leave_nothing_down(text: list[str], strength: int) -> None:
    source = "\n".join(text)
    macro, problems = read_macro(source)
    if problems:
        # Only a rhythm that is too quick for its block can be wrong.
        assert all("longer than" in problem.what for problem in problems), problems
        return
    formatted = format_macro(source)
    assert format_macro(formatted) == formatted
    again = good(formatted)
    assert (again.timetable.times, again.timetable.codes, again.timetable.values) == (
        macro.timetable.times, macro.timetable.codes, macro.timetable.values)
    world = World()
    world.play(macro, strength=strength)
    world.go()
    assert world.player.down == {} and world.player.runs == {}
    planned = [at for _, _, at, _ in world.out]
    assert planned == sorted(planned)


@given(st.integers(0, 10**13))
def test_durations_are_written_exactly(ns: int) -> None:
    assert parse_duration(write_duration(ns)) == ns
