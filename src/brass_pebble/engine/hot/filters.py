"""Surfaces whose presses are not taken as they come: debounced, doubled, drawn or tried, or kept back for a moment.

Those that need none of it take the reader's fast lane.
"""

from __future__ import annotations

from brass_pebble.core.desk.action import RECORD, RECORD_KEYBOARD, STOP
from brass_pebble.core.desk.model import Surface
from brass_pebble.core.devices.double_reports import WINDOW
from brass_pebble.core.play.bounce import Debouncer
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.durations import MS, say_duration
from brass_pebble.core.signals.keys import key_table
from brass_pebble.engine.clients.news import News
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.devices.set_aside import SetAside
from brass_pebble.engine.ports import Ports, PressPath
from brass_pebble.engine.runs.questions import Questions
from brass_pebble.engine.runs.recorder import Recorder
from brass_pebble.kinds.inputs.bystanders import Bystanders

LOOK_EVERY = 8 * MS


class Filters:
    """`waiting` are events kept back: surface, code, value, arrival, node."""

    devices: Devices
    aside: SetAside
    recorder: Recorder
    news: News
    bystanders: Bystanders
    path: PressPath
    questions: Questions

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        self.debouncers: dict[str, Debouncer] = {}
        self.waiting: list[tuple[str, int, int, int, str]] = []
        self._until = 0
        self._seconds: dict[str, tuple[int, int]] = {}
        self._latest: dict[str, Trace] = {}

    def set_debounce(self, surface: Surface) -> None:
        """Debounce a surface as its desk says now."""
        if not surface.debounce:
            self.debouncers.pop(surface.id, None)
        elif surface.id not in self.debouncers or self.debouncers[surface.id].time != surface.debounce:
            self.debouncers[surface.id] = Debouncer(surface.debounce)

    def forget(self, surface_id: str) -> None:
        """A surface's device went away, or its controls were let go."""
        if debouncer := self.debouncers.get(surface_id):
            debouncer.forget()

    def drop_waiting(self) -> None:
        """Everything stops: what waits is not played afterwards."""
        self.waiting.clear()

    def stand_between(self, surface: Surface) -> bool:
        """Whether anything of this surface is not taken as it comes."""
        return bool(surface.second or surface.debounce or self.aside.holds(surface.id) or self.recorder.busy
                    or self.questions.counts_digits(surface.id))

    # A modifier that is held on the main keyboard would change what is sent: a press waits a moment for its release.

    def hold_back(self, surface_id: str, code: int, value: int, arrived: int, node: str) -> None:
        """Keep an event back until the main keyboard's modifiers are up, or the desk's patience is over."""
        now = self._ports.now()
        if not self.waiting:
            self._until = now + self._ports.desk.patience
            self._ports.alarms.at("modifiers", now + LOOK_EVERY, self._look_at_modifiers)
        self.waiting.append((surface_id, code, value, arrived, node))

    def _look_at_modifiers(self, now: int) -> None:
        mixed = self.bystanders.modifiers()
        if mixed and now < self._until:
            self._ports.alarms.at("modifiers", now + LOOK_EVERY, self._look_at_modifiers)
            return
        waiting = list(self.waiting)
        self.waiting.clear()
        names = "+".join(key_table().name(code) for code in mixed)
        for surface_id, code, value, arrived, node in waiting:
            if surface_id not in self._ports.desk.surfaces:
                continue
            trace = self.arrive(surface_id, code, value, arrived, node)
            if trace is not None and value:
                trace.remark(f"{names} was held on the main keyboard and got mixed in" if mixed else
                             f"waited {say_duration(now - arrived)} until the main keyboard's modifiers were up")

    def move(self, surface_id: str, signal: int, value: int, arrived: int, node: str = "") -> None:
        """Something moved on a surface that is looked at carefully, or on the bench."""
        if self.aside.holds(surface_id):
            self.aside.move(surface_id, signal, value, arrived, node)
        else:
            self.path.move(surface_id, signal, value, arrived)

    def arrive(self, surface_id: str, code: int, value: int, arrived: int, node: str = "") -> Trace | None:
        """A control went down or up on a surface that is looked at carefully, or on the bench."""
        if self.aside.holds(surface_id):
            return self.aside.press(surface_id, code, value, arrived, node)
        surface = self._ports.desk.surfaces[surface_id]
        if code in surface.second:
            if value:
                self._seconds[surface_id] = (code, arrived)
                if (latest := self._latest.get(surface_id)) and arrived - latest.arrived <= WINDOW:
                    self._tell_second(latest, code)
            return None
        if value and self.recorder.chooses and not self._keeps_its_meaning(surface_id, code) and \
                self.recorder.take_target(surface_id, surface.control_of(code)):
            return None
        if not self._keeps_its_meaning(surface_id, code) and (
                counted := self.questions.take(surface_id, code, value)):
            self._account(surface_id, code, value, arrived, counted)
            return None
        debouncer = self.debouncers.get(surface_id)
        if debouncer is not None and not debouncer.feed(code, value, arrived):
            return None
        trace = self.path.press(surface_id, code, value, arrived, node)
        if trace is not None and value:
            self._latest[surface_id] = trace
            second, at = self._seconds.pop(surface_id, (0, 0))
            if second and arrived - at <= WINDOW:
                self._tell_second(trace, second)
        return trace

    def _account(self, surface_id: str, code: int, value: int, arrived: int, why: str) -> None:
        """A press that was part of an answer has a trace, too."""
        self.news.lit.append((surface_id, code, value, arrived))
        trace = self._ports.router.account(surface_id, code, arrived, self._ports.now(), why) if value else None
        if trace is not None:
            self.news.fresh.append(trace)

    def _keeps_its_meaning(self, surface_id: str, code: int) -> bool:
        """Whether a control ends what goes on, and so cannot be chosen to play it."""
        return any(self._ports.router.does(surface_id, code, deed) for deed in (RECORD, RECORD_KEYBOARD, STOP))

    def _tell_second(self, trace: Trace, code: int) -> None:
        trace.remark(f"it arrived twice; {key_table().name(code)} was dropped")
        self.news.touch(trace)

    def believe_releases(self, now: int) -> None:
        """Releases that have lasted count now."""
        for surface_id, debouncer in self.debouncers.items():
            for code in debouncer.advance(now):
                ignored = debouncer.ignored.get(code, 0)
                trace = self.path.press(surface_id, code, 0, now)
                if trace is not None and ignored:
                    trace.remark(f"{ignored} {'bounce' if ignored == 1 else 'bounces'} ignored, the release believed "
                                 f"after {say_duration(debouncer.time)}")
