"""Views by themselves: against a link of the test's own, driven by keys without a terminal."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

import msgspec
import pytest
from msgspec.structs import replace
from rich.cells import cell_len
from textual.pilot import Pilot
from textual.widgets import Input, OptionList, Static

from brass_pebble.client import EngineError
from brass_pebble.core.desk.binding import Binding as Bound
from brass_pebble.core.desk.model import Desk, Surface
from brass_pebble.core.say.finding import GOOD, Finding
from brass_pebble.core.say.setting import check_setting, settings_of
from brass_pebble.protocol import desk as desk_messages
from brass_pebble.protocol import devices, giving, layers, network
from brass_pebble.protocol.asking import AskValues, ValueChange, ValueRow, Values
from brass_pebble.protocol.macros import AskMacros, Macros
from brass_pebble.protocol.rows import PlaceRow
from brass_pebble.screen.app import VIEWS, BrassPebbleApp, find_view
from brass_pebble.screen.base.key_help import bindings_of, key_rows, say_key
from brass_pebble.screen.base.list_view import ListedView
from brass_pebble.screen.base.places import lines_with
from brass_pebble.screen.base.sheets import Sheet
from brass_pebble.screen.base.view import View
from brass_pebble.screen.checkup.view import CheckupView
from brass_pebble.screen.desk.view import DeskView
from brass_pebble.screen.glance.view import GlanceView
from brass_pebble.screen.macro.lanes import LanesView
from brass_pebble.screen.settings.surface import SurfacePanel
from brass_pebble.screen.widgets.board import Board
from brass_pebble.screen.widgets.key_footer import KeyFooter
from brass_pebble.screen.widgets.path_bar import PathBar
from brass_pebble.screen.widgets.sketch import Sketch
from brass_pebble.screen.widgets.surface_drawing import SurfaceDrawing
from fake_link import FakeLink, screen_on

# Rounds of the screen's loop after which only what waits for the person is left.
SETTLES = 12
ALL_VIEWS = (DeskView, GlanceView, *(find_view(name) for name in VIEWS))
Play = Callable[[Callable[[Pilot[Any], BrassPebbleApp, FakeLink], Awaitable[None]]], None]


@pytest.fixture
def play(desk: Path, tmp_path: Path) -> Play:
    """Play a scene on the demo's desk at 120×36."""
    def scene(acts: Callable[[Pilot[Any], BrassPebbleApp, FakeLink], Awaitable[None]]) -> None:
        async def run() -> None:
            with screen_on(desk, tmp_path) as (app, link):
                async with app.run_test(size=(120, 36)) as pilot:
                    await settled(pilot)
                    await acts(pilot, app, link)
        asyncio.run(run())
    return scene


async def settled(pilot: Pilot[Any]) -> None:
    """Everything that was begun is done, but for sheets that wait for an answer."""
    for _ in range(SETTLES):
        await pilot.pause()
        if not any(worker.is_running for worker in pilot.app.workers):
            return


async def keys(pilot: Pilot[Any], *names: str) -> None:
    """Press keys, one after the other, with what each begins."""
    for name in names:
        await pilot.press(name)
        await pilot.pause()


def said(app: BrassPebbleApp, where: str) -> str:
    return str(app.screen.query_one(where, Static).render())


# What all views share.

@pytest.mark.parametrize("view", ALL_VIEWS, ids=lambda view: view.__name__)
def test_every_view_tells_its_keys_and_the_way_out(view: type[View]) -> None:
    rows = dict(key_rows(bindings_of(*view.PARTS, view)))
    bound = bindings_of(*view.PARTS, view)
    told = {key for keys in rows for key in keys.split("  ")}
    for binding in bound:
        if binding.description or binding.tooltip:
            key = say_key(binding.key)
            assert key in told or key.isdigit() or key.startswith("Shift+"), key
    shown = {binding.key for binding in bound if binding.show}
    assert "question_mark" in shown
    assert shown & {"escape", "q"}


@pytest.mark.parametrize("view", ALL_VIEWS, ids=lambda view: view.__name__)
def test_no_key_of_a_view_means_two_things(view: type[View]) -> None:
    meanings: dict[str, set[str]] = {}
    for binding in bindings_of(view):
        meanings.setdefault(binding.key, set()).add(binding.action)
    # In Meet the step that is shown decides, and only one of them is offered.
    doubled = {key: actions for key, actions in meanings.items() if len(actions) > 1
               and not all(action.startswith("do(") for action in actions)}
    assert doubled == {}


def test_lists_beside_a_drawing_are_one_view() -> None:
    assert {name for name in VIEWS if issubclass(find_view(name), ListedView)} == {
        "clashes", "checkup", "take in", "asleep", "versions", "values", "phrases"}


def test_the_help_of_a_view_is_its_bindings(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        link.replies[layers.AskClashes] = layers.Clashes(clashes=[], programs=[], problems=[])
        app.open_view("clashes")
        await settled(pilot)
        await keys(pilot, "question_mark")
        assert isinstance(app.screen, Sheet)
        await keys(pilot, "escape")
        assert app.screen is app.view
        assert app.view.NAME == "Clashes"
    play(scene)


def test_a_foot_shows_what_fits_and_leads_to_the_rest(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        link.replies[layers.AskClashes] = layers.Clashes(clashes=[], programs=[], problems=[])
        for width in (120, 60, 30):
            await pilot.resize_terminal(width, 24)
            await settled(pilot)
            foot = str(app.view.query_one(KeyFooter).render())
            assert foot.startswith(" ? help  q quit  ") and cell_len(foot.rstrip()) <= width
        assert foot.rstrip().endswith("… more")
        await pilot.click(KeyFooter, offset=(foot.index("… more") + 1, 0))
        await settled(pilot)
        assert isinstance(app.screen, Sheet)
    play(scene)


def test_capital_letters_lead_from_view_to_view_and_back(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        link.replies[layers.AskClashes] = layers.Clashes(clashes=[clash("one")], programs=[], problems=[])
        link.replies[giving.AskAsleep] = giving.Asleep(asleep=[])
        await keys(pilot, "l", "K")
        await settled(pilot)
        assert app.view.NAME == "Clashes"
        await keys(pilot, "G")
        await settled(pilot)
        assert app.view.NAME == "Guests"
        # Open below already: what lies above is closed.
        await keys(pilot, "K")
        await settled(pilot)
        assert [getattr(screen, "NAME", "") for screen in app.screen_stack[1:]] == ["Desk", "Surface", "Clashes"]
        await keys(pilot, "escape", "escape")
        await settled(pilot)
        assert app.view.NAME == "Desk"
    play(scene)


async def choose_in_palette(pilot: Pilot[Any], app: BrassPebbleApp, words: str, wanted: Callable[[str], bool]) -> None:
    """Search for words, wait until a row that is wanted is found, and choose it."""
    await keys(pilot, "ctrl+p", *("space" if char == " " else char for char in words))
    palette, found = app.screen, list[int]()
    for _ in range(100):
        await pilot.pause(0.02)
        options = palette.query_one(OptionList)
        found = [index for index in range(options.option_count)
                 if wanted(str(options.get_option_at_index(index).prompt))]
        if found:
            break
    options.highlighted = found[0]
    await keys(pilot, "enter")
    for _ in range(50):
        await pilot.pause(0.02)
        if app.screen is not palette:
            break
    await settled(pilot)


@pytest.mark.parametrize(("words", "view", "chosen"), [
    ("left numpad 8", "Surface", ("left-numpad", "8")), ("stings of right", "Surface", ("right-numpad", "num")),
    ("floor pedals", "Surface", ("pedals", "left")), ("debounce of knob", "Desk", ())])
def test_the_palette_finds_everything_that_has_a_name(
        play: Play, words: str, view: str, chosen: tuple[str, ...]) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        await choose_in_palette(pilot, app, words, lambda row: words[-4:] in row.lower())
        assert view == app.view.NAME
        if chosen:
            assert app.view.board.selected == chosen  # type: ignore[attr-defined]
        else:
            assert isinstance(app.screen, SurfacePanel) and app.screen.surface.id == "dial"
    play(scene)


def test_the_palette_looks_through_the_texts_of_macros(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        macro = next(row for row in app.known.desk.macros if row.id == "rye-title")
        texts = {macro.id: 'name "Rye title"\n\ntap Ctrl+Alt+E\ntype "Salt and rye"\n', "other": "tap A\n"}
        link.replies |= {AskMacros: Macros(texts=texts, drafts={}, tap_ms=40, gap_ms=10, keyboard="us"),
                         layers.AskWindows: layers.Windows(windows=[]),
                         layers.AskPrograms: layers.Programs(programs=[])}
        await choose_in_palette(pilot, app, "salt", lambda row: "line 4 of the macro Rye title" in row)
        assert app.view.NAME == "Macro" and app.view.query_one(LanesView).line == 4
    play(scene)
    assert list(lines_with("  RYE ", {"a": "tap A\n  type \"rye\"\n", "b": "rye"})) == [
        ("a", 2, 'type "rye"'), ("b", 1, "rye")]
    assert list(lines_with("ry", {"b": "rye"})) == []


def test_what_a_sheet_a_path_and_a_value_say_is_copied_as_text(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        await keys(pilot, "question_mark", "c")
        assert "b" in app.clipboard.split() and "bind" in app.clipboard and "\x1b" not in app.clipboard
        await keys(pilot, "escape")
        bar = app.view.query_one(PathBar)
        bar.focus()
        await keys(pilot, "c")
        assert app.clipboard == " ▸ ".join(hop.text for hop in bar.hops)
        row = ValueRow(name="take", value="7", kind="whole number", first="1", is_set=True, macros=[], trouble="")
        link.replies[AskValues] = Values(values=[row])
        app.open_view("values")
        await settled(pilot)
        await keys(pilot, "c")
        assert app.clipboard == "7"
        names = [macro.id for macro in app.known.desk.macros]
        changes = [ValueChange(value=str(7 - n), at=1_790_000_000 - n, macro=names[0] if n % 2 else "",
                               is_set=n != 2) for n in range(30)]
        link.replies[AskValues] = Values(values=[msgspec.structs.replace(row, changes=changes)])
        app.view.load()
        await settled(pilot)
        says = str(app.view.query_one("#says", Static).render())
        assert "7            you, or its file" in says and "5            reset" in says
        assert f"6            {app.known.desk.macros[0].name}" in says
        shown = len(re.findall(r"\d\d:\d\d:\d\d  ", says))
        assert 3 <= shown < 30 and f"and {30 - shown} before" in says
    play(scene)


def test_the_only_surface_of_a_desk_fills_it(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        board = app.view.query_one(Board)
        before = next(iter(board.drawings())).unit
        app.known.desk = msgspec.structs.replace(app.known.desk, surfaces=app.known.desk.surfaces[:1], stage=[])
        await app.view.show_all()
        await settled(pilot)
        (drawing,) = board.drawings()
        assert drawing.alone and drawing.unit[0] > 1.7 * before[0] and drawing.unit[1] >= before[1]
        assert drawing.size.width > 0.8 * board.size.width
    play(scene)


def test_the_help_of_meet_is_that_of_its_step(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        link.replies[devices.AskDevices] = devices.Devices(devices=[], left_ms=0, main_known=True, pulled=[],
                                                           open_microphones=[])
        link.replies[devices.Listen] = devices.Listening(seconds=30)
        app.open_view("meet")
        await settled(pilot)
        rows = dict(app.view.key_rows())
        assert rows["F3"] == "mark my main keyboard" and rows["Enter"] == "take it over", rows
        assert not {"new row", "row key", "leave out", "it has none"} & set(rows.values())
    play(scene)


def test_many_notes_of_a_kind_stand_in_one_row(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        notes = [replace(clash(f"note {n}"), kind="duplicate", weight="notice") for n in range(60)]
        few = [replace(clash("lone"), kind="unused", weight="notice")]
        link.replies[layers.AskClashes] = layers.Clashes(clashes=[*notes, *few, clash("one")], programs=[], problems=[])
        app.open_view("clashes")
        await settled(pilot)
        options = app.screen.query_one(OptionList)
        assert options.option_count == 3 and "one" in said(app, "#says")
        await keys(pilot, "down")
        assert "60 duplicates" in said(app, "#says")
        await keys(pilot, "b", "O", "enter")
        assert options.option_count == 63 and options.highlighted == 1
        await keys(pilot, "enter")
        assert options.option_count == 3
        # Where all of them have room, they are shown; Enter closes them as well.
        link.replies[layers.AskClashes] = layers.Clashes(clashes=[*notes[:5], *few, clash("one")], programs=[],
                                                         problems=[])
        await keys(pilot, "f5")
        await settled(pilot)
        assert options.option_count == 8
        options.highlighted = 1
        await keys(pilot, "enter")
        assert options.option_count == 3
    play(scene)


def test_rows_go_on_below_where_all_of_them_have_room(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        def lines(count: int) -> list[str]:
            view.findings = [Finding(f"thing {n}", GOOD, " ".join(["a long story of what was found there"] * 3))
                             for n in range(count)]
            view.put(list(view.findings))
            return str(view.query_one(OptionList).get_option_at_index(0).prompt).split("\n")
        app.open_view("checkup")
        await settled(pilot)
        view = app.screen
        assert isinstance(view, CheckupView)
        few = lines(3)
        begins = few[0].index("a long")
        assert len(few) > 1 and all(line[:begins].isspace() and line[begins] != " " for line in few[1:])
        assert " ".join(line[begins:].strip() for line in few) == view.findings[0].means
        assert len(lines(40)) == 1
    play(scene)


def test_every_surface_that_holds_what_clashes_is_drawn(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        here = [surface for surface in app.known.desk.surfaces if surface.controls][:2]
        where = [PlaceRow(surface=surface.id, layer=surface.layers[0].id, control=surface.controls[0].id,
                          gesture="press") for surface in here]
        both = replace(clash("both"), where=where)
        link.replies[layers.AskClashes] = layers.Clashes(clashes=[both], programs=[], problems=[])
        app.open_view("clashes")
        await settled(pilot)
        shown = [sketch for sketch in app.screen.query(Sketch) if sketch.parent is not None and sketch.parent.display]
        # The one to change first.
        assert [[row.id for row in sketch.controls] for sketch in shown] == [
            [row.id for row in surface.controls] for surface in reversed(here)]
        assert [sketch.selected for sketch in shown] == [where[1].control, ""]
        said_there = [str(title.render()) for title in app.screen.query(".holder").results(Static)]
        assert said_there[:2] == [surface.name.upper() for surface in reversed(here)]
    play(scene)


# Lists.

def clash(text: str, control: str = "7") -> layers.ClashRow:
    return layers.ClashRow(kind="unreachable", weight="bad", text=text, chord="F13", macro="", where=[
        PlaceRow(surface="left-numpad", layer="class", control=control, gesture="press")])


def test_a_chosen_clash_stays_chosen_and_leads_to_its_place(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        link.replies[layers.AskClashes] = layers.Clashes(clashes=[clash("first"), clash("second", "8")], programs=[],
                                                         problems=[])
        app.open_view("clashes")
        await settled(pilot)
        assert "2 conflicts" in said(app, "#summary")
        await keys(pilot, "down")
        assert "second" in said(app, "#says")
        # Another one comes in before it.
        link.replies[layers.AskClashes] = layers.Clashes(
            clashes=[clash("new"), clash("first"), clash("second", "8")], programs=[], problems=[])
        await keys(pilot, "f5")
        await settled(pilot)
        assert app.screen.query_one(OptionList).highlighted == 2
        await keys(pilot, "enter")
        await settled(pilot)
        assert app.view.NAME == "Surface"
        assert app.view.board.selected == ("left-numpad", "8")  # type: ignore[attr-defined]
    play(scene)


def test_no_clash_says_so_and_refused_asking_leaves_the_last_list(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        link.replies[layers.AskClashes] = layers.Clashes(clashes=[], programs=[], problems=[])
        app.open_view("clashes")
        await settled(pilot)
        assert "no conflicts" in said(app, "#summary")
        await keys(pilot, "enter", "b", "y", "O")
        assert app.view.NAME == "Clashes"
        link.replies[layers.AskClashes] = layers.Clashes(clashes=[clash("one")], programs=[], problems=[])
        await keys(pilot, "f5")
        await settled(pilot)
        link.replies[layers.AskClashes] = EngineError("busy", "Try again", "busy")
        await keys(pilot, "f5")
        await settled(pilot)
        assert "one" in said(app, "#says")
    play(scene)


def guest(text: str, where: str, mark: str) -> giving.AsleepRow:
    return giving.AsleepRow(where=where, line=3, does="runs a program", text=text, mark=mark, origin="a friend",
                            via="", values="")


def test_guests_are_approved_one_by_one_by_macro_and_all(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        link.replies[giving.AskAsleep] = giving.Asleep(asleep=[
            guest("ls", "macros/one.macro", "m1"), guest("df", "macros/two.macro", "m2"),
            guest("ps", "macros/two.macro", "m3")])
        app.open_view("asleep")
        await settled(pilot)
        assert "3 steps wait for approval" in said(app, "#summary")
        await keys(pilot, "a")
        await settled(pilot)
        assert link.last(giving.Approve).marks == ["m1"]  # type: ignore[attr-defined]
        await keys(pilot, "down", "ctrl+a")
        await settled(pilot)
        assert link.last(giving.Approve).marks == ["m2", "m3"]  # type: ignore[attr-defined]
        await keys(pilot, "A", "enter")
        await settled(pilot)
        assert link.last(giving.Approve).marks == ["m1", "m2", "m3"]  # type: ignore[attr-defined]
    play(scene)


def test_a_version_is_compared_with_the_one_before_or_with_now(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        link.replies[giving.AskVersions] = giving.Versions(versions=[
            giving.VersionRow(number=number, at=1_700_000_000.0 + number, words=f"change {number}", files=["desk.toml"])
            for number in (9, 8, 7)])
        link.replies[giving.Compare] = giving.Differences(
            words=[giving.DifferenceRow(words="left-numpad 7: tap A", surface="left-numpad", control="7")],
            lines=[("desk.toml", "+ 7 = { tap = \"A\" }")], more=0)
        app.open_view("versions")
        await settled(pilot)
        asked = link.last(giving.Compare)
        assert isinstance(asked, giving.Compare)
        assert (asked.one, asked.other) == (8, 9)
        await keys(pilot, "down", "equals_sign")
        await settled(pilot)
        asked = link.last(giving.Compare)
        assert isinstance(asked, giving.Compare)
        assert (asked.one, asked.other) == (8, 0)
        assert "tap A" in said(app, "#differs Static")
        await keys(pilot, "z")
        assert "+ 7 =" in said(app, "#differs Static")
        await keys(pilot, "down", "equals_sign", "enter")
        await settled(pilot)
        assert link.last(giving.Restore).number == 7  # type: ignore[attr-defined]
        # The first one has nothing before it.
        await keys(pilot, "z")
        assert "initial state" in said(app, "#differs Static")
    play(scene)


def test_a_view_that_is_left_while_it_waits_for_a_reply_is_left(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        link.replies[giving.AskVersions] = giving.Versions(versions=[
            giving.VersionRow(number=number, at=0.0, words="a change", files=[]) for number in (2, 1)])
        link.replies[giving.Compare] = giving.Differences(words=[], lines=[], more=0)
        # The reply comes at some moment of the view's going.
        for moment in (*range(10), 12, 15, 19, 24, 30, 39):
            link.held = None
            app.open_view("versions")
            await settled(pilot)
            link.held = asyncio.Event()
            await keys(pilot, "equals_sign")
            gone = app.pop_screen()
            for _ in range(moment):
                await asyncio.sleep(0)
            link.held.set()
            await gone
            await settled(pilot)
            assert app.view.NAME == "Desk"
    play(scene)


# Settings.

def test_settings_of_a_surface_and_of_the_desk_are_asked_for_as_files_have_them(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        await keys(pilot, "i")
        options = app.screen.query_one(OptionList)
        options.highlighted = options.get_option_index("debounce")
        await keys(pilot, "enter")
        await settled(pilot)
        asked = link.last(devices.Set)
        assert isinstance(asked, devices.Set)
        assert (asked.surface, asked.what, asked.value) == ("left-numpad", "debounce", "5ms")
        options.highlighted = options.get_option_index("takes")
        await keys(pilot, "enter")
        app.screen.query_one(Input).value = "7, wheel while cut"
        await keys(pilot, "enter")
        await settled(pilot)
        asked = link.last(devices.Set)
        assert isinstance(asked, devices.Set)
        assert asked.value == ["7", "wheel while cut"]
        await keys(pilot, "escape", "D")
        options = app.screen.query_one(OptionList)
        options.highlighted = options.get_option_index("middle_c")
        await keys(pilot, "enter")
        await settled(pilot)
        asked = link.last(devices.Set)
        assert isinstance(asked, devices.Set)
        assert (asked.surface, asked.what, asked.value) == ("", "middle_c", 5)
    play(scene)


@pytest.mark.parametrize("model", [Desk, Surface, Bound])
def test_whatever_a_panel_proposes_can_be_set(model: type) -> None:
    for row in settings_of(model).values():
        for value in row.proposals:
            if value is not None:
                check_setting(row, value)


def test_binding_sends_the_settings_that_were_gone_through(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        link.replies[layers.WhoTakes] = layers.Takers(programs=[], controls=[])
        await keys(pilot, "b", *"welcome", "f2", "f3", "f7", "enter")
        await settled(pilot)
        asked: Any = link.last(layers.Bind)
        assert (asked.kind, asked.target) == ("play", "welcome")
        assert (asked.plays, asked.again, asked.tint) == ("while held", "start over", "iris")
        assert asked.hold_after == ""
    play(scene)


# The network.

def test_who_asks_is_let_in(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        peer = network.PeerRow(kind="midi", name="Tablet", host="192.0.2.7", port=5004, state="asks", for_ms=0.0,
                               latency_ms=0.0, lost=0, late=0, dropped=0, messages=0, malformed=0, surface="")
        link.replies[network.AskSessions] = network.Sessions(midi=5004, osc=0, name="Desk", listen="0.0.0.0",
                                                             peers=[peer], found=[], admitted=[])
        app.open_view("network")
        await settled(pilot)
        await keys(pilot, "enter")
        await settled(pilot)
        asked = link.last(network.Admit)
        assert isinstance(asked, network.Admit)
        assert (asked.name, asked.host, asked.yes) == ("Tablet", "192.0.2.7", True)
    play(scene)


def test_what_a_view_asks_is_declared_and_its_reply_too(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        with pytest.raises(TypeError, match="is replied to with"):
            await app.view.query_engine(layers.Clashes, desk_messages.AskTraces())
        link.replies[desk_messages.AskTraces] = desk_messages.Traces(traces=[])
        assert await app.view.query_engine(desk_messages.Traces, desk_messages.AskTraces(count=3)) is not None
    play(scene)


def test_a_real_surface_is_pressed_here_once_the_person_says_so(play: Play) -> None:
    async def scene(pilot: Pilot[Any], app: BrassPebbleApp, link: FakeLink) -> None:
        link.replies[desk_messages.Press] = desk_messages.Pressed(trace=0)
        surfaces = [replace(row, bench=False) for row in app.known.desk.surfaces]
        app.known.desk = replace(app.known.desk, surfaces=surfaces)
        await keys(pilot, "enter")
        await settled(pilot)
        assert not [asked for asked in link.asked if isinstance(asked, desk_messages.Press)]
        await keys(pilot, "P", "enter")
        await settled(pilot)
        asked = link.last(desk_messages.Press)
        assert isinstance(asked, desk_messages.Press) and asked.by_hand and asked.surface == "left-numpad"
        assert "by hand" in "".join(strip.text for strip in app.screen.query_one(SurfaceDrawing)._lines[:1])
        before = len(link.asked)
        await keys(pilot, "P", "enter")
        await settled(pilot)
        assert not [asked for asked in link.asked[before:] if isinstance(asked, desk_messages.Press) and asked.down]
    play(scene)
