"""The Labels view: the sheet of a surface's labels as it will be printed, and what is chosen for it."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any, ClassVar

from rich.text import Text
from textual import on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical
from textual.widgets import Static

from brass_pebble import paths
from brass_pebble.core.desk.look.drawn import SurfaceRow
from brass_pebble.core.desk.look.shown import place_of, what_does
from brass_pebble.core.label.faces import MOST_LAYERS, Face, layers_shown
from brass_pebble.core.label.icons import NO_ICON, icons
from brass_pebble.core.label.sheet import PAPERS, Label, Sheet
from brass_pebble.core.label.sizes import kind_of
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.saved import Saved
from brass_pebble.paper.label_files import label_pages, notes_of, read_printed, remember_printed, sheet_of, write_pages
from brass_pebble.paper.surface_map import card_pages, map_page
from brass_pebble.protocol.base import Changed, News
from brass_pebble.screen.base.desk_actions import QUIET_STOP, UNDO, arrows
from brass_pebble.screen.base.one_surface import OneSurfaceView, write_here
from brass_pebble.screen.base.sheets import AskText
from brass_pebble.screen.known import Known, Spot
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.key_footer import KeyFooter
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import Sketch
from brass_pebble.screen.widgets.status_line import StatusLine

from .choices import Choice
from .page import LabelPage

SAVES = (("the labels as PDF", "labels", ".pdf"), ("the labels as SVG, a file for each page", "labels", ".svg"),
         ("a map of all bindings, as PDF", "map", ".pdf"), ("a map of all bindings, as SVG", "map", ".svg"),
         ("cards for the wallet, one for each layer, as PDF", "cards", ".pdf"),
         ("cards for the wallet, one for each layer, as SVG", "cards", ".svg"))


class LabelsView(OneSurfaceView):
    """The labels of one surface."""

    NAME = "Labels"
    DEFAULT_CSS = """
    LabelsView { background: $background; }
    LabelsView #summary { height: 2; padding: 0 1; }
    LabelsView #side { width: 44; padding: 0 0 0 2; }
    LabelsView #about { height: auto; padding: 0 0 1 0; }
    LabelsView #notes { height: auto; max-height: 10; padding: 1 0 0 0; }
    LabelsView.narrow #side { width: 30; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        *arrows("choose a label"),
        Binding("pagedown", "page(1)", "next page", show=False, tooltip="another page"),
        Binding("pageup", "page(-1)", "page before", show=False, tooltip="another page"),
        Binding("tab", "surface(1)", "next surface", tooltip="another surface"),
        Binding("shift+tab", "surface(-1)", "surface before", show=False, tooltip="another surface"),
        Binding("l", "layer", "layer", tooltip="the next layer alone"),
        *(Binding(str(number), f"toggle_layer({number})", "", show=False, tooltip="a layer onto the caps, or off them")
          for number in range(1, 10)),
        Binding("0", "all_layers", "all layers", tooltip="all layers, up to four, each in its corner"),
        Binding("plus", "cap", "cap size", tooltip="size of a key's label"),
        Binding("equals_sign", "by_hand", "size of this one", show=False, tooltip="size of this label, by hand"),
        Binding("d", "icon", "icon", tooltip="icon of this label"),
        Binding("i", "paper", "paper", tooltip="A4 or Letter"),
        Binding("z", "zoom", "whole page", show=False, tooltip="the page in its whole width, or readable"),
        Binding("o", "changed", "only changes", tooltip="only labels changed since the last print"),
        Binding("ctrl+s", "save", "save", tooltip="save labels, map or cards; PDF or SVG"),
        Binding("b", "bind", "bind", show=False, tooltip="give the control another action"), *UNDO, QUIET_STOP,
    ]
    AUTO_FOCUS = "LabelPage"

    def __init__(self, known: Known, link: Asks, surface: str = "") -> None:
        super().__init__(known, link, surface)
        self.on_sheet: list[str] = []
        self.paper = "a4"
        self.only_changed = False
        self.sheet: Sheet | None = None
        self._about = ""
        self._page = 0

    def compose(self) -> ComposeResult:
        """The page, and beside it the surface it belongs to."""
        yield StatusLine(self.known)
        yield PathBar(self.known)
        yield Static(id="summary", markup=False)
        with Horizontal():
            yield LabelPage()
            with Vertical(id="side"):
                yield Static(id="about", markup=False)
                yield Sketch()
                yield Static(id="notes", markup=False)
        yield KeyFooter()

    async def show_all(self) -> None:
        """After connecting, or when the desk changed."""
        self.query_one(StatusLine).redraw()
        self.set_class(self.size.width < 110, "narrow")
        self.redraw()

    async def take(self, message: News, changed: set[Spot]) -> None:
        """News of the engine."""
        if message.topic == "desk":
            self.redraw()
        self.query_one(StatusLine).redraw()

    def redraw(self) -> None:
        """Lay the sheet out again, and draw it."""
        row = self.row
        if row is None:
            self.query_one("#summary", Static).update("No surfaces yet. Press M on the desk to meet a device.")
            return
        self.surface_id = row.id
        self.on_sheet = [layer for layer in self.on_sheet if any(layer == found.id for found in row.layers)]
        self.on_sheet = self.on_sheet or [layer.id for layer in layers_shown(row)]
        printed = read_printed(self._record(row)) if self.only_changed else None
        self.sheet, self._about = sheet_of(row, layers=self.on_sheet, paper=self.paper, printed=printed)
        self._page = min(self._page, max(0, len(self.sheet.pages) - 1))
        controls = [label.face.control for page in self.sheet.pages for label in page]
        if self.chosen not in controls:
            self.chosen = controls[0] if controls else ""
        self._show()

    def _record(self, row: SurfaceRow) -> Path:
        return paths.printed_file(Path(self.known.desk.folder), row.id)

    @property
    def label(self) -> Label | None:
        """The chosen label."""
        pages = self.sheet.pages if self.sheet else ()
        return next((label for page in pages for label in page if label.face.control == self.chosen), None)

    def _show(self) -> None:
        row, sheet, palette = self.row, self.sheet, self.palette
        if row is None or sheet is None:
            return
        self.query_one(LabelPage).show(sheet, self._page, self.chosen)
        head = Text.assemble(("Labels   ", f"bold {palette.brass}"))
        head.append(f"{row.name}", style="bold")
        head.append(f"   {say_count(sheet.count, 'label')}   page {min(self._page + 1, len(sheet.pages))} of "
                    f"{len(sheet.pages)} "
                    f"on {self.paper.upper() if self.paper == 'a4' else 'Letter'}", style=palette.text)
        if self.only_changed:
            head.append("   ● only labels changed since the last print", style=palette.brass)
        head.append("\n")
        for number, layer in enumerate(row.layers[:9], 1):
            on_sheet = layer.id in self.on_sheet
            head.append(f" {number} {'●' if on_sheet else '○'} {layer.name} ",
                        style=f"bold {palette.brass}" if on_sheet else palette.dim)
        self.query_one("#summary", Static).update(head)
        self._show_side(row, sheet)
        label = self.label
        hops = [Hop(row.name, "surface"), *([Hop(label.face.legend, "surface")] if label else []),
                Hop("label", "label")]
        self.query_one(PathBar).set_hops(hops)

    def _show_side(self, row: SurfaceRow, sheet: Sheet) -> None:
        palette, label = self.palette, self.label
        about = Text()
        if label is not None:
            about.append(f"{label.face.legend}", style=f"bold {palette.brass}")
            size = f"{label.at.width:g} × {label.at.height:g} mm"
            by_hand = label.face.control in row.labels.sizes
            about.append(f"   {size}, {'by hand' if by_hand else kind_of(row.layout, label.face.row).name}\n",
                         style=palette.text)
            for part in label.parts:
                entry = part.entry
                about.append(f"{entry.layer}: ", style=palette.dim)
                about.append(" ".join(part.fitted.lines), style=f"bold {palette.tint(entry.tint)}")
                about.append(f"  {part.fitted.size:.1f} mm" + (f", icon {entry.icon}" if entry.icon else ", no icon"),
                             style=palette.dim)
                about.append(f", {entry.tint}\n" if entry.tint else "\n", style=palette.dim)
        self.query_one("#about", Static).update(about)
        shown = {found.face.control: found for page in sheet.pages for found in page}
        drawn = [place_of(control, self._text_of(shown[control.id].face) if control.id in shown else "")
                 for control in row.controls]
        sketch = self.query_one(Sketch)
        sketch.selected = self.chosen
        sketch.show(drawn, seen=set(shown))
        notes = Text()
        for note in notes_of(sheet)[:6]:
            notes.append(f"! {note}\n", style=palette.brass)
        if not notes:
            notes.append("✓ every text fits as it is\n", style=palette.verdigris)
        self.query_one("#notes", Static).update(notes)

    def _text_of(self, face: Face) -> str:
        return next((entry.label for entry in face.entries if entry.label), "")

    # Choosing.

    @on(LabelPage.Chosen)
    def _clicked(self, message: LabelPage.Chosen) -> None:
        self.chosen = message.label
        self._show()

    @on(Sketch.Picked)
    def _picked(self, message: Sketch.Picked) -> None:
        if message.down:
            self._choose(message.row.id)

    def _choose(self, control: str) -> None:
        for number, page in enumerate(self.sheet.pages if self.sheet else ()):
            if any(label.face.control == control for label in page):
                self.chosen, self._page = control, number
                self._show()

    def action_go(self, dx: int, dy: int) -> None:
        """Choose the label next to the chosen one, on the page."""
        here = self.label
        labels = self.query_one(LabelPage).labels()
        if here is None or here not in labels:
            self._choose(labels[0].face.control if labels else "")
            return
        best, least = None, float("inf")
        for other in labels:
            across = other.at.x + other.at.width / 2 - here.at.x - here.at.width / 2
            down = other.at.y + other.at.height / 2 - here.at.y - here.at.height / 2
            along, aside = (across * dx, abs(down)) if dx else (down * dy, abs(across))
            if along > 0.5 and along + 2.5 * aside < least:
                best, least = other, along + 2.5 * aside
        if best is not None:
            self.chosen = best.face.control
            self._show()

    def action_page(self, by: int) -> None:
        """Another page."""
        count = len(self.sheet.pages) if self.sheet else 0
        if count:
            self._page = (self._page + by) % count
            self.chosen = self.sheet.pages[self._page][0].face.control if self.sheet else ""
            self._show()

    def show_surface(self) -> None:
        """Another surface is shown now: its first layer, its first page."""
        self.on_sheet, self._page = [], 0
        self.redraw()

    def action_layer(self) -> None:
        """The next layer alone."""
        row = self.row
        if row is not None and row.layers:
            ids = [layer.id for layer in row.layers]
            at = ids.index(self.on_sheet[0]) if len(self.on_sheet) == 1 else -1
            self.on_sheet = [ids[(at + 1) % len(ids)]]
            self.redraw()

    def action_all_layers(self) -> None:
        """All layers on one cap, up to four."""
        row = self.row
        if row is not None:
            ids = [layer.id for layer in row.layers]
            self.on_sheet = ids[:MOST_LAYERS]
            if len(ids) > MOST_LAYERS:
                self.notify(f"A cap has {MOST_LAYERS} corners; these are the first {MOST_LAYERS} of "
                            f"{say_count(len(ids), 'layer')}. "
                            "1 to 9 choose others.", timeout=5)
            self.redraw()

    def action_toggle_layer(self, number: int) -> None:
        """A layer onto the caps, or off them."""
        row = self.row
        if row is None or number > len(row.layers):
            return
        name = row.layers[number - 1].id
        if name in self.on_sheet and len(self.on_sheet) > 1:
            self.on_sheet.remove(name)
        elif name not in self.on_sheet and len(self.on_sheet) < MOST_LAYERS:
            ids = [layer.id for layer in row.layers]
            self.on_sheet = sorted([*self.on_sheet, name], key=ids.index)
        self.redraw()

    def action_paper(self) -> None:
        """A4 or Letter."""
        names = list(PAPERS)
        self.paper = names[(names.index(self.paper) + 1) % len(names)]
        self.redraw()

    def action_zoom(self) -> None:
        """The page in its whole width, or as large as can be read."""
        page = self.query_one(LabelPage)
        page.whole = not page.whole
        page.redraw()

    def action_changed(self) -> None:
        """Only what changed since it was printed, or everything."""
        self.only_changed = not self.only_changed
        self.redraw()

    # Changing.

    @work(group="size", exclusive=True)
    async def action_cap(self) -> None:
        """How large the label of a key of one unit is."""
        row = self.row
        if row is None:
            return
        now = row.labels.cap or "14x14"
        await self.app.push_screen_wait(AskText(
            "Cap size", "Width x height of the flat part of a key of one unit, in millimetres. Wider keys grow with "
            "it. “usual” goes back.", now, save=lambda size: self._give_size(size, "")))

    @work(group="size", exclusive=True)
    async def action_by_hand(self) -> None:
        """How large this label is."""
        label = self.label
        if label is None:
            return
        control = label.face.control
        await self.app.push_screen_wait(AskText(
            f"Label of {label.face.legend}", "Width x height of this label in millimetres, or “usual” for the "
                                             "standard size.",
            f"{label.at.width:g}x{label.at.height:g}", save=lambda size: self._give_size(size, control)))

    async def _give_size(self, size: str, control: str) -> str:
        reply, wrong = await self.ask_or_say("label_size", surface=self.surface_id, control=control,
                                             size="" if size == "usual" else size)
        if isinstance(reply, Changed):
            self.notify("Saved with the desk. u undoes it.", title=reply.words, timeout=4)
        return wrong

    @work(group="icon", exclusive=True)
    async def action_icon(self) -> None:
        """Another icon for the chosen label."""
        row, label = self.row, self.label
        if row is None or label is None:
            return
        layer, shown = next((layer, first) for layer in row.layers if layer.id in self.on_sheet
                            and (first := what_does(label.face.control, [layer], (layer.id,)).first) is not None)
        rows = [("as its words suggest", ""), ("no icon", NO_ICON),
                *((f"{icon.name}   {', '.join(sorted(icon.words))}", icon.name) for icon in icons().values())]
        name = await self.app.push_screen_wait(Choice(f"Icon of {shown.label}", f"{len(icons())} icons:", rows))
        if name is not None and (reply := await self.change(
                "icon", surface=self.surface_id, layer=layer.id, gesture=shown.gesture,
                control=label.face.control, icon=name)):
            self.notify("Saved with the desk. u undoes it.", title=reply.words, timeout=4)

    @work(group="edit", exclusive=True)
    async def action_bind(self) -> None:
        """Give the chosen control another action."""
        if self.chosen:
            await self.bind((self.surface_id, self.chosen))

    # Saving.

    @work(group="save", exclusive=True)
    async def action_save(self) -> None:
        """Write the sheet, a map or cards among the person's documents."""
        row = self.row
        if row is None:
            return
        chosen = await self.app.push_screen_wait(Choice(
            "Save", f"Into {self.outside.exports()}:", [(says, (what, kind)) for says, what, kind in SAVES]))
        if chosen is not None:
            await self._save(row, *chosen)

    async def _save(self, row: SurfaceRow, what: str, kind: str) -> None:
        name = re.sub(r"[^a-z0-9]+", "-", row.name.lower()).strip("-") or "surface"
        file = self.outside.exports() / f"{name}-{what}{kind}"

        def write() -> Saved:
            assert self.sheet is not None
            pages: Any = {"labels": lambda: label_pages(row, self.sheet, self._about),
                          "map": lambda: [map_page(row, self.paper)], "cards": lambda: card_pages(row, self.paper)}
            written = write_pages(pages[what](), file, f"{row.name}, {what}")
            if what == "labels":
                remember_printed(self._record(row), self.sheet)
            return written
        await write_here(self, file, write, "Print it at 100 %; the ruler tells whether it was.")
