"""Sheets that lie on top of a view for a moment: a trace in full, the problems, the keys."""

from __future__ import annotations

import io
from collections.abc import Awaitable, Callable
from typing import Any, ClassVar

from rich.console import Console
from rich.table import Table
from rich.text import Text
from textual.app import ComposeResult
from textual.binding import BindingType
from textual.containers import Vertical, VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Input, Label, OptionList, Static

from brass_pebble.core.play.told import TraceRow
from brass_pebble.core.say.durations import clock
from brass_pebble.protocol.rows import ProblemRow

from .key_line import KeyLine
from .palette import Palette

# A text that is copied has lines of at most so many letters.
COPIED_WIDTH = 100


def as_text(content: Any) -> str:
    """Anything that can be shown, as plain text without colours."""
    if isinstance(content, str):
        return content
    written = io.StringIO()
    Console(width=COPIED_WIDTH, file=written, color_system=None, force_terminal=False).print(content)
    return "\n".join(line.rstrip() for line in written.getvalue().splitlines()).strip() + "\n"


class Sheet(ModalScreen[None]):
    """A titled sheet with something to read; Escape, Enter or q closes it."""

    DEFAULT_CSS = """
    Sheet { align: center middle; }
    Sheet > VerticalScroll { width: 96; max-width: 96%; height: auto; max-height: 90%; background: $panel;
        border: round $primary; border-title-color: $primary; border-subtitle-color: $text-muted; padding: 1 2; }
    Sheet.wide > VerticalScroll { width: 156; }
    Sheet Static { height: auto; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        ("escape,enter,q,question_mark,p", "put_away", "close"), ("c", "copy_text", "copy"),
    ]

    def __init__(self, title: str, content: Any, *, wide: bool = False) -> None:
        super().__init__(classes="wide" if wide else "")
        self._title, self._content = title, content

    def compose(self) -> ComposeResult:
        """The sheet."""
        with VerticalScroll() as box:
            box.border_title = self._title
            box.border_subtitle = "c: copy as text   Esc or a click: close"
            yield Static(self._content)

    def on_click(self) -> None:
        """A click closes it, too."""
        self.action_put_away()

    def action_put_away(self) -> None:
        """Back to the view."""
        if self.is_current:
            self.dismiss(None)

    def action_copy_text(self) -> None:
        """What stands here, as text."""
        self.app.copy_text(as_text(self._content))  # type: ignore[attr-defined]

    def action_press_key(self, key: str) -> None:
        """A row of the help was clicked: back to the view, and do it there."""
        self.action_put_away()
        self.app.call_later(self.app.simulate_key, key)


class AskText(ModalScreen[str]):
    """Asks for one line of text; Escape answers with an empty one.

    With `save`, which returns what is wrong with it or an empty text, it stays open until that worked.
    """

    DEFAULT_CSS = """
    AskText { align: center middle; }
    AskText > Vertical { width: 76; max-width: 96%; height: auto; background: $panel; border: round $primary;
        border-title-color: $primary; padding: 1 2; }
    AskText Input, AskText Input:focus { border: none; background: $background; height: 1; padding: 0 1; }
    AskText Label { width: 100%; margin: 0 0 1 0; }
    AskText KeyLine { margin: 1 0 0 0; }
    AskText #wrong { color: $error; margin: 1 0 0 0; display: none; }
    AskText #wrong.shown { display: block; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [("escape", "leave", "cancel")]

    def __init__(self, title: str, says: str, value: str = "",
                 save: Callable[[str], Awaitable[str]] | None = None) -> None:
        super().__init__()
        self._title, self._says, self._value, self._save = title, says, value, save

    def compose(self) -> ComposeResult:
        """What is asked, and the field."""
        with Vertical() as box:
            box.border_title = self._title
            yield Label(self._says, markup=False)
            yield Input(self._value)
            yield Label("", id="wrong", markup=False)
            yield KeyLine("Enter: OK   Esc: cancel", types=True)

    async def on_input_submitted(self, event: Input.Submitted) -> None:
        """The answer."""
        text = event.value.strip()
        wrong = await self._save(text) if self._save is not None and text else ""
        if not wrong:
            self.dismiss(text)
            return
        label = self.query_one("#wrong", Label)
        label.update(f"✗ {wrong}")
        label.add_class("shown")

    def action_leave(self) -> None:
        """No answer."""
        self.dismiss("")


class Choose(ModalScreen[int]):
    """One of a few; returns its number, or -1."""

    DEFAULT_CSS = """
    Choose { align: center middle; }
    Choose > Vertical { width: 84; max-width: 96%; height: auto; background: $panel; border: round $primary;
        border-title-color: $primary; padding: 0 2; }
    Choose OptionList { height: auto; border: none; background: $panel; padding: 0; margin: 1 0; }
    Choose Label { color: $text-muted; width: 100%; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [("escape", "leave", "cancel")]

    def __init__(self, title: str, says: str, choices: list[str]) -> None:
        super().__init__()
        self._title, self._says, self._choices = title, says, choices

    def compose(self) -> ComposeResult:
        """The question and the answers."""
        with Vertical() as box:
            box.border_title = self._title
            yield Label(self._says, markup=False)
            yield OptionList(*self._choices, markup=False)
            yield KeyLine("Enter: OK   Esc: cancel")

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        """The answer."""
        self.dismiss(event.option_index)

    def action_leave(self) -> None:
        """No answer."""
        self.dismiss(-1)


def explain(trace: TraceRow, palette: Palette) -> Any:
    """A press, hop by hop, with every effect and its time."""
    table = Table.grid(padding=(0, 2))
    table.add_column(style=palette.dim, no_wrap=True)
    table.add_column()
    rows = [("arrived", clock(trace.at))]
    if trace.origin == "press":
        held = f", held {trace.held_ms:.0f} ms" if trace.held_ms is not None else ", still held"
        rows += [("surface", trace.surface_name), ("control", f"{trace.control}, {trace.gesture}{held}"),
                 ("raw", trace.raw), ("layer", trace.layer_name or "none")]
    else:
        rows.append(("asked by", trace.origin))
    words = trace.words or "nothing bound"
    rows.append(("action", f"{trace.action or 'play'} {words}" if trace.action != "do" else words))
    if trace.why:
        rows.append(("because", trace.why))
    if trace.run:
        ended = f", ended after {trace.ended_ms:.1f} ms" if trace.ended_ms is not None else ""
        rows.append(("run", f"{trace.state}{ended}; at most {trace.late_ms:.2f} ms late"))
    for name, value in rows:
        table.add_row(name, Text(value))
    for index, event in enumerate(trace.sent[:60]):
        arrow = "▼ down" if event.down else "▲ up"
        table.add_row("sent" if index == 0 else "", Text.assemble(
            (f"{event.at_ms:9.2f} ms  ", palette.text), (f"{arrow:7}", palette.brass), f"{event.key:10}",
            (f" planned {event.planned_ms:.0f} ms", palette.dim)))
    hidden = trace.count - min(60, len(trace.sent))
    if hidden > 0:
        table.add_row("", f"… and {hidden} more key events")
    told = ""
    for reaction in trace.reactions:
        colour = palette.verdigris if reaction.good else palette.rust
        mark = "✓" if reaction.good else "✗"
        table.add_row(reaction.program if reaction.program != told else "", Text(
            f"{reaction.at_ms:9.1f} ms  {mark} {reaction.text}", style=colour))
        told = reaction.program
    return table


def problem_list(problems: list[ProblemRow], palette: Palette) -> Any:
    """What is wrong, where, and the next step."""
    if not problems:
        return Text("Nothing is wrong with the desk's files.", style=palette.verdigris)
    text = Text()
    for problem in problems:
        place = problem.file
        if problem.line:
            place += f", line {problem.line}"
            if problem.column:
                place += f", column {problem.column}"
        if place:
            text.append(f"{place}\n", style=palette.brass)
        text.append(f"  ✗ {problem.what}\n", style=palette.rust)
        if problem.hint:
            text.append(f"    {problem.hint}\n")
    text.append("\nEverything else works. Correct the file and save it; it reloads at once.", style=palette.dim)
    return text
