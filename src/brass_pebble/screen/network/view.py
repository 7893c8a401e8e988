"""The Network view: who is connected over the network, since when and how well; who asks for access."""

from __future__ import annotations

from typing import ClassVar

import msgspec
from rich.text import Text
from textual import on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import Input, Static

from brass_pebble.core.say.durations import SECOND, say_duration
from brass_pebble.protocol.base import News
from brass_pebble.protocol.network import AskSessions, PeerRow, Sessions, SessionsRow
from brass_pebble.protocol.topics import SessionsNews
from brass_pebble.screen.base.desk_actions import STOP, UNDO, VISITS, DeskActions
from brass_pebble.screen.known import Known, Spot
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.key_footer import KeyFooter
from brass_pebble.screen.widgets.status_line import StatusLine
from brass_pebble.screen.widgets.surface_drawing import SurfaceDrawing

REFRESH = 1.0
# Somebody who only announces itself.
SEEN = "found"
# Cells for a key unit, the largest that fits.
SCALES = ((14, 6), (12, 5), (10, 4), (8, 4), (6, 3))
STATES = {"connected": ("●", "connected"), "joining": ("◌", "joining"), "invited": ("◌", "invited by you"),
          "asks": ("?", "asks for access"), SEEN: ("·", "seen on the network")}


class Invite(ModalScreen[str]):
    """Asks for an address."""

    CSS = """
    Invite { align: center middle; background: $background 60%; }
    Invite > Vertical { width: 64; height: auto; border: round $primary; background: $panel; padding: 1 2; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [Binding("escape", "dismiss('')", "leave")]

    def compose(self) -> ComposeResult:
        """One field."""
        with Vertical():
            yield Static("Invite another computer to the MIDI session: its address, and its port if it is not 5004.\n",
                         markup=False)
            yield Input(placeholder="192.168.1.20 or 192.168.1.20:5006")

    @on(Input.Submitted)
    def _done(self, event: Input.Submitted) -> None:
        self.dismiss(event.value.strip())


class NetworkView(DeskActions):
    """Rows of peers; the surface that the chosen one is stands below."""

    NAME = "Network"
    CSS = """
    NetworkView { layout: vertical; background: $background; }
    NetworkView #open { height: auto; padding: 1 2; }
    NetworkView #rows { height: auto; padding: 0 2; }
    NetworkView #more { height: auto; padding: 1 2 0 2; }
    NetworkView #drawing { height: 1fr; padding: 1 2; layers: base; }
    """
    AUTO_FOCUS = ""
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("up", "choose(-1)", "choose", show=False), Binding("down", "choose(1)", "choose", show=False),
        Binding("enter", "admit", "allow / invite", tooltip="allow a peer that asks; invite one that was seen"),
        Binding("delete", "send_away", "revoke", tooltip="revoke access"),
        Binding("1", "open('midi')", "MIDI open / closed", tooltip="open or close the MIDI session"),
        Binding("2", "open('osc')", "OSC open / closed", tooltip="open or close OSC"),
        Binding("n", "invite", "invite", tooltip="invite by address"), *UNDO, STOP, *VISITS,
    ]

    def __init__(self, known: Known, link: Asks) -> None:
        super().__init__(known, link)
        self.chosen = 0
        self.sessions: SessionsRow = Sessions(midi=0, osc=0, name="", listen="", peers=[], found=[], admitted=[])

    def compose(self) -> ComposeResult:
        """From top to bottom."""
        yield StatusLine(self.known)
        yield Static("", id="open", markup=False)
        yield Static("", id="rows", markup=False)
        yield Static("", id="more", markup=False)
        yield Vertical(id="drawing")
        yield KeyFooter()

    def on_mount(self) -> None:
        """Times and counts go on."""
        self.set_interval(REFRESH, self._refresh)

    async def show_all(self) -> None:
        """Ask and draw."""
        self.query_one(StatusLine).redraw()
        self._refresh()

    async def take(self, message: News, changed: set[Spot]) -> None:
        """News."""
        if message.topic == "sessions":
            self.sessions = msgspec.convert(message, SessionsNews)
            await self._draw()
        for drawing in self.query(SurfaceDrawing):
            if any(spot[0] == drawing.surface_id for spot in changed):
                drawing.redraw()
        self.query_one(StatusLine).redraw()

    @work(group="sessions", exclusive=True)
    async def _refresh(self) -> None:
        if self.known.connected and (reply := await self.query_engine(Sessions, AskSessions())):
            self.sessions = reply
            await self._draw()

    def rows(self) -> list[PeerRow]:
        """Everybody: connected, asking, and seen on the network."""
        known = {(row.host, row.port) for row in self.sessions.peers}
        found = [PeerRow(kind="midi", name=row.name, host=row.host, port=row.port, state=SEEN, for_ms=0.0,
                         latency_ms=0.0, lost=0, late=0, dropped=0, messages=0, malformed=0, surface="")
                 for row in self.sessions.found if (row.host, row.port) not in known]
        return [*self.sessions.peers, *found]

    @property
    def row(self) -> PeerRow | None:
        """The chosen one."""
        rows = self.rows()
        return rows[min(self.chosen, len(rows) - 1)] if rows else None

    async def _draw(self) -> None:
        palette, sessions = self.palette, self.sessions
        head = Text()
        for what, said in (("midi", "MIDI session"), ("osc", "OSC")):
            port = sessions.midi if what == "midi" else sessions.osc
            head.append(f"{'◉' if port else '○'} {said} ", style=palette.verdigris if port else palette.dim)
            head.append((f"open at port {port}" + (f", as “{sessions.name}”" if what == "midi" else ""))
                        if port else f"closed ({'1' if what == 'midi' else '2'} opens it)",
                        style=palette.text if port else palette.dim)
            head.append("     ")
        self.query_one("#open", Static).update(head)
        self.query_one("#rows", Static).update(self._table())
        self.query_one("#more", Static).update(self._explain())
        await self._draw_surface()

    def _table(self) -> Text:
        palette, rows = self.palette, self.rows()
        text = Text()
        if not rows:
            open_now = self.sessions.midi or self.sessions.osc
            text.append("Nobody is connected yet.\n" if open_now else
                        "Nothing is open to the network. 1: open a MIDI session. 2: open OSC. Then connect from the "
                        "other computer and allow it here.\n", style=palette.dim)
            return text
        text.append(f"  {'':22}{'':18}{'since':>10}{'latency':>10}{'lost':>7}{'late':>7}{'too many':>10}"
                    f"{'messages':>10}   surface\n", style=palette.dim)
        for index, row in enumerate(rows):
            here = index == min(self.chosen, len(rows) - 1)
            mark, said = STATES[row.state]
            good = row.state == "connected"
            name = row.name or "OSC"
            text.append("▸ " if here else "  ", style=palette.brass)
            text.append(f"{name[:20]:22}", style=f"bold {palette.brass}" if here else palette.text)
            text.append(f"{row.host:18}", style=palette.dim)
            if good:
                since = say_duration(int(row.for_ms) // 1000 * SECOND) if row.for_ms >= 1000 else "now"
                latency = f"{row.latency_ms:.1f} ms" if row.kind == "midi" else "–"
                text.append(f"{since:>10}{latency:>10}", style=palette.text)
                for count, width in ((row.lost, 7), (row.late, 7), (row.dropped, 10)):
                    text.append(f"{count:>{width}}", style=palette.rust if count else palette.dim)
                surface = self.known.surface(row.surface)
                text.append(f"{row.messages:>10}   ", style=palette.text)
                text.append(surface.name if surface else "none yet (M: meet it)",
                            style=palette.verdigris if surface else palette.dim)
            else:
                text.append(f"   {mark} {said}", style=palette.brass if row.state == "asks" else palette.dim)
            text.append("\n")
        return text

    def _explain(self) -> Text:
        row = self.row
        if row is None:
            return Text()
        said = {"asks": "Enter: allow. It then has to connect again. Only allowed peers are heard.",
                "connected": "Delete: revoke access.",
                SEEN: "Enter: invite.", "invited": "It has not answered yet.", "joining": "It is joining."}
        return Text(said[row.state], style=self.palette.dim)

    async def _draw_surface(self) -> None:
        box = self.query_one("#drawing", Vertical)
        row = self.row
        wanted = row.surface if row else ""
        drawn = next((drawing.surface_id for drawing in box.query(SurfaceDrawing)), "")
        if wanted == drawn:
            return
        await box.remove_children()
        if wanted and self.known.surface(wanted):
            drawing = SurfaceDrawing(wanted, self.known)
            await box.mount(drawing)
            room = box.content_size
            unit = next((unit for unit in SCALES if drawing.size_for(unit).width <= room.width
                         and drawing.size_for(unit).height <= room.height), SCALES[-1])
            size = drawing.size_for(unit)
            drawing.styles.width, drawing.styles.height = max(size.width, drawing.title_width()), size.height
            drawing.set_unit(unit)

    # Doing.

    def action_choose(self, by: int) -> None:
        """Another row."""
        rows = self.rows()
        if rows:
            self.chosen = (min(self.chosen, len(rows) - 1) + by) % len(rows)
            self.call_later(self._draw)

    @work(group="admit")
    async def action_admit(self) -> None:
        """Let in who asks, or invite who was seen."""
        row = self.row
        if row is None:
            return
        if row.state == "asks":
            if await self.ask("admit", name=row.name, host=row.host):
                self.notify("Allowed. If it does not reconnect by itself, connect again from there.",
                            title=row.name or row.host, timeout=6)
        elif row.state == SEEN:
            await self.ask("admit", name=row.name, host=row.host)
            await self.ask("invite", host=row.host, port=row.port, name=row.name)
        self._refresh()

    @work(group="admit")
    async def action_send_away(self) -> None:
        """End somebody's part, and let them in no longer."""
        row = self.row
        if row is not None and row.state != SEEN:
            await self.ask("admit", name=row.name, host=row.host, yes=False)
            self._refresh()

    @work(group="admit")
    async def action_open(self, what: str) -> None:
        """Open or close a way in."""
        if await self.ask("open_network", what=what, **({"port": 0} if getattr(self.sessions, what) else {})):
            self._refresh()

    @work(group="admit")
    async def action_invite(self) -> None:
        """Ask another computer to take part."""
        address = await self.app.push_screen_wait(Invite())
        host, _, port = address.partition(":")
        if host and (not port or port.isdigit()):
            await self.ask("invite", host=host, port=int(port or 5004))
            self._refresh()
        elif address:
            self.notify(f"“{address}” is not a valid address. Write it as "
                        "192.168.1.20:5004.", severity="error", timeout=6)
