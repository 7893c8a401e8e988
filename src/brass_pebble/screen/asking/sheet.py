"""The sheet that puts a macro's question to the person, on top of whatever is shown."""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable
from typing import ClassVar

from rich.text import Text
from textual import events, on
from textual.app import ComposeResult
from textual.binding import BindingType
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import Input, OptionList, Static

from brass_pebble.core.say.counts import say_count
from brass_pebble.protocol.asking import QuestionRow
from brass_pebble.screen.base.key_line import KeyLine
from brass_pebble.screen.base.palette import Palette

# What was typed for something else when the question came is no answer to it, in s.
DEAF = 0.6
# The room for the question in block letters, in cells.
LARGE = 78, 7
# Answers a question, or closes it without a text; says what is wrong with the answer.
Answers = Callable[[str, str | None], Awaitable[str]]


class QuestionSheet(ModalScreen[None]):
    """One question at a time, the oldest; it goes away when nothing is asked any more, whoever answered."""

    DEFAULT_CSS = """
    QuestionSheet { align: center middle; }
    QuestionSheet > Vertical { width: 84; max-width: 96%; height: auto; background: $panel; border: heavy $primary;
        border-title-color: $primary; border-subtitle-color: $text-muted; padding: 1 2; }
    QuestionSheet #words { text-style: bold; margin: 0 0 1 0; }
    QuestionSheet #fits { color: $text-muted; }
    QuestionSheet Input, QuestionSheet Input:focus { border: none; background: $background; height: 1; padding: 0 1;
        margin: 1 0 0 0; }
    QuestionSheet OptionList { height: auto; max-height: 12; border: none; background: $panel; padding: 0;
        margin: 1 0 0 0; }
    QuestionSheet #wrong { color: $error; margin: 1 0 0 0; display: none; }
    QuestionSheet #wrong.shown { display: block; }
    QuestionSheet KeyLine { margin: 1 0 0 0; }
    """
    AUTO_FOCUS = ""
    BINDINGS: ClassVar[list[BindingType]] = [("escape", "close_it", "no answer")]

    def __init__(self, rows: list[QuestionRow], answer: Answers) -> None:
        super().__init__()
        self._rows, self._answer = rows, answer
        self._since, self._until = 0.0, 0.0
        self._drawn = ""
        self._in_blocks = False

    @property
    def row(self) -> QuestionRow:
        """The question that is put now."""
        return self._rows[0]

    def compose(self) -> ComposeResult:
        """The words, what fits, and where the answer goes."""
        with Vertical():
            yield Static(id="words", markup=False)
            yield Static(id="fits", markup=False)
            yield Input()
            yield OptionList(markup=False)
            yield Static(id="wrong", markup=False)
            yield KeyLine("Enter: OK   Esc: no answer", types=True)

    def on_mount(self) -> None:
        """Put the first one."""
        self.set_interval(1.0, self._count_down)
        self.show(self._rows)

    def show(self, rows: list[QuestionRow]) -> None:
        """The questions that are open now; with none, the sheet goes."""
        if not rows:
            if self.is_current:
                self.dismiss(None)
            else:
                self.app.screen_stack.remove(self)
            return
        self._rows = rows
        row = self.row
        field, choices = self.query_one(Input), self.query_one(OptionList)
        self._until = time.monotonic() + row.left_ms / 1000
        if row.question != self._drawn:
            self._drawn, self._since = row.question, time.monotonic()
            self.query_one(Vertical).border_title = f"“{row.macro}” asks"
            self.query_one("#words", Static).update(self._large(row.words))
            field.value = row.proposal
            field.display, choices.display = not row.choices, bool(row.choices)
            choices.clear_options()
            choices.add_options([f"{number}  {choice}" for number, choice in enumerate(row.choices, 1)])
            if row.choices:
                choices.highlighted = row.choices.index(row.proposal) if row.proposal in row.choices else 0
            self.set_focus(None)
            # What is being typed now was meant for what lies below.
            self.set_timer(DEAF, lambda: self.set_focus(self.query_one(OptionList if row.choices else Input)))
            self._wrong("")
        elif row.proposal and not field.value:
            # The clipboard was read meanwhile.
            field.value = row.proposal
        self._say_fits()
        self._count_down()

    def _large(self, words: str) -> str:
        """The question in block letters where they fit, so that it reads from afar."""
        room = min(LARGE[0], self.app.size.width - 8), LARGE[1] if self.app.size.height >= 30 else LARGE[1] // 2
        blocks = "\n".join(self.app.large_text(words, *room))  # type: ignore[attr-defined]
        self._in_blocks = bool(blocks)
        return blocks or words

    def _say_fits(self) -> None:
        row, palette = self.row, self._palette
        asks = f"{row.words}\n" if self._in_blocks else ""
        text = Text(f"{asks}Answer with {row.fits}." if not row.choices else
                    f"{asks}Choose one: arrows, its number, or a click.")
        if row.surface and row.kind != "text":
            text.append("\nOr type it on the surface; it counts a moment after the last digit.")
        if row.typed:
            text.append(f"\nTyped on the surface: {row.typed}", style=f"bold {palette.brass}")
        self.query_one("#fits", Static).update(text)

    @property
    def _palette(self) -> Palette:
        return self.app.palette  # type: ignore[attr-defined,no-any-return]

    def _count_down(self) -> None:
        left = max(0, round(self._until - time.monotonic()))
        more = len(self._rows) - 1
        waits = f"{say_count(more, 'more question')} {'waits' if more == 1 else 'wait'}   " if more else ""
        self.query_one(Vertical).border_subtitle = f"{waits}{left} s left"

    def _wrong(self, text: str) -> None:
        label = self.query_one("#wrong", Static)
        label.update(f"✗ {text}" if text else "")
        label.set_class(bool(text), "shown")

    async def on_key(self, event: events.Key) -> None:
        """A digit chooses."""
        row = self.row
        if row.choices and event.character and event.character.isdigit() and len(row.choices) < 10:
            number = int(event.character)
            if 1 <= number <= len(row.choices):
                event.stop()
                await self._give(row.choices[number - 1])

    @on(Input.Submitted)
    async def _typed(self, event: Input.Submitted) -> None:
        await self._give(event.value)

    @on(OptionList.OptionSelected)
    async def _chosen(self, event: OptionList.OptionSelected) -> None:
        await self._give(self.row.choices[event.option_index])

    async def _give(self, text: str | None) -> None:
        if time.monotonic() - self._since < DEAF:
            return
        self._wrong(await self._answer(self.row.question, text))

    async def action_close_it(self) -> None:
        """No answer: the macro ends, or takes its other way."""
        await self._give(None)
