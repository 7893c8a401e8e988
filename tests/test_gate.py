"""The gate: nothing of a stranger's leaves that was not approved, whichever way it tries."""

from __future__ import annotations

import json
import os
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import pytest

import strangers
from brass_pebble.core.desk.action import ACTION_KINDS, DEEDS
from brass_pebble.core.effects.gate import Gate, comes_to, weigh
from brass_pebble.core.effects.kinds import KEY, KINDS
from brass_pebble.core.macro.asks import Ask, Errand, reach_of_ask
from brass_pebble.core.macro.guests.closure import Called, Callers
from brass_pebble.core.macro.steps import Step
from brass_pebble.core.macro.world_steps import STEPS
from brass_pebble.core.play.player import Player
from brass_pebble.core.say.data_table import read_table
from brass_pebble.core.signals.keys import key_table, parse_chord
from brass_pebble.engine.disk.store import DeskStore
from strangers import EXAMPLES, Left, Package, World, trial

MS = 1_000_000
PACKAGES = 2_000


def several(first: int, count: int, folder: str) -> tuple[list[str], int]:
    wrong, well = [], 0
    for seed in range(first, first + count):
        found, read = trial(seed, Path(folder))
        wrong, well = wrong + found, well + read
    return wrong, well


def test_nothing_of_thousands_of_packages_leaves_that_was_not_approved(tmp_path: Path) -> None:
    at_once = os.cpu_count() or 1
    share = PACKAGES // at_once + 1
    with ProcessPoolExecutor(at_once) as pool:
        found = list(pool.map(several, range(0, PACKAGES, share), [share] * at_once, [str(tmp_path)] * at_once))
    assert [what for wrong, _ in found for what in wrong][:5] == []
    # Most of them are macros that can be played, or this would show nothing.
    assert sum(well for _, well in found) > 1.5 * PACKAGES


@pytest.mark.parametrize("without", ["the gate", "the sleep"])
def test_either_of_both_is_enough_and_without_both_it_leaves(tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
                                                              without: str) -> None:
    """What sleeps is looked up beforehand, and the gate decides on the way out: each holds by itself."""
    def open_gate() -> None:
        monkeypatch.setattr(Gate, "shut", lambda *given: "")
        monkeypatch.setattr("brass_pebble.core.play.player.reach_of_ask", lambda ask: "")

    def stay_awake() -> None:
        monkeypatch.setattr("brass_pebble.core.macro.reader.put_to_sleep", lambda steps, guest: 0)
        monkeypatch.setattr("brass_pebble.core.macro.reader.lulled_play", lambda step, guest: step)
        monkeypatch.setattr("brass_pebble.core.macro.reader.keys_reach", lambda *given: None)
    (open_gate if without == "the gate" else stay_awake)()
    assert several(0, 40, str(tmp_path))[0] == []
    open_gate()
    stay_awake()
    assert len(several(0, 40, str(tmp_path))[0]) > 100


def test_every_step_is_among_what_is_tried() -> None:
    assert {*STEPS} - {"otherwise"} <= {*EXAMPLES}
    tried = strangers.Maker(0)
    text = " ".join(tried.surface("x", ["y"]) for _ in range(200))
    assert [kind for kind in ACTION_KINDS if f"{kind} = " not in text and kind != "drive"] == []


def attack(tmp_path: Path, *macros: str, surface: str = "") -> World:
    """A stranger's macros, called them-0, them-1 …, with nothing approved."""
    world = World(tmp_path)
    world.take_in("Them", Package({f"them-{number}": text for number, text in enumerate(macros)},
                                  surface or "[surface.them]\nlayout = \"numpad\"\n"))
    return world


def sent(left: Left) -> str:
    return " ".join(key_table().name(code) for code, value, *_ in left.effects if value)


SHELL = [f"tap {key}\n" for key in ("T", "O", "U", "C", "H", "Enter")]
# Each was seen to act with nothing approved, or is its like.
WAYS = {
    "a modifier between": "tap Shift\n".join(SHELL),
    "a key without a meaning between": "tap F24\n".join(SHELL),
    "an arrow between": "tap Left\n".join(SHELL),
    "a long time between": "wait 3s\n".join(SHELL),
    "a chord by its name": 'if not window "zz" is there\n' + "".join(f'  tap chord "{key}"\n' for key in "TOUCH"),
    "figures of the keypad": "".join(f"tap Pad{key}\n" for key in "1234") + "tap PadEnter\n",
    "pasted with a chord": "tap Ctrl+Shift+V\ntap Enter\n",
    "pasted with one modifier more": "keep Alt down\n  tap Ctrl+V\n",
    "by the middle button": "tap PointerMiddle\n",
    "a click": "click\n",
    "an address by a level": "level osc /x to 10.0.0.1:9 at 50\n",
    "a level over a time": "level cc 7 on 1 at 50 over 1s\n",
    "a clock": "clock 120\n  tap F9\n",
    "the virtual controller": "controller tap south\n",
    "an axis of it": "level controller x at 50\n",
    "stopping others": "stop others\n",
    "looking at windows": 'wait until window "Bank" is there at most 1s\ntap F9\n',
    "a value for my macro": 'kept greeting from "x"\nask greeting "Ready?" proposing "rm -r /"\n',
    "a value that is read": 'kept greeting from "x"\nread greeting from clipboard\n',
    "Enter by another chord": "tap L\ntap S\ntap Ctrl+M\n",
    "through a loop": "repeat 2\n  tap L\n  tap S\n",
    "through branches": "if strength > 200\n  tap A\notherwise\n  tap X\ntap T\ntap E\ntap R\n",
    "by parts": "play them-1\nplay them-2\nplay them-3\n",
    "by a macro of mine": 'play "My tool"\n',
    "a key that opens a program": "tap Www\n",
    "the menu": "down Super\nup Super\n",
    "a code without a name": "tap Key580\n",
    "a secret": 'type secret "word"\n',
}


@pytest.mark.parametrize("way", WAYS)
def test_a_way_round_is_closed(tmp_path: Path, way: str) -> None:
    world = attack(tmp_path, WAYS[way], "tap T\ntap E\n", "tap R\ntap M\n", "tap I\ntap N\n")
    loaded = world.read()
    assert "them-0" in loaded.desk.macros, loaded.problems
    # It is told, and nothing of it leaves.
    assert [where for where, _ in world.reaching(loaded) if where == "macros/them-0.macro"]
    assert world.play(loaded, "them-0").told() == []
    # Approved, it does what it says.
    world.approve({mark for _, mark in world.reaching(loaded)})
    left = world.play(world.read(), "them-0")
    assert left.effects or left.asked or left.kept


@pytest.mark.parametrize("again", [
    pytest.param(lambda world: world.macros.update({"them-0": world.macros["them-0"].replace("good", "EVIL")}),
                 id="it begins with another value"),
    pytest.param(lambda world: world.macros.update({"them-0": world.macros["them-0"] + "tap F9\n"}), id="its text"),
    pytest.param(lambda world: world.macros.update({"them-1": 'let said be "EVIL"\ntap F3\n'}), id="what it plays"),
    pytest.param(lambda world: world.take_in("Other", Package(
        {"other": 'kept cmd from "x"\nask cmd "Ready?" proposing "EVIL"\n'}, "")), id="who else sets its values"),
])
def test_an_approval_is_for_all_that_it_leads_to(tmp_path: Path, again: object) -> None:
    world = attack(tmp_path, 'kept cmd from "touch good"\nplay them-1\nrun shell "{cmd}"\n', "tap F2\n")
    loaded = world.read()
    world.approve({mark for _, mark in world.reaching(loaded)})
    assert world.play(world.read(), "them-0").told() == ["shell"]
    again(world)  # type: ignore[operator]
    assert world.play(world.read(), "them-0").told() == []


def test_one_stranger_has_another_do_nothing(tmp_path: Path) -> None:
    """Approved is what the first does by itself, not what a second hands in."""
    world = attack(tmp_path, 'run "touch" "{said}"\n')
    world.approve({mark for _, mark in world.reaching(world.read())})
    world.take_in("Other", Package({"other": 'let said be "HANDED-IN"\nplay them-0\n'},
                                   '[surface.other]\nlayout = "numpad"\n[surface.other.layer.base.press]\n'
                                   '1 = { play = "them-0" }\n'))
    loaded = world.read()
    assert world.play(loaded, "other").told() == [] and world.press(loaded, "other", "1").told() == []
    assert world.play(loaded, "them-0").told() == ["run"]


def test_my_own_come_first_by_name_and_by_id(tmp_path: Path) -> None:
    world = attack(tmp_path, 'name "Lights"\ntap F1\n', 'play "Lights"\n')
    loaded = world.read()
    assert sent(world.play(loaded, "my-show")) == "F9"
    # And theirs play theirs.
    assert sent(world.play(loaded, "them-1")) == "F1"
    names = Callers([Called("a", "Lights", "Them"), Called("b", "Lights"), Called("lights", "c", "Them"),
                     Called("d", "lights"), Called("e", "Rain", "Them")])
    assert [names.find("Lights"), names.find("lights"), names.find("Rain"), names.find("x")] == ["b", "d", "e", None]
    assert names.find("Lights", "Them") == "a" and names.find("Lights", "Others") == "b"


def test_many_short_runs_come_to_a_text_and_single_keys_never_do(tmp_path: Path) -> None:
    rows = "".join(f'{key} = {{ play = "them-{key}" }}\n' for key in "123")
    surface = f'[surface.them]\nlayout = "numpad"\n[surface.them.layer.base.press]\n{rows}4 = {{ tap = "J" }}\n' \
              '5 = { tap = "K" }\n'
    world = attack(tmp_path, "", "tap T\ntap O\ntap U\n", "tap C\ntap H\n", "tap F\ntap Enter\n", surface=surface)
    loaded = world.read()
    router = world.router(loaded)
    drawn = loaded.desk.surfaces["them"]

    def press(control: str, now: int) -> str:
        left, code = Left(), drawn.code_of(control)
        assert code is not None
        router.feed("them", code, 1, now, now, left.effects)
        while (due := router.player.next_deadline()) is not None:
            router.player.advance(due, left.effects)
        router.feed("them", code, 0, now + 80 * MS, now + 80 * MS, left.effects)
        return sent(left)
    assert [press(key, 300 * MS * number) for number, key in enumerate("123")] == ["T O U", "C", ""]
    # Keys one by one, as often and as fast as anybody presses them.
    assert [press(key, 9_000 * MS + 120 * MS * number) for number, key in enumerate("45" * 20)] == ["J", "K"] * 20


def test_a_value_of_a_stranger_makes_what_uses_it_the_strangers() -> None:
    """Also in a macro of one's own, once the approval by which it was set counts no more."""
    from brass_pebble.core.macro.reader import read_macro
    from brass_pebble.core.macro.value.kinds import Given, NothingKept, Setter
    from brass_pebble.core.play.player import Live

    class Set(NothingKept):
        def setter(self, name: str) -> Setter | None:
            return Setter("“Deploy” from Them") if name == "cmd" else None
    macro, problems = read_macro('kept cmd from "a"\nkept n from 1\ntap F{n}\n'.replace("tap F{n}", "tap F1")
                                 + 'show "{n}"\nrun shell "{cmd}"\ntap F2\ntype "later"\n')
    assert not problems and macro.score is not None
    player, out = Player(), []
    player.start(macro.timetable, 0, out, live=Live(macro.score, Given(kept=Set({"cmd": "EVIL", "n": 5}))))
    while (due := player.next_deadline()) is not None:
        player.advance(due, out)
    asked = [(ask.kind, ask.words) for _, ask in player.errands if isinstance(ask, Errand)]
    assert [kind for kind, _ in asked] == ["show", "asleep"] and "“Deploy” from Them" in asked[1][1][0]
    # Of what follows, single keys are left; a text is none.
    assert sent(Left(out)).split()[:2] == ["F1", "F2"] and len(sent(Left(out)).split()) < 6


def test_who_has_set_a_value_outlives_the_engine(desk: Path, tmp_path: Path) -> None:
    from brass_pebble.engine.disk.guests import print_of
    store = DeskStore(desk, tmp_path / "v", None, tmp_path / "approvals" / "x.json")
    store.trust.know()
    store.trust.set_values({"cmd": [print_of('value = "a"\n'), "m", "“Deploy” from Them"]})
    again = DeskStore(desk, tmp_path / "v", None, tmp_path / "approvals" / "x.json")
    assert again.trust.read(desk).values == {"cmd": [print_of('value = "a"\n'), "m", "“Deploy” from Them"]}
    assert json.loads((tmp_path / "trust" / "x.json").read_text())["opened"] is True


# Whatever is added says what it reaches.


def test_a_step_an_ask_and_an_effect_without_a_reach_do_not_load() -> None:
    with pytest.raises(TypeError, match="has to say what it reaches"):
        type("Sneaks", (Step,), {})
    with pytest.raises(TypeError, match="has to say what it reaches"):
        type("Whispers", (Ask,), {})
    with pytest.raises(TypeError, match="has to say what it reaches"):
        # What a class above says is not enough.
        type("Inherits", (STEPS["tap"],), {})
    with pytest.raises(TypeError, match="leaves"):
        type(KEY)(name="smell", first=9, holds=False, to_receiver=False, words=lambda code, value: "")
    assert [kind.name for kind in KINDS if not kind.leaves] == ["key", "motion"]
    assert all(isinstance(deed.reach, str) for deed in DEEDS.values())


def test_an_errand_that_nobody_knows_is_outside() -> None:
    assert reach_of_ask(Errand(1, "whatever is added next", ())) and not reach_of_ask(Errand(1, "show", ("x",)))


def test_every_key_types_is_free_or_asks() -> None:
    """No key is forgotten: what is in no group asks."""
    free = {row[0] for row in read_table("free-keys.tsv")}
    for key in key_table().by_code.values():
        does, typed = weigh(frozenset(), key.code)
        assert (bool(does) or bool(typed) or key.name in free
                or key.name in ("Ctrl", "RightCtrl", "Alt", "AltGr", "Shift", "RightShift")), key.name
    for written, _ in read_table("guarded-chords.tsv"):
        *held, struck = parse_chord(written.replace("*", "3")).codes
        assert comes_to([(frozenset(held), struck)]), written
