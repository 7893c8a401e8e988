"""Bindings, layers and clashes through a real engine: changed, rearranged, caught, proposed, sent once."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import pytest

from brass_pebble.client import EngineClient, EngineError
from brass_pebble.core.desk.look.clashes import find_clashes
from brass_pebble.core.desk.look.drawn import BindingRow
from brass_pebble.core.desk.look.free_chords import free_chords, free_family, own_chords
from brass_pebble.core.desk.model import Desk
from brass_pebble.core.desk.read.desk import read_desk
from brass_pebble.core.desk.shortcuts import ProgramTable, Shortcut, read_program, shape_of
from brass_pebble.core.macro.reader import link, parse
from brass_pebble.core.play.chord_catch import ChordCatch
from brass_pebble.core.signals.keys import key_table, parse_chord
from brass_pebble.demo import HERE
from brass_pebble.engine.disk.desk_reader import read_layout_file
from brass_pebble.kinds.focus.desktop_shortcuts import read_bindsyms, read_gsettings
from brass_pebble.paths import SHIPPED_LAYOUTS
from conftest import run_cli, wait_for

# What the engine leaves out of a row.
USUAL = {name: getattr(BindingRow(), name) for name in BindingRow.__struct_fields__}

Row = dict[str, Any]
NUMPAD = read_layout_file(SHIPPED_LAYOUTS / "numpad.toml", [])


def surface(client: EngineClient, name: str = "left-numpad") -> Row:
    return next(s for s in client.ask("desk")["desk"]["surfaces"] if s["id"] == name)


def bound(client: EngineClient, control: str, layer: str, name: str = "left-numpad") -> Row:
    rows = next(la["bindings"] for la in surface(client, name)["layers"] if la["id"] == layer)
    return {row["gesture"]: {**USUAL, **row} for row in rows if row["control"] == control}


def tap(client: EngineClient, name: str, control: str, seconds: float = 0.02) -> None:
    client.ask("press", surface=name, control=control, down=True)
    time.sleep(seconds)
    client.ask("press", surface=name, control=control, down=False)


def test_every_gesture_is_bound_saved_and_read_again(client: EngineClient, desk: Path) -> None:
    where = {"surface": "left-numpad", "layer": "cut", "control": "7"}
    for gesture, fields in (("tap", {"kind": "tap", "target": "A"}),
                            ("double tap", {"kind": "tap", "target": "B", "second_within": "180ms", "adds": True}),
                            ("hold", {"kind": "rapid", "target": "C", "every": "60ms", "hold_after": "400ms"}),
                            ("release", {"kind": "cycle", "target": "tap D / tap E / play welcome", "back": "5s"}),
                            ("with pedals/left", {"kind": "layer", "target": "for one press titles"})):
        client.ask("bind", **where, gesture=gesture, **fields)
    rows = bound(client, "7", "cut")
    assert {gesture: row["kind"] for gesture, row in rows.items()} == {
        "tap": "tap", "double tap": "tap", "hold": "rapid", "release": "cycle", "with pedals/left": "layer"}
    assert rows["double tap"]["adds"] and rows["double tap"]["second_within"] == "180ms"
    assert (rows["hold"]["every"], rows["hold"]["hold_after"], rows["release"]["back"]) == ("60ms", "400ms", "5s")
    text = (desk / "desk.toml").read_text()
    assert '[surface.left-numpad.layer.cut."with pedals/left"]' in text and "# cameras" in text
    assert '7 = {cycle = ["tap D", "tap E", "play welcome"], back = "5s"}' in text
    for _ in range(5):
        client.ask("undo")
    assert bound(client, "7", "cut") == {}
    with pytest.raises(EngineError, match=r"“dobule tap” is not a gesture"):
        client.ask("bind", **where, gesture="dobule tap", kind="tap", target="A")
    with pytest.raises(EngineError, match="has no unit"):
        client.ask("bind", **where, gesture="hold", kind="tap", target="A", hold_after="180")


def test_rearranging_takes_every_gesture_along(client: EngineClient, desk: Path) -> None:
    before = (desk / "desk.toml").read_text()
    nine = ["left-numpad", "class", "9"]
    client.ask("rearrange", how="copy", places=[nine], to=["right-numpad", "stings", "num"])
    copied = bound(client, "num", "stings", "right-numpad")
    assert {g: (r["target"], r["own_label"]) for g, r in copied.items()} == {
        "press": ("Ctrl+Alt+3", "oven"), "hold": ("Ctrl+Alt+L", "lamp")}
    client.ask("rearrange", how="swap", places=[nine], to=["left-numpad", "class", "7"])
    assert bound(client, "9", "class")["press"]["target"] == "Ctrl+Alt+1" and "hold" in bound(client, "7", "class")
    client.ask("rearrange", how="move", places=[["left-numpad", "class", "4"], ["left-numpad", "class", "5"]],
               to=["right-numpad", "stings", "slash"])
    assert bound(client, "4", "class") == {} and bound(client, "times", "stings", "right-numpad")
    client.ask("rearrange", how="clear", places=[["left-numpad", "class", "7"], ["left-numpad", "class", "8"]])
    assert bound(client, "7", "class") == bound(client, "8", "class") == {}
    for _ in range(4):
        client.ask("undo")
    assert (desk / "desk.toml").read_text() == before
    client.ask("rearrange", how="mirror", places=[["right-numpad", "stings", ""]])
    assert [bound(client, control, "stings", "right-numpad").get("press", {}).get("own_label") for control in
            ("8", "9", "num", "minus")] == ["crust", "drum", "stop", None]
    client.ask("undo")
    client.ask("rearrange", how="mirror layer", places=[["left-numpad", "cut", ""]], to=["right-numpad", "stings", ""])
    assert [bound(client, control, "stings", "right-numpad")["press"]["own_label"] for control in ("9", "4", "5")] == \
        ["cut", "◂ frame", "frame ▸"]
    client.ask("undo")
    assert (desk / "desk.toml").read_text() == before
    with pytest.raises(EngineError, match="not a way to rearrange"):
        client.ask("rearrange", how="fold", places=[nine])
    with pytest.raises(EngineError, match="has no layer “nothing”"):
        client.ask("rearrange", how="clear", places=[["left-numpad", "nothing", "7"]])


def test_layers_are_added_set_switched_and_removed(client: EngineClient) -> None:
    layer = client.ask("add_layer", surface="pedals", name="Cut & paste")["layer"]
    assert layer == "cut-paste"
    client.ask("set_layer", surface="pedals", layer=layer, what="follows", value={"class": "Crumbcut"})
    client.ask("set_layer", surface="pedals", layer=layer, what="tint", value="moss")
    client.ask("focus", stage="crumbcut")
    state = client.ask("focus")
    assert state["on"]["pedals"] == {"class": "always", layer: "follows the focus"} and state["source"] == "the stage"
    client.ask("layer", surface="pedals", layer=layer)
    assert layer not in client.ask("focus")["on"]["pedals"]
    with pytest.raises(EngineError, match="the lowest layer, which is always on"):
        client.ask("set_layer", surface="pedals", layer="class", what="follows", value={"class": "x"})
    with pytest.raises(EngineError, match="not a value for “tint”"):
        client.ask("set_layer", surface="pedals", layer=layer, what="tint", value="mauve")
    with pytest.raises(EngineError, match="not a way to switch"):
        client.ask("layer", surface="pedals", layer=layer, how="while held")
    client.ask("remove_layer", surface="pedals", layer=layer)
    assert [la["id"] for la in surface(client, "pedals")["layers"]] == ["class"]
    with pytest.raises(EngineError, match="keeps one layer"):
        client.ask("remove_layer", surface="pedals", layer="class")
    client.ask("undo")
    assert len(surface(client, "pedals")["layers"]) == 2
    client.ask("set_times", surface="pedals", what="hold_after", value="700ms")
    client.ask("set_times", what="second_within", value="333ms")
    assert (surface(client, "pedals")["hold_after_ms"], surface(client)["second_within_ms"]) == (700, 333)


def test_a_latch_is_let_go_when_its_binding_or_surface_goes(client: EngineClient, desk: Path) -> None:
    tap(client, "right-numpad", "3")
    wait_for(lambda: client.ask("desk")["programs"][0]["state"]["music_on"] == "ducked")
    client.ask("rearrange", how="clear", places=[["right-numpad", "stings", "3"]])
    wait_for(lambda: client.ask("desk")["programs"][0]["state"]["music_on"] == "playing")
    client.ask("undo")
    tap(client, "right-numpad", "3")
    wait_for(lambda: client.ask("desk")["programs"][0]["state"]["music_on"] == "ducked")
    client.ask("rest", surface="right-numpad")
    wait_for(lambda: client.ask("desk")["programs"][0]["state"]["music_on"] == "playing")


def test_one_chord_is_caught_on_the_main_keyboard(client: EngineClient) -> None:
    client.ask("follow", topics=["chord"])
    reply = client.ask("catch_chord")
    assert reply["bench_only"] and reply["keyboards"] == ["Harbour keyboard"]
    code = {name: key_table().find(name).code for name in ("Alt", "F4", "RightShift")}
    for name, down in (("Alt", True), ("F4", True), ("F4", False), ("Alt", False)):
        client.ask("press", device="bench/main-keyboard", code=code[name], down=down)
    told = []
    for message in client.news():
        told.append((message["state"], message["chord"], message["down"]))
        if message["state"] == "done":
            break
    assert told == [("listening", "", []), ("listening", "", ["Alt"]), ("caught", "Alt+F4", ["Alt", "F4"]),
                    ("done", "Alt+F4", [])]
    client.ask("leave_chord")


@pytest.mark.parametrize(("keys", "expected"), [
    ("+Super -Super", "Super"), ("+RightCtrl +F13", "RightCtrl+F13"), ("+F13 ", "F13"),
    ("+Shift +Ctrl +A", "Shift+Ctrl+A"),
    ("+Ctrl +Alt -Alt -Ctrl", "Ctrl+Alt"), ("+VolumeUp", "VolumeUp"), ("+Ctrl +Escape", "Ctrl+Escape"),
])
def test_chords_that_no_terminal_sees(keys: str, expected: str) -> None:
    catch = ChordCatch()
    for word in keys.split():
        catch.feed(key_table().find(word[1:]).code, int(word[0] == "+"))
    assert catch.state == "caught" and str(catch.chord) == expected
    for code in list(catch.down):
        assert not catch.over
        catch.feed(code, 0)
    assert catch.over


def test_escape_alone_is_the_way_out() -> None:
    catch = ChordCatch()
    assert catch.feed(key_table().find("Escape").code, 1) == "left" and not catch.over
    catch.feed(key_table().find("Escape").code, 0)
    assert catch.over and catch.chord is None


def test_a_program_learns_a_free_chord_that_is_sent_once(client: EngineClient) -> None:
    taken = client.ask("who_takes", chord="Alt+Ctrl+N")
    assert [row["name"] for row in taken["programs"]] == ["Ovenlight", "Crumbcut"]
    assert [row["shown"] for row in taken["controls"]] == ["Floor pedals right (Class)"]
    free = client.ask("free_chords", label="marker", count=3)["chords"]
    assert free[0] == "Ctrl+Alt+M"
    client.ask("bind", surface="pedals", control="right", layer="class", kind="tap", target=free[0])
    client.ask("send_once", chord="Ctrl+Alt+Shift+N", seconds=0)
    wait_for(lambda: "press the new key" in client.ask("traces")["traces"][-1]["sentence"])
    client.ask("send_once", chord=free[0], seconds=0.2)
    wait_for(lambda: "learnt Ctrl+Alt+M" in client.ask("traces")["traces"][-1]["sentence"])
    time.sleep(0.1)
    tap(client, "pedals", "right")
    wait_for(lambda: client.ask("desk")["programs"][0]["state"]["markers"] == 1)
    client.ask("send_once", chord="F20", seconds=5)
    client.ask("leave_send")
    family = client.ask("free_chords", count=12, family=True)["chords"]
    assert len(family) == 12 and len(set(family)) == 12
    places = [["right-numpad", "stings", control] for control in ("num", "slash", "times")]
    client.ask("bind_family", places=places, chords=family)
    assert [bound(client, place[2], "stings", "right-numpad")["press"]["target"] for place in places] == family[:3]
    # Each control's own key with the same modifiers: two of the Bakehouse's own chords are told.
    places = [["left-numpad", "class", control] for control in ("1", "2")]
    rows = client.ask("own_chords", places=places)["rows"]
    assert {row["modifiers"] for row in rows} >= {"Ctrl+Alt", "Ctrl+Shift"} and rows[0]["taken"] == []
    assert all(len(row["chords"]) == 2 and row["chords"][0].endswith("Pad1") for row in rows)
    client.ask("bind_family", places=places, chords=rows[0]["chords"])
    assert bound(client, "2", "class", "left-numpad")["press"]["target"] == rows[0]["chords"][1]
    assert client.ask("undo")["words"]
    assert client.ask("own_chords", places=[["pads", "show", "1"]])["rows"] == []


# Clashes and free chords, without an engine.

def desk_of(text: str, macros: dict[str, str] | None = None) -> Desk:
    import tomllib
    drafts = {name: parse(source, id=name) for name, source in (macros or {}).items()}
    link(drafts, None)
    assert not any(draft.problems for draft in drafts.values())
    read = {name: draft.macro for name, draft in drafts.items()}
    desk, problems = read_desk(tomllib.loads(text), text=text, file="desk.toml", layouts=lambda name: NUMPAD,
                               layout_names=["numpad"], macros=read, broken_macros={})
    assert not problems, [problem.what for problem in problems]
    return desk


def program(name: str, *rows: tuple[str, str], **options: Any) -> ProgramTable:
    return ProgramTable(name.casefold(), name, tuple(Shortcut(parse_chord(chord), does) for chord, does in rows),
                        **options)


PAD = '[surface.pad]\nname = "Pad"\nlayout = "numpad"\n[surface.pad.layer.base.press]\n'
NOTEBOOK = program("Notebook", ("Ctrl+4", "switch to tab 4"))
SWITCHER = program("Switcher", ("Ctrl+4", "camera 4"), ("F13", "bell"), always=True, notices=16_000_000)


def kinds(desk: Desk, *programs: ProgramTable) -> list[tuple[str, str]]:
    return [(clash.kind, clash.chord or clash.macro or clash.where[0].control)
            for clash in find_clashes(desk, programs)]


def test_a_chord_that_two_programs_take() -> None:
    desk = desk_of(PAD + '4 = { tap = "Ctrl+4" }\n')
    found = find_clashes(desk, [NOTEBOOK, SWITCHER])
    assert [clash.kind for clash in found] == ["conflict"]
    assert found[0].text == ("Ctrl+4 is “camera 4” in Switcher; and “switch to tab 4” in Notebook, when that has the "
                             "focus. Sent by Pad 4 (base).")
    assert kinds(desk, SWITCHER) == kinds(desk, NOTEBOOK) == []
    # Left and right modifiers are alike to programs; a macro's chords count, the text that it types does not.
    assert kinds(desk_of(PAD + '4 = { tap = "RightCtrl+4" }\n'), NOTEBOOK, SWITCHER) == [("conflict", "Ctrl+4")]
    desk = desk_of(PAD + '4 = { play = "m" }\n', {"m": 'keep Ctrl down\n  tap 4\ntype "f"\n'})
    typist = program("Typist", ("F", "find"), ("Ctrl+4", "x"))
    assert kinds(desk, SWITCHER, typist, program("Other", ("F", "fetch"), always=True)) == [("conflict", "Ctrl+4")]
    # While a layer follows one window, another program that hears only with the focus is out of it.
    desk = desk_of(PAD + '1 = { tap = "A" }\n[surface.pad.layer.cut]\nfollows = { class = "Notebook" }\n'
                   '[surface.pad.layer.cut.press]\n4 = { tap = "Ctrl+4" }\n')
    editor = program("Editor", ("Ctrl+4", "zoom"))
    assert kinds(desk, NOTEBOOK, editor) == [] and kinds(desk, NOTEBOOK, SWITCHER) == [("conflict", "Ctrl+4")]
    # What the desktop takes never reaches a program.
    desktop = program("the desktop", ("Ctrl+4", "overview"), always=True, origin="desktop")
    assert kinds(desk_of(PAD + '4 = { tap = "Ctrl+4" }\n'), desktop) == [("conflict", "Ctrl+4")]


@pytest.mark.parametrize(("text", "macros", "expected"), [
    ('1 = { tap = "F13" }', {}, []),
    ('1 = { tap = "F14" }\n2 = { tap = "F14" }', {}, [("duplicate", "F14")]),
    ('1 = { rapid = "F13", every = "20ms" }', {}, [("too short", "F13")]),
    ('1 = { play = "m" }', {"m": "tap F13 for 5ms"}, [("too short", "F13")]),
    ('1 = { tap = "A" }', {"m": "tap B"}, [("unused", "m")]),
    ('1 = { play = "m" }', {"m": 'play "n"', "n": "tap B"}, []),
    ('1 = { rapid = "A", every = "80ms" }\n[surface.pad.layer.base."double tap"]\n1 = { tap = "B" }', {},
     [("slow double tap", "1")]),
    ('1 = { tap = "A" }\n[surface.pad.layer.top.press]\n1 = { tap = "B" }', {}, [("unreachable", "1")]),
    ('1 = { tap = "A" }\n[surface.pad.layer.top]\nstarts = "on"\n[surface.pad.layer.top.press]\n1 = { tap = "B" }', {},
     [("unreachable", "1")]),
    ('1 = { layer = "while held top" }\n[surface.pad.layer.top.press]\n1 = { tap = "B" }\n2 = { tap = "C" }', {},
     [("unreachable", "1")]),
    ('1 = { layer = "on or off top" }\n[surface.pad.layer.top.press]\n1 = { layer = "on or off top" }', {}, []),
    ('1 = { play = "m" }\n[surface.pad.layer.top.press]\n2 = { tap = "B" }', {"m": "layer top on"}, []),
    # A layer that only a layer leads to that never comes on does not come on either.
    ('1 = { tap = "A" }\n[surface.pad.layer.x.press]\n2 = { layer = "go to y" }\n[surface.pad.layer.y.press]\n'
     '3 = { layer = "go to x" }', {}, [("unreachable", "2"), ("unreachable", "3")]),
])
def test_what_gets_in_its_own_way(text: str, macros: dict[str, str], expected: list[tuple[str, str]]) -> None:
    assert kinds(desk_of(PAD + text + "\n", macros), SWITCHER) == expected


def test_free_chords_are_free_and_easy_to_remember() -> None:
    taken = {shape_of(parse_chord(chord).codes) for chord in ("Ctrl+Alt+M", "Ctrl+Shift+M", "F13", "F15")}
    found = [str(chord) for chord in free_chords("marker", taken)]
    assert found[0] == "Alt+Shift+M" and "F13" not in found and "F14" in found and len(found) == len(set(found)) > 100
    assert all(shape_of(parse_chord(chord).codes) not in taken for chord in found)
    assert [str(chord) for chord in free_family(4, taken)] == ["F16", "F17", "F18", "F19"]
    assert len(free_family(12, taken)) == 12 and len(free_family(30, taken)) == 30
    everything = {shape_of(chord.codes) for chord in free_chords("", set())}
    assert free_family(2, everything) == []


def test_own_keys_with_modifiers_tell_what_is_taken() -> None:
    desk = desk_of(PAD + '1 = { tap = "Ctrl+Alt+Pad2" }\n2 = { tap = "Ctrl+Shift+Pad2" }')
    rows = {row.modifiers: row for row in own_chords(desk, [SWITCHER], [("pad", "base", "2"), ("pad", "base", "3")])}
    assert rows["Ctrl+Alt"].chords == ["Ctrl+Alt+Pad2", "Ctrl+Alt+Pad3"]
    assert [chord for chord, _ in rows["Ctrl+Alt"].taken] == ["Ctrl+Alt+Pad2"]
    # What it sends now itself is no conflict.
    assert rows["Ctrl+Shift"].taken == []


def test_the_demo_has_one_clash_and_its_tables_are_whole() -> None:
    import tomllib
    for name in ("ovenlight", "crumbcut"):
        text = (HERE / "stage" / f"{name}.toml").read_text()
        table, problems = read_program(tomllib.loads(text), id=name, file=name, text=text, origin="stage")
        assert not problems and len(table.shortcuts) >= 7 and not any("{" in s.does for s in table.shortcuts)


def test_desktops_tell_their_shortcuts() -> None:
    lines = ("org.gnome.desktop.wm.keybindings close ['<Alt>F4', '<Primary><Shift>q']\n"
             "org.gnome.desktop.wm.keybindings panel-main-menu @as []\nx screenshot ['Print']\n")
    assert [(str(s.chord), s.does) for s in read_gsettings(lines)] == [
        ("Alt+F4", "close"), ("Ctrl+Shift+Q", "close"), ("PrintScreen", "screenshot")]
    config = "set $mod Mod4\nbindsym $mod+Shift+e exit\n  bindsym --release Print exec shot\n# bindsym $mod+x no\n"
    assert [(str(s.chord), s.does) for s in read_bindsyms(config)] == [("Super+Shift+E", "exit"),
                                                                       ("PrintScreen", "exec shot")]


def test_a_table_is_imported_and_looked_at(client: EngineClient, desk: Path, tmp_path: Path) -> None:
    file = tmp_path / "note-book.csv"
    file.write_text("chord,what\nCtrl+Alt+5,close the page\n\nCtrl+L,link\n")
    done = run_cli("programs", "import", str(file), "--desk", str(desk))
    assert done.returncode == 0 and "2 shortcuts" in done.stdout, done.stderr
    assert "Note book (yours): 2 shortcuts" in run_cli("programs", "list", "--desk", str(desk)).stdout
    found = run_cli("clashes", "--desk", str(desk))
    assert found.returncode == 6 and "“close the page” in Note book" in found.stdout
    file.write_text("Ctrl+Alt+5,x\nCtlr+K,y\n")
    bad = run_cli("programs", "import", str(file), "--desk", str(desk))
    assert bad.returncode == 6 and "line 2: there is no key called “Ctlr”" in bad.stderr
    (desk / "programs" / "broken.toml").write_text("name = ")
    assert "broken.toml" in client.ask("clashes")["problems"][0]["file"]
