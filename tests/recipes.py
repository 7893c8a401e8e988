"""What CONTRIBUTING tells to add, as patches of the program, each with a program that shows what it brings."""

from __future__ import annotations

from dataclasses import dataclass

DESK = """format = 1
output = "stage"

[surface.pad]
layout = "numpad"
device = { name = "Nobody's" }

[surface.pad.layer.base.press]
1 = { tap = "A" }
"""
ON_AN_ENGINE = """
from contextlib import contextmanager
from brass_pebble.client import EngineClient, start_engine

@contextmanager
def engine():
    socket, process = start_engine(DESK, "--bench-only")
    with EngineClient(socket, "test") as client:
        client.set_timeout(10)
        yield client
        client.ask("quit")
    process.wait(timeout=10)
"""


@dataclass(frozen=True)
class Recipe:
    """`patches` are a file, a line of it, and what is put in behind that line; `files` are new ones."""

    name: str
    patches: tuple[tuple[str, str, str], ...]
    shows: str
    files: tuple[tuple[str, str], ...] = ()


RECIPES = (
    Recipe("a setting: one row", ((
        "core/desk/model.py", "    axes: tuple[tuple[str, AxisSettings], ...] = ()\n",
        '    echo: int = setting(0, Time(most=100 * MS), "how long it echoes", "echo", '
        'proposals=(None, "5ms"))\n'),), """
import tomllib
from brass_pebble.core.desk.read.desk import read_desk
from brass_pebble.core.say.setting import write_all
from brass_pebble.screen.settings.surface import SurfacePanel
from settings_page import table

def read(value):
    text = f'format = 1\\n[surface.pad]\\necho = "{value}"\\n'
    return read_desk(tomllib.loads(text), text=text, file="desk.toml", layouts=lambda name: None, layout_names=(),
                     macros={}, broken_macros={})
desk, problems = read("7ms")
assert not problems and desk.surfaces["pad"].echo == 7_000_000
assert write_all(desk.surfaces["pad"])["echo"] == "7ms"
desk, problems = read("7s")
assert [str(problem) for problem in problems] == ["desk.toml:3:1: “echo” must be at most 100 ms"], problems
assert SurfacePanel.settings(SurfacePanel.__new__(SurfacePanel))["echo"].label == "echo"
assert "| `echo` | time at most 100 ms |  | how long it echoes |" in table()
with engine() as client:
    client.ask("set", surface="pad", what="echo", value="5ms")
    assert client.ask("desk")["desk"]["surfaces"][0]["settings"]["echo"] == "5ms"
assert 'echo = "5ms"' in (DESK / "desk.toml").read_text()
"""),
    Recipe("a setting of bindings: one row", ((
        "core/desk/binding.py", '                        "what its label on paper shows; without it, what its words '
        'suggest", "icon")\n',
        '    shout: bool = setting(False, Flag(), "whether it shouts", "voice", proposals=(False, True))\n'),), """
from brass_pebble.core.desk.binding import Binding, fits
from brass_pebble.core.say.setting import settings_of
assert fits(settings_of(Binding)["shout"], "tap", "press")
with engine() as client:
    client.ask("bind", surface="pad", layer="base", control="1", kind="tap", target="B", shout=True)
    row = client.ask("desk")["desk"]["surfaces"][0]["layers"][0]["bindings"][0]
    assert row["shout"] is True, row
assert "shout = true" in (DESK / "desk.toml").read_text()
"""),
    Recipe("an action: one row, and a function that plans it", (
        ("core/desk/action.py", "ACTION_KINDS = {kind.word: kind for kind in (\n",
         '    ActionKind("nudge", "chord", "»", "tap a chord twice", "nudge", ("nudges", "nudged")),\n'),
        ("core/play/plan.py", "# How each kind of action is planned.\n",
         "def _of_nudge(planner, answer, binding, action, code):  # type: ignore\n"
         "    answer.timetable = chord_timetable(action.chord, tap=MS, places=planner.desk.places)\n"
         "    for at, value in ((2, 1), (3, 0)):\n"
         "        answer.timetable.add(at * MS, action.chord.codes[0], value)\n\n\n"),
        ("core/play/plan.py", "_PLANNED: dict[str, Callable[[Planner, Answer, Binding, Action, int], None]] = {\n",
         '    "nudge": _of_nudge,\n')), """
from brass_pebble.core.play.player import Player
from brass_pebble.core.play.router import Router
import tomllib
from brass_pebble.core.desk.read.desk import read_desk
from brass_pebble.core.signals.keys import key_table
text = 'format = 1\\n[surface.pad.layer.base.press]\\nA = { nudge = "Z" }\\n'
desk, problems = read_desk(tomllib.loads(text), text=text, file="desk.toml", layouts=lambda name: None, layout_names=(),
                           macros={}, broken_macros={})
assert not problems, problems
player = Player()
router, out = Router(player), []
router.load(desk)
trace = router.feed("pad", key_table().find("A").code, 1, 0, 0, out)
for at in range(0, 10_000_000, 500_000):
    player.advance(at, out)
assert [effect[1] for effect in out] == [1, 0, 1, 0], out
with engine() as client:
    client.ask("bind", surface="pad", layer="base", control="1", kind="nudge", target="B")
    row = client.ask("desk")["desk"]["surfaces"][0]["layers"][0]["bindings"][0]
    assert (row["kind"], row["glyph"], row["means"]) == ("nudge", "»", "tap a chord twice"), row
assert 'nudge = "B"' in (DESK / "desk.toml").read_text()
"""),
    Recipe("a MIDI message: one row", ((
        "core/signals/midi.py", "KINDS = (NOTE_OFF, NOTE_ON, KEY_PRESSURE, CHANGE, PROGRAM, PRESSURE, BEND, "
        "EXCLUSIVE,\n",
        '         MidiKind("chime", 0xF4, 1, words=lambda data, on: f"chime {data[0]}"),\n'),), """
from brass_pebble.core.signals.midi import spell_message, whole_messages
from brass_pebble.core.signals.midi_in import MidiDecoder
from brass_pebble.core.macro.reader import read_macro
assert list(whole_messages(bytes.fromhex("F4 05 F8"))) == [bytes.fromhex("F4 05"), bytes.fromhex("F8")]
assert spell_message(bytes.fromhex("F4 05")) == "chime 5"
assert not read_macro('send bytes "F4 05" to "Kiln"\\n', id="x", file="x")[1]
"""),
    Recipe("a macro step: one class, and a rule of the grammar", (
        ("core/macro/grammar.lark", "     | click | button | move | scroll | move_in | move_back\n",
         "     | breathe\n"),
        ("core/macro/grammar.lark", "// keys and time\n", "breathe: _BREATHE AMOUNT\n"),
        ("core/macro/grammar.lark", "_TAP: /tap\\b/\n", "_BREATHE: /breathe\\b/\n"),
        ("core/macro/steps.py", "KEY_STEPS: dict[str, type[Step]] = {\n", '    "breathe": Breathe,\n'),
        ("core/macro/steps.py", "        return f\"wait {write_duration(self.length)}\"\n", """

@dataclass(eq=False, repr=False)
class Breathe(Step):
    reach: ClassVar[str] = INSIDE
    length: int = 0

    def read(self, pieces: Pieces, known: Known) -> None:
        self.length = read_time(pieces[0], self.line) or 0

    def lay(self, timeline: Timeline) -> Laying:
        timeline.pass_time(2 * self.length)
        yield from ()

    def words(self) -> str:
        return f"breathe {write_duration(self.length)}"
""")), """
from brass_pebble.core.macro.reader import read_macro
from brass_pebble.core.macro.writer import format_macro
macro = read_macro("tap A\\nbreathe 30ms\\ntap B\\n", id="x", file="x")
assert not macro[1], macro[1]
assert macro[0].timetable.times[2] - macro[0].timetable.times[0] == 100_000_000, macro[0].timetable.times
assert "breathe 30ms" in format_macro("tap A\\nbreathe    30ms\\n")
"""),
    Recipe("a request: one message and one handler", (
        ("protocol/desk.py", '    """Start or end the scripted class."""\n\n'
         "    reply: ClassVar[type[Reply]] = ScriptState\n    run: bool = True\n", """

class Murmured(Reply, frozen=True, kw_only=True):
    \"\"\"What was murmured.\"\"\"

    words: str


class Murmur(Request, frozen=True, kw_only=True, tag="murmur"):
    \"\"\"Say something back, quietly.\"\"\"

    reply: ClassVar[type[Reply]] = Murmured
    words: Word
    times: Annotated[int, Meta(ge=1, le=3)] = 1
"""),
        ("engine/clients/requests.py", '        return {"runs": self.control.stop_all()}\n', """
    def do_murmur(self, client: Client, ask: messages.Murmur) -> Message:
        \"\"\"Say it back.\"\"\"
        return {"words": ask.words.lower() * ask.times}
""")), """
from brass_pebble.client import EngineError
import protocol_page
from brass_pebble.protocol.table import requests
assert "| `murmur` | Say something back, quietly." in protocol_page.page()
with engine() as client:
    assert client.ask("murmur", words="AH", times=2)["words"] == "ahah"
    for wrong in ({"words": "A", "times": 4}, {"words": 1}, {"words": "A", "loud": True}):
        try:
            client.ask("murmur", **wrong)
        except EngineError as error:
            assert "murmur" in error.hint, error
        else:
            raise AssertionError(wrong)
"""),
    Recipe("a view: one folder, and a row", ((
        "screen/app.py", "VIEWS = {\n", '    "tide": ("tide.view", "TideView"),\n'),), """
import asyncio
from brass_pebble.screen.app import BrassPebbleApp
from fake_link import screen_on

async def scene(app):
    async with app.run_test(size=(100, 30)) as pilot:
        await pilot.pause()
        app.open_view("tide")
        for _ in range(5):
            await pilot.pause()
        assert app.view.NAME == "Tide"
        assert ("h", "how high it is") in app.view.key_rows()
        await pilot.press("down", "h")
        await pilot.pause()
        assert "low" in str(app.view.query_one("#says").render())
        await pilot.press("escape")
        await pilot.pause()
        assert app.view.NAME == "Desk"
with screen_on(DESK, DESK.parent) as (app, link):
    asyncio.run(scene(app))
""", (("screen/tide/__init__.py", ""), ("screen/tide/view.py", """
from rich.text import Text
from textual.binding import Binding
from textual.widgets import Static

from brass_pebble.screen.base.list_view import ListedView


class TideView(ListedView[str]):
    NAME = "Tide"
    BINDINGS = [Binding("h", "high", "high", tooltip="how high it is")]

    def load(self):
        self.put(["high", "low"])

    def line(self, row):
        return Text(row)

    def summary(self):
        return Text(f"{len(self.rows)} tides")

    def show_row(self, row):
        self.query_one("#says", Static).update(row or "")

    def action_high(self):
        self.notify(self.row or "")
"""))),
)
