"""From a descriptor to the output, then the notes: the short way of a press."""

from __future__ import annotations

from collections.abc import Callable

from brass_pebble.core.desk.action import STOP
from brass_pebble.core.play.player import Run
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.problem import Problem
from brass_pebble.core.signals.signal import MOVING
from brass_pebble.engine.clients.news import News
from brass_pebble.engine.devices.grips import Grips
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.devices.set_aside import SetAside
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Ports, RunControl
from brass_pebble.engine.runs.recorder import Recorder
from brass_pebble.kinds.inputs.base import DeviceGone, Input
from brass_pebble.kinds.inputs.bystanders import Bystanders

from .filters import Filters
from .sender import Sender


class PressWay:
    """Reads, routes and sends; only then is the trace noted.  `deeds` is what a press can ask of the engine itself."""

    sender: Sender
    filters: Filters
    devices: Devices
    grips: Grips
    aside: SetAside
    recorder: Recorder
    bystanders: Bystanders
    control: RunControl

    def __init__(self, ports: Ports, news: News) -> None:
        self._ports, self._router, self._news = ports, ports.router, news
        self.deeds: dict[str, Callable[[Trace], object]] = {}

    def listen_to(self, surface_id: str, source: Input) -> None:
        """Route what arrives from an input, as its surface wants it now."""
        surface = self._ports.desk.surfaces[surface_id]
        self.filters.set_debounce(surface)
        filtered = self.filters.stand_between(surface)
        for fileno in source.filenos():
            self._ports.loop.watch(fileno, self._reader(surface_id, source, fileno, filtered=filtered), hot=True)

    def _reader(self, surface_id: str, source: Input, fileno: int, *, filtered: bool) -> Callable[[int], None]:
        """The one reader of presses.  What is not `filtered` takes the fast lane: keys that are sure to be sent have
        left before their press is routed (tests/test_player.py holds them against what is played then)."""
        router, sender, news = self._router, self.sender, self._news
        feed, sure_first, clock = router.feed, router.sure_first, self._ports.now
        modifiers = self.bystanders.modifiers if self._ports.desk.patience else tuple
        filters, press_ahead = self.filters, sender.output.press
        waiting = filters.waiting
        node, turned, stale_after = source.node(fileno), self.grips.turned, router.stale_after

        def ready(events: int) -> None:
            try:
                arrived_events = source.read(fileno)
            except DeviceGone as gone:
                self.devices.lost(surface_id, str(gone), gone.told)
                return
            except Exception as error:
                self.devices.cannot_be_read(surface_id, error)
                return
            moved = False
            for code, value, arrived in arrived_events:
                if code >= MOVING and filtered:
                    filters.move(surface_id, code, value, arrived, node)
                    continue
                if code >= MOVING:
                    router.mover.move(surface_id, code, value, arrived, clock(), sender.out)
                    if surface_id in turned:
                        self.grips.move(surface_id, code, value, arrived)
                    moved = True
                    continue
                if moved:
                    # What moved before goes out before.
                    self._after_moves()
                    moved = False
                if ((waiting and not router.does(surface_id, code, STOP))
                        or (value and modifiers() and router.sends(surface_id, code))):
                    filters.hold_back(surface_id, code, value, arrived, node)
                    continue
                if filtered:
                    try:
                        filters.arrive(surface_id, code, value, arrived, node)
                    except Exception as error:
                        self.press_failed(surface_id, error)
                    continue
                # A press from a rest has found its way to the output before anything is noted about it.
                now = clock()
                first = sure_first(surface_id, code) if value and now - arrived < stale_after else ()
                if first and press_ahead(first):
                    sent_at = clock()
                else:
                    first = ()
                out = sender.out
                try:
                    trace = feed(surface_id, code, value, arrived, now, out)
                except Exception as error:
                    # No run may know of the keys sent ahead, so nobody else would release them.
                    sender.take_back(first, now)
                    self.press_failed(surface_id, error)
                    continue
                if first:
                    if [effect[0] for effect in out[:len(first)]] == [*first]:
                        news.unnoted.append((sent_at, out[:len(first)]))
                        del out[:len(first)]
                    else:
                        log.error("sent ahead %s, but %s was played", first, out[:len(first)])
                        sender.take_back(first, now)
                if out:
                    sender.send(now)
                self._book(surface_id, code, value, trace, arrived, node)
            if moved:
                self._after_moves()
            if not arrived_events:
                self.devices.check_state(surface_id)
        return ready

    def press_failed(self, surface_id: str, error: Exception) -> None:
        """A press could not be answered, by a mistake of the program: what its surface started ends, nothing else."""
        log.error("a press on %s failed: %r", surface_id, error, exc_info=error)
        now = self._ports.now()
        # As far as the player knows this has left.
        self.sender.send_rest()

        def meant(run: Run) -> bool:
            owner = run.owner
            answer = owner.answer if isinstance(owner, Trace) else None
            return run.surface == surface_id or (answer is not None and answer.surface.id == surface_id)
        self.control.stop_runs(meant)
        self.sender.release_rest(now)
        self._ports.problems.add(Problem(f"a press on “{surface_id}” could not be answered: {error!r}",
                                         hint="What this surface had started was ended; the log has the details"))

    def move(self, surface_id: str, signal: int, value: int, arrived: int) -> None:
        """What turns, slides or tilts reported something."""
        self._router.mover.move(surface_id, signal, value, arrived, self._ports.now(), self.sender.out)
        self._after_moves()

    def _after_moves(self) -> None:
        """Send and note what came of positions."""
        router = self._router
        if self.sender.out:
            self.sender.send(self._ports.now())
        if router.fresh or router.parts:
            self.take_fresh()

    def press(self, surface_id: str, code: int, value: int, arrived: int, node: str = "") -> Trace | None:
        """A control went down or up: answer it."""
        now = self._ports.now()
        trace = self._router.feed(surface_id, code, value, arrived, now, self.sender.out)
        if self.sender.out:
            self.sender.send(now)
        self._book(surface_id, code, value, trace, arrived, node)
        return trace

    def let_go(self, surface_id: str) -> None:
        """Release every control of a surface that went away."""
        now = self._ports.now()
        for code, trace in self._router.let_go_surface(surface_id, now, self.sender.out):
            if trace is not None:
                self._news.fresh.append(trace)
            self._news.lit.append((surface_id, code, 0, now))
        self.take_fresh()
        self.filters.forget(surface_id)
        if self.sender.out:
            self.sender.send(now)

    def _book(self, surface_id: str, code: int, value: int, trace: Trace | None, arrived: int, node: str) -> None:
        """Remember a press or a release, to be told later; do what it asks of the engine itself."""
        news, router = self._news, self._router
        if router.fresh:
            self.take_fresh()
        if trace is None and surface_id in router.resting:
            return
        news.lit.append((surface_id, code, value, arrived))
        if trace is not None:
            if node and value:
                trace.node = node
            news.fresh.append(trace)
            if value and trace.deed:
                self._do(trace)

    def take_fresh(self) -> None:
        """Gestures that were decided beside the press itself, and parts of what moves that were pressed or let go."""
        router = self._router
        if router.parts:
            self._news.lit.extend(router.parts)
            router.parts.clear()
        fresh, router.fresh = router.fresh, []
        for trace in fresh:
            self._news.fresh.append(trace)
            if trace.deed:
                self._do(trace)

    def _do(self, trace: Trace) -> None:
        if (deed := self.deeds.get(trace.deed)) is not None:
            deed(trace)
