"""The Usage view: which controls earn their place, which are hit by mistake, and a better arrangement."""

from __future__ import annotations

import asyncio
import re
from typing import ClassVar

from msgspec.structs import asdict
from rich.text import Text
from textual import on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Static

from brass_pebble.core.desk.look.drawn import ControlRow, SurfaceRow
from brass_pebble.core.desk.look.shown import place_of, show_control
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.usage.arrange import Arrangement, propose
from brass_pebble.core.usage.report import History, Report, Used, report
from brass_pebble.protocol.base import News
from brass_pebble.protocol.usage import AskUsage, Usage
from brass_pebble.screen.base.desk_actions import QUIET_STOP, UNDO, arrows
from brass_pebble.screen.base.one_surface import OneSurfaceView, write_here
from brass_pebble.screen.known import Known, Spot
from brass_pebble.screen.labels.choices import Choice
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.key_footer import KeyFooter
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import next_control
from brass_pebble.screen.widgets.status_line import StatusLine

from .heat import Cap, HeatData, HeatMap
from .lists import PAGES, Lists

PERIODS = ((30, "30 days"), (7, "7 days"), (1, "today"), (90, "90 days"), (365, "a year"), (0, "all the time"))
BETTER, UNUSED, SLIPS = 5, 1, 2
REFRESH = 5.0


def history_of(reply: Usage) -> History:
    """The history from the engine's answer."""
    return History([Used(**asdict(row)) for row in reply.used], reply.days, reply.sessions, reply.pairs, reply.slips,
                   reply.late)


class UsageView(OneSurfaceView):
    """The use of one surface."""

    NAME = "Usage"
    DEFAULT_CSS = """
    UsageView { background: $background; }
    UsageView #summary { height: 2; padding: 0 1; }
    UsageView #pages { height: 2; padding: 0 1; }
    UsageView #list { width: 66; padding: 0 1 0 2; scrollbar-size: 1 1; }
    UsageView #text { height: auto; }
    UsageView.narrow #list { width: 44; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        *arrows("choose a control"),
        Binding("tab", "surface(1)", "next surface", tooltip="another surface"),
        Binding("shift+tab", "surface(-1)", "surface before", show=False, tooltip="another surface"),
        *(Binding(str(number), f"page({number - 1})", PAGES[number - 1], show=False, tooltip="another list")
          for number in range(1, len(PAGES) + 1)),
        Binding("pagedown", "next_page", "next list", tooltip="another list"),
        Binding("l", "layer", "layer", tooltip="another layer"),
        Binding("i", "period", "period", tooltip="another time: today, 7, 30, 90 days, a year, all"),
        Binding("equals_sign", "compare", "before / after", tooltip="the better arrangement: before and after"),
        Binding("enter", "apply", "do it", tooltip="do it, in one change"),
        Binding("k", "keep", "keep the unused", show=False, tooltip="keep what was never used, or free it"),
        Binding("space", "home", "hand rests here", show=False, tooltip="the hand rests on the chosen control"),
        Binding("b", "bind", "bind", show=False, tooltip="give the control another action"),
        Binding("ctrl+s", "save", "save", tooltip="save charts: PDF or SVG"),
        Binding("o", "history", "history: off, erase", tooltip="switch the history off, or erase it"), *UNDO,
        QUIET_STOP,
    ]
    AUTO_FOCUS = ""

    def __init__(self, known: Known, link: Asks, surface: str = "") -> None:
        super().__init__(known, link, surface)
        self.page = 0
        self.layer_id = ""
        self.period = 0
        self.after = True
        self.free = True
        self.counting = True
        self._busy = False
        self._history: History | None = None
        self._report: Report | None = None
        self._arrangement = Arrangement("")

    def compose(self) -> ComposeResult:
        """The heat map, and beside it what it tells."""
        yield StatusLine(self.known)
        yield PathBar(self.known)
        yield Static(id="summary", markup=False)
        yield Static(id="pages", markup=False)
        with Horizontal():
            yield HeatMap()
            with VerticalScroll(id="list", can_focus=False):
                yield Static(id="text", markup=False)
        yield KeyFooter()

    def on_mount(self) -> None:
        """Presses go on."""
        self.set_interval(REFRESH, self._refresh)

    def _refresh(self) -> None:
        """Ask again, unless an answer is still being worked out."""
        if not self._busy:
            self.load()

    async def show_all(self) -> None:
        """After connecting, or when the desk changed."""
        self.query_one(StatusLine).redraw()
        self.set_class(self.size.width < 120, "narrow")
        self.load()

    async def take(self, message: News, changed: set[Spot]) -> None:
        """News of the engine."""
        if message.topic == "desk":
            self._work_out()
        self.query_one(StatusLine).redraw()

    @work(group="usage", exclusive=True)
    async def load(self) -> None:
        """Ask for the history, and show it."""
        if not self.known.connected:
            return
        row = self.row
        reply = await self.query_engine(Usage, AskUsage(days=PERIODS[self.period][0], surface=row.id if row else ""))
        if reply is not None:
            self.counting = reply.on
            self._history = history_of(reply)
            self._work_out()

    @work(group="work out", exclusive=True)
    async def _work_out(self) -> None:
        row, history = self.row, self._history
        if row is None or history is None:
            return
        self.surface_id = row.id
        if not any(layer.id == self.layer_id for layer in row.layers):
            self.layer_id = next((layer.id for layer in row.layers if layer.bindings), "")
        layer = next((layer for layer in row.layers if layer.id == self.layer_id), None)
        desk, free, wanted = self.known.desk, self.free, self.page == BETTER

        def compute() -> tuple[Report, Arrangement]:
            if layer is None:
                return report(desk, row, history), Arrangement("", why="this surface has no layer yet")
            # A proposal takes a moment: only who looks at it waits for it.
            return report(desk, row, history), (propose(row, layer, history, row.home, free=free) if wanted
                                                else Arrangement(layer.id, why="not looked for yet"))
        self._busy = True
        try:
            self._report, self._arrangement = await asyncio.to_thread(compute)
        finally:
            self._busy = False
        self.show()

    def show(self) -> None:
        """Draw everything from what is known."""
        row, found, history = self.row, self._report, self._history
        if row is None:
            self.query_one("#summary", Static).update("No surfaces yet. Press M on the desk to meet a device.")
        if row is None or found is None or history is None:
            return
        if not any(control.id == self.chosen for control in row.controls):
            self.chosen = max(found.heat, key=lambda name: found.heat[name], default="")
        self._show_head(row, found, history)
        data, beside = HeatData(row.controls, self._caps(row, found, after=False), "AS IT IS"), None
        if self.page == BETTER and not self._arrangement.empty:
            beside = HeatData(row.controls, self._caps(row, found, after=True), "BETTER")
        self.query_one(HeatMap).show(data, self.chosen, beside, instead=self.after)
        rows = self.query_one("#list").size.height
        self.query_one("#text", Static).update(Lists(self.palette, row, found, history, rows).page(
            self.page, self._arrangement))
        chosen = next((c for c in row.controls if c.id == self.chosen), None)
        hops = [Hop(row.name, "surface"), *([Hop(chosen.legend, "surface")] if chosen else [])]
        if chosen:
            count = found.heat.get(self.chosen, 0)
            hops.append(Hop(f"{count} {'press' if count == 1 else 'presses'} in {PERIODS[self.period][1]}", "usage"))
        self.query_one(PathBar).set_hops(hops)

    def _show_head(self, row: SurfaceRow, found: Report, history: History) -> None:
        palette = self.palette
        head = Text.assemble(("Usage   ", f"bold {palette.brass}"))
        head.append(row.name, style="bold")
        layer = next((layer.name for layer in row.layers if layer.id == self.layer_id), "")
        head.append(f"   layer {layer}   {PERIODS[self.period][1]}", style=palette.text)
        head.append(f"   {say_count(found.presses, 'press')} of {history.presses:,} on the desk", style=palette.text)
        head.append(f"   {found.stopped} stopped   {say_count(found.slips, 'slip')}", style=palette.dim)
        if not self.counting:
            head.append("\n○ History is off (o)", style=f"bold {palette.rust}")
        else:
            head.append("\n● Counted on this machine only: how often, never what you typed   ", style=palette.dim)
            head.append(" least ", style=palette.dim)
            head.append("▁▂▃▄▅▆▇█", style=palette.brass)
            head.append(" most", style=palette.dim)
        self.query_one("#summary", Static).update(head)
        pages = Text()
        for number, name in enumerate(PAGES, 1):
            here = number - 1 == self.page
            style = f"bold {palette.on_brass} on {palette.brass}" if here else palette.dim
            pages.append(f" {number} {name} ", style=style)
            pages.append(" ")
        self.query_one("#pages", Static).update(pages)

    def _caps(self, row: SurfaceRow, found: Report, *, after: bool) -> dict[str, Cap]:
        layer = next((layer for layer in row.layers if layer.id == self.layer_id), None)
        if layer is None:
            return {}
        shown = {control.id: show_control(control, [layer], (layer.id,)) for control in row.controls}
        counts = self._counts(layer.id)
        most = max(counts.values(), default=0)
        if after:
            return self._caps_after(shown, counts, most)
        unused = {control for name, control, *_ in found.unused if name == layer.id}
        slipped = {slip.control: slip for slip in found.slipped}
        near = slipped[self.chosen].neighbours if self.chosen in slipped else ()
        caps = {}
        for name, control in shown.items():
            mark = ""
            if self.page == SLIPS:
                mark = "slip" if name in slipped else "near" if name in near else ""
            elif control.kind and name in unused and not counts.get(name):
                mark = "unused"
            note = f"{say_count(slipped[name].times, 'slip')}" if self.page == SLIPS and name in slipped else ""
            caps[name] = Cap(control.label, counts.get(name, 0), counts.get(name, 0) / most if most else 0.0,
                             mark, note)
        return caps

    def _counts(self, layer: str) -> dict[str, int]:
        counts: dict[str, int] = {}
        for used in self._history.used if self._history else ():
            if used.surface == self.surface_id and used.layer == layer:
                counts[used.control] = counts.get(used.control, 0) + used.presses
        return counts

    def _caps_after(self, shown: dict[str, ControlRow], counts: dict[str, int], most: int) -> dict[str, Cap]:
        """The drawing as the proposal would have it."""
        moved = dict(self._arrangement.moves)
        source = {place: face for face, place in moved.items()}
        caps = {}
        for name in shown:
            face = source.get(name, name if name not in moved and name not in self._arrangement.freed else "")
            if not face:
                caps[name] = Cap(mark="freed" if name in self._arrangement.freed else "", note="free")
                continue
            times = counts.get(face, 0)
            caps[name] = Cap(shown[face].label, times, times / most if most else 0.0,
                             "moved" if name in source else "")
        return caps

    # Choosing.

    @on(HeatMap.Chosen)
    def _clicked(self, message: HeatMap.Chosen) -> None:
        self.chosen = message.name
        self.show()

    def action_go(self, dx: int, dy: int) -> None:
        """Choose the control next to the chosen one."""
        row = self.row
        here = next((c for c in row.controls if c.id == self.chosen), None) if row else None
        if row is not None and here is not None:
            self.chosen = next_control([place_of(control) for control in row.controls], place_of(here), dx, dy).id
            self.show()

    def action_page(self, number: int) -> None:
        """Another list."""
        self.page = number
        if number == BETTER:
            self._work_out()
        else:
            self.show()

    def action_next_page(self) -> None:
        """The next list."""
        self.action_page((self.page + 1) % len(PAGES))

    def show_surface(self) -> None:
        """Another surface is shown now: its first layer that does anything."""
        self.layer_id = ""
        self.load()

    def action_layer(self) -> None:
        """Another layer."""
        ids = [layer.id for layer in self.row.layers] if self.row else []
        if ids:
            self.layer_id = ids[(ids.index(self.layer_id) + 1) % len(ids) if self.layer_id in ids else 0]
            self._work_out()

    def action_period(self) -> None:
        """A longer or shorter time."""
        self.period = (self.period + 1) % len(PERIODS)
        self.load()

    # The proposal.

    def action_compare(self) -> None:
        """The proposal's drawing as it would be, or as it is."""
        if self.page == BETTER:
            self.after = not self.after
            self.show()
        else:
            self.after = True
            self.action_page(BETTER)

    def action_keep(self) -> None:
        """Whether what was never used is freed."""
        self.free = not self.free
        self.page = BETTER
        self._work_out()

    @work(group="arrange", exclusive=True)
    async def action_apply(self) -> None:
        """Carry the proposal out, in one change."""
        found = self._arrangement
        if self.page != BETTER:
            self.action_page(BETTER)
            return
        if found.empty:
            self.notify(f"Nothing to do: {found.why}.", timeout=5)
            return
        if reply := await self.change("arrange", surface=self.surface_id, layer=found.layer,
                                   moves=[list(move) for move in found.moves], freed=list(found.freed)):
            self.notify("Saved. u: undo. L on the desk prints the labels that changed.",
                        title=reply.words, timeout=8)

    @work(group="arrange", exclusive=True)
    async def action_home(self) -> None:
        """The hand rests on the chosen control; on it already: in the middle again."""
        row = self.row
        if row is None or not self.chosen:
            return
        home = [name for name in row.home if name != self.chosen]
        home = home if self.chosen in row.home else [*home[-1:], self.chosen]
        if reply := await self.change("home", surface=row.id, home=home):
            self.notify("The proposal now starts from there. u: undo.", title=reply.words, timeout=4)

    @work(group="edit", exclusive=True)
    async def action_bind(self) -> None:
        """Give the chosen control another action."""
        if self.chosen:
            await self.bind((self.surface_id, self.chosen), layer=self.layer_id)

    # Saving, switching off, erasing.

    @work(group="save", exclusive=True)
    async def action_save(self) -> None:
        """Write the charts of all surfaces."""
        kind = await self.app.push_screen_wait(Choice("Save the charts", f"Into {self.outside.exports()}:",
                                                      [("as PDF", ".pdf"), ("as SVG, a file for each page", ".svg")]))
        reply = await self.query_engine(Usage, AskUsage(days=PERIODS[self.period][0])) if kind is not None else None
        if reply is None:
            return
        from brass_pebble.paper.label_files import write_pages
        from brass_pebble.paper.usage_chart import usage_pages
        desk, history, period = self.known.desk, history_of(reply), PERIODS[self.period][1]
        name = re.sub(r"[^a-z0-9]+", "-", desk.name.lower()).strip("-") or "desk"
        file = self.outside.exports() / f"{name}-usage{kind}"
        await write_here(self, file, lambda: write_pages(usage_pages(desk, history, period), file,
                                                         f"{desk.name}, usage"), "")

    @work(group="history", exclusive=True)
    async def action_history(self) -> None:
        """Switch counting off or on, or erase what was counted."""
        rows = [("count no longer" if self.counting else "count again", "switch"),
                ("erase the history permanently", "erase"), ("cancel", "")]
        choice = await self.app.push_screen_wait(Choice("History", "Stored on this machine only: how often, never "
                                                                   "what you typed.",
                                                        rows))
        if choice == "switch" and (reply := await self.change("count_usage", on=not self.counting)):
            self.notify("Press u to undo.", title=reply.words, timeout=4)
        elif choice == "erase" and await self.ask("erase_usage") is not None:
            self.notify("The history is erased.", title="Erased", timeout=5)
        self.load()
