"""A list beside what its chosen row is about: a summary above, words and a drawing at the side."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from textwrap import wrap
from typing import ClassVar, Generic, TypeVar

from rich.text import Text
from textual import on
from textual.app import ComposeResult
from textual.binding import BindingType
from textual.containers import Horizontal, Vertical
from textual.widget import Widget
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from brass_pebble.protocol.base import News
from brass_pebble.screen.known import Spot
from brass_pebble.screen.widgets.key_footer import KeyFooter
from brass_pebble.screen.widgets.path_bar import PathBar
from brass_pebble.screen.widgets.sketch import Sketch
from brass_pebble.screen.widgets.status_line import StatusLine

from .desk_actions import VISITS, DeskActions

R = TypeVar("R")
# Words in a narrower column are cut off at its end rather than wrapped.
LEAST_WORDS = 20


@lru_cache(maxsize=4096)
def _wrapped(words: str, width: int) -> list[str]:
    return wrap(words, width) or [""]


class ListedView(DeskActions, Generic[R]):
    """Rows of one kind.  A view says where they come from (`load`, which calls `put`), how one stands in the list
    (`line`), what is said above (`summary`) and beside it (`show_row`), and what Enter does (`enter`)."""

    DEFAULT_CSS = """
    ListedView { background: $background; }
    ListedView #summary { height: 2; padding: 0 1; }
    ListedView OptionList { width: 1fr; height: 1fr; border: none; background: $background; padding: 0 1;
        scrollbar-size: 1 1; }
    ListedView #about { width: 52%; padding: 0 1 0 2; }
    ListedView #says { height: auto; max-height: 50%; }
    ListedView #about > Sketch { margin: 1 0 0 0; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [*VISITS]
    AUTO_FOCUS = "OptionList"
    # News after which everything is looked at anew.
    FRESH: ClassVar[tuple[str, ...]] = ("desk",)

    def __init__(self, *options: object) -> None:
        super().__init__(*options)  # type: ignore[arg-type]
        self.rows: Sequence[R] = ()

    # What a view fills in.

    def load(self) -> object:
        """Look for the rows, and `put` them, now or later."""

    @abstractmethod
    def line(self, row: R) -> Text:
        """A row as it stands in the list."""

    @abstractmethod
    def summary(self) -> Text:
        """What is said of all of them."""

    @abstractmethod
    def show_row(self, row: R | None) -> None:
        """Show what the chosen row is about; None if there is none."""

    def enter(self) -> None:
        """Enter on a row, or a click on it."""

    def beside(self) -> ComposeResult:
        """What stands beside the list."""
        yield Static(id="says", markup=False)
        yield Sketch()

    def same(self, one: R, other: R) -> bool:
        """Whether two rows are the same thing, so that it stays chosen when the list is made again."""
        return one == other

    def may_choose(self, row: R) -> bool:
        """Whether a row can be chosen; headings cannot."""
        return True

    def finish_line(self, line: Text, says: str, style: str, of_all: Iterable[str]) -> Text:
        """A row that ends with words: if those of all rows have room, they go on below where they begin."""
        options = self.query_one(OptionList)
        room = options.size.width - 3 - line.cell_len
        fits = room >= LEAST_WORDS and sum(len(_wrapped(words, room)) for words in of_all) <= options.size.height
        return line.append(("\n" + " " * line.cell_len).join(_wrapped(says, room) if fits else [says]), style=style)

    # The rest is the same for all.

    def compose(self) -> ComposeResult:
        """From top to bottom."""
        yield StatusLine(self.known)
        yield PathBar(self.known)
        yield Static(id="summary", markup=False)
        with Horizontal():
            yield OptionList(markup=False)
            with Vertical(id="about"):
                yield from self._beside()
        yield KeyFooter()

    def _beside(self) -> Iterator[Widget]:
        yield from self.beside()

    async def show_all(self) -> None:
        """After connecting, or when the desk changed."""
        self.query_one(StatusLine).redraw()
        if self.known.connected:
            self.load()

    async def take(self, message: News, changed: set[Spot]) -> None:
        """News of the engine."""
        if message.topic in self.FRESH:
            self.load()
        self.query_one(StatusLine).redraw()

    def put(self, rows: Sequence[R]) -> None:
        """Show other rows; what was chosen stays chosen if it is still there, or else its place."""
        before, options = self.row, self.query_one(OptionList)
        at = options.highlighted or 0
        self.rows = rows
        options.clear_options()
        options.add_options([Option(self.line(row), disabled=not self.may_choose(row)) for row in rows])
        if before is not None:
            at = next((index for index, row in enumerate(rows) if self.same(row, before)), at)
        options.highlighted = min(at, len(rows) - 1) if rows else None
        self.show_summary()
        self.show_row(self.row)

    def show_summary(self) -> None:
        """What is said of all of them, again."""
        self.query_one("#summary", Static).update(self.summary())

    @property
    def row(self) -> R | None:
        """The chosen one."""
        index = self.query_one(OptionList).highlighted
        return self.rows[index] if index is not None and index < len(self.rows) else None

    @on(OptionList.OptionHighlighted)
    def _another(self) -> None:
        self.show_row(self.row)

    @on(OptionList.OptionSelected)
    def _entered(self) -> None:
        self.enter()
