"""Give a control another action: type a chord, or choose a macro, in one field."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from textual import on
from textual.app import ComposeResult
from textual.binding import BindingType
from textual.containers import Vertical
from textual.widgets import Input, Label, OptionList

from brass_pebble.core.desk import DEEDS, POLICIES
from brass_pebble.core.durations import MS, say_duration
from brass_pebble.core.keys import key_table, parse_chord
from brass_pebble.core.macro.steps import LONGEST_LABEL
from brass_pebble.core.problem import ProblemError
from brass_pebble.screen.choosing import ChoosingSheet
from brass_pebble.screen.state import Row

MANNERS = ("once", "while held", "until pressed again", "2 times", "3 times", "5 times", "10 times")


@dataclass(frozen=True)
class Choice:
    """One proposal: what the action would be, or what to complete the text to."""

    shown: str
    kind: str = ""
    target: str = ""
    completes: str = ""


def proposals(text: str, macros: list[Row], *, bound: bool) -> tuple[list[Choice], str]:
    """What may be meant by `text`, the likeliest first, and a complaint if it is a chord gone wrong."""
    text = text.strip()
    folded = text.casefold()
    choices: list[Choice] = []
    complaint = ""
    deeds = [Choice(f"{glyph}  {deed}", "do", deed) for deed, glyph in DEEDS.items() if folded in deed]
    if bound and folded in "clear nothing":
        deeds.append(Choice("○  nothing: clear this control", "", ""))
    # Stop and Clear are keys, too; whoever types so much of a deed's name means the deed.
    if len(text) >= 3:
        choices += deeds
    if text:
        try:
            chord = str(parse_chord(text))
            choices += [Choice(f"•  tap {chord} once", "tap", chord),
                        Choice(f"◖  sustain {chord} for as long as it is held", "sustain", chord)]
        except ProblemError as error:
            complaint = str(error)
    for macro in macros:
        if folded in macro["name"].casefold() or folded in macro["id"]:
            choices.append(Choice(f"▸  play “{macro['name']}”   {say_duration(round(macro['length_ms'] * MS))}, "
                                  f"{macro['events']} key events", "play", macro["id"]))
    if text:
        before, plus, last = text.rpartition("+")
        begun = last.strip().casefold()
        near = [key.name for key in key_table().by_code.values() if not key.button
                and key.name.casefold().startswith(begun) and key.name.casefold() != begun]
        if begun:
            choices += [Choice(f"…  {before + plus + name}", completes=before + plus + name)
                        for name in sorted(near, key=len)[:4]]
    if len(text) < 3:
        choices += deeds
    return choices, "" if choices else complaint


class BindPanel(ChoosingSheet[dict[str, str] | None]):
    """Returns the fields of a `bind` request, or None."""

    DEFAULT_CSS = """
    BindPanel { align: center middle; }
    BindPanel > Vertical { width: 76; max-width: 96%; height: auto; max-height: 90%; background: $panel;
        border: round $primary; border-title-color: $primary; padding: 0 2; }
    BindPanel Input, BindPanel Input:focus { border: none; background: $background; height: 1; padding: 0 1; }
    BindPanel Input:focus { background: $background-lighten-1; }
    BindPanel OptionList { height: auto; max-height: 12; border: none; background: $panel; margin: 1 0 0 0;
        padding: 0; }
    BindPanel Label { color: $text-muted; margin: 1 0 0 0; width: 100%; }
    BindPanel #complaint { color: $error; margin: 0; height: auto; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        ("f2", "manner", "how it plays"), ("f3", "again", "a second press"),
    ]

    def __init__(self, surface: Row, control: Row, macros: list[Row]) -> None:
        super().__init__()
        self.surface, self.control, self.macros = surface, control, macros
        self.plays, self.again = control.get("plays", "once"), control.get("again", "")

    def compose(self) -> ComposeResult:
        """One field, its proposals, and a label."""
        with Vertical() as box:
            layer = self.control.get("layer") or (self.surface["layers"][-1]["id"] if self.surface["layers"] else "")
            name = next((la["name"] for la in self.surface["layers"] if la["id"] == layer), "")
            box.border_title = f"{self.surface['name']} ▸ {self.control['legend']} ▸ press ▸ {name}"
            now = self.control.get("words", "nothing bound")
            yield Label(f"Now: {now}. Type a chord like Ctrl+Alt+4, or a macro's name:", markup=False)
            yield Input(placeholder="chord or macro", id="what")
            yield Label("", id="complaint", markup=False)
            yield OptionList(id="choices", markup=False)
            yield Label(f"Label on the cap, up to {LONGEST_LABEL} characters; without one, the action's own:")
            yield Input(placeholder="label", id="label", max_length=LONGEST_LABEL)
            yield Label(id="manner", markup=False)
            yield Label("↑ ↓ choose   Enter live at once   Tab label   F2 plays   F3 again   Esc leave")

    def on_mount(self) -> None:
        """Begin in the field."""
        self.query_one("#what", Input).focus()
        self._propose("")
        self._show_manner()

    def _show_manner(self) -> None:
        again = self.again or "as the macro says"
        self.query_one("#manner", Label).update(f"A macro plays {self.plays}; a second press while it runs: {again}")

    def action_manner(self) -> None:
        """Once, for as long as held, until pressed again, or several times."""
        self.plays = MANNERS[(MANNERS.index(self.plays) + 1) % len(MANNERS)] if self.plays in MANNERS else "once"
        self._show_manner()

    def action_again(self) -> None:
        """What a second press does while it runs."""
        policies = ("", *POLICIES)
        self.again = policies[(policies.index(self.again) + 1) % len(policies)]
        self._show_manner()

    @on(Input.Changed, "#what")
    def _typed(self, event: Input.Changed) -> None:
        self._propose(event.value)

    def _propose(self, text: str) -> None:
        choices, complaint = proposals(text, self.macros, bound="kind" in self.control)
        self.offer([(choice.shown, choice) for choice in choices])
        self.query_one("#complaint", Label).update(f"✗ {complaint}" if complaint else "")

    def take(self, choice: Choice) -> None:
        if choice.completes:
            field = self.query_one("#what", Input)
            field.value = choice.completes
            field.cursor_position = len(choice.completes)
            field.focus()
            return
        self.dismiss({"surface": self.surface["id"], "control": self.control["id"],
                      "layer": self.control.get("layer", ""), "kind": choice.kind, "target": choice.target,
                      "plays": self.plays, "again": self.again, "note": self.control.get("note", ""),
                      "label": self.query_one("#label", Input).value.strip(),
                      "tint": self.control.get("own_tint", "") if choice.kind else ""})

    def action_leave(self) -> None:
        """Change nothing."""
        self.dismiss(None)
