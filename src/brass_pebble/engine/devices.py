"""Which device each surface has: taking over, losing, finding again."""

from __future__ import annotations

import time
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from brass_pebble.core.identity import DeviceFacts, DeviceRule, choose
from brass_pebble.inputs.base import Input, InputError
from brass_pebble.inputs.bench import BenchInput
from brass_pebble.inputs.listing import list_devices

from .logs import log

if TYPE_CHECKING:
    from .engine import Engine

MS = 1_000_000
SETTLE = 150 * MS
WAITS = "waits until its keys are let go"


@dataclass
class Holding:
    """A surface's device: its state is "taken", "waiting" (for its keys to be let go), "resting", "missing" or
    "refused"; `why` says more."""

    rule: DeviceRule
    state: str
    why: str = ""
    source: Input | None = None


class Devices:
    """The inputs of all surfaces."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.holdings: dict[str, Holding] = {}
        self._notify = None

    def present(self) -> list[DeviceFacts]:
        """All devices of the bench and of the machine."""
        real = list_devices() if self._engine.setup.real_devices else []
        return [*self._engine.setup.bench, *real]

    def take(self, present: list[DeviceFacts] | None = None) -> bool:
        """Take over what the desk names and is here; give back what it no longer names.  True if anything changed.

        `present` are the devices there are; they are listed here without it.
        """
        surfaces = self._engine.desk.surfaces
        before = self._states()
        for surface_id, holding in list(self.holdings.items()):
            surface = surfaces.get(surface_id)
            if surface is None or surface.rule != holding.rule:
                self._give_back(surface_id)
                del self.holdings[surface_id]
        waiting = [s for s in surfaces.values() if self.holdings.get(s.id) is None or not self.holdings[s.id].source]
        if present is None:
            present = self.present() if waiting else []
        taken = {h.source.facts.id: name for name, h in self.holdings.items() if h.source}
        for surface in waiting:
            facts, why = choose(surface.rule, present)
            if facts is None:
                self.holdings[surface.id] = Holding(surface.rule, "missing", why)
            elif facts.id in taken:
                self.holdings[surface.id] = Holding(
                    surface.rule, "refused", f"“{facts.name}” is already the surface “{taken[facts.id]}”")
            elif facts.full and not surface.may_be_only_keyboard and not any(
                    other.full and other.id not in taken and other.id != facts.id for other in present):
                self.holdings[surface.id] = Holding(
                    surface.rule, "refused", f"“{facts.name}” is the only full keyboard here, and you would be left "
                    "without one. If that is what you want, write may_be_only_keyboard = true")
            else:
                holding = self.holdings[surface.id] = self._open(surface.rule, facts)
                if holding.source:
                    taken[facts.id] = surface.id
                    self._engine.listen_to(surface.id, holding.source)
                    if surface.id in self._engine.router.resting:
                        self.rest(surface.id)
        return before != self._states()

    def _states(self) -> dict[str, tuple[str, str]]:
        return {name: (holding.state, holding.why) for name, holding in self.holdings.items()}

    def _open(self, rule: DeviceRule, facts: DeviceFacts) -> Holding:
        if facts.kind == "bench":
            return Holding(rule, "taken", "", BenchInput(facts))
        # The package is slow to import, and the bench can do without it.
        from brass_pebble.inputs.evdev_input import EvdevInput
        try:
            source = EvdevInput(facts)
        except InputError as error:
            log.warning("%s", error)
            return Holding(rule, "refused", str(error))
        log.info("took over %s at %s", facts.name, facts.port or facts.id)
        why = "" if source.state() == "taken" else WAITS
        return Holding(rule, source.state(), why, source)

    def rest(self, surface_id: str) -> None:
        """Let a surface type normally, as if it had never been taken over.

        It is read on only if one of its controls wakes it.
        """
        engine, holding = self._engine, self.holdings.get(surface_id)
        engine.router.resting.add(surface_id)
        if holding is None or holding.source is None:
            return
        engine.let_go(surface_id)
        holding.source.rest()
        holding.state, holding.why = "resting", "it types normally; wake it with s, or brass-pebble wake"
        if not engine.desk.surfaces[surface_id].can_wake_itself():
            for fileno in holding.source.filenos():
                engine.loop.forget(fileno)

    def wake(self, surface_id: str) -> None:
        """Let a surface command again."""
        engine, holding = self._engine, self.holdings.get(surface_id)
        engine.router.resting.discard(surface_id)
        if holding is None or holding.source is None or holding.state != "resting":
            return
        # The control that wakes it is down, and its release goes to other programs.
        engine.let_go(surface_id)
        try:
            holding.source.wake()
        except InputError as error:
            self._give_back(surface_id)
            self.holdings[surface_id] = Holding(holding.rule, "refused", str(error))
            return
        engine.listen_to(surface_id, holding.source)
        holding.state = holding.source.state()
        holding.why = "" if holding.state == "taken" else WAITS

    def toggle(self, surface_id: str) -> None:
        """Rest if awake, wake if resting."""
        (self.wake if surface_id in self._engine.router.resting else self.rest)(surface_id)
        self._engine.tell_desk()

    def check_state(self, surface_id: str) -> None:
        """An input that waited may have been taken by now."""
        holding = self.holdings.get(surface_id)
        if holding and holding.source and holding.state != holding.source.state():
            holding.state, holding.why = holding.source.state(), ""
            self._engine.tell_desk()

    def lost(self, surface_id: str, why: str) -> None:
        """A device was pulled out: release what it held, and wait for it."""
        log.info("surface %s lost its device: %s", surface_id, why)
        self._engine.let_go(surface_id)
        self._give_back(surface_id)
        rule = self._engine.desk.surfaces[surface_id].rule if surface_id in self._engine.desk.surfaces else DeviceRule()
        self.holdings[surface_id] = Holding(rule, "missing", "its device was pulled out; plug it in again")
        self._engine.tell_desk()
        self._look_again()

    def _give_back(self, surface_id: str) -> None:
        holding = self.holdings.get(surface_id)
        if holding and holding.source:
            self._engine.let_go(surface_id)
            for fileno in holding.source.filenos():
                self._engine.loop.forget(fileno)
            holding.source.close()
            holding.source = None

    def watch_for_changes(self) -> None:
        """Be told by the kernel of new devices and of changed desk files."""
        import inotify_simple
        flags = inotify_simple.flags
        self._notify = notify = inotify_simple.INotify(nonblocking=True)
        device_watch = -1
        if self._engine.setup.real_devices and Path("/dev/input").is_dir():
            device_watch = notify.add_watch("/dev/input", flags.CREATE | flags.ATTRIB | flags.DELETE)
        store = self._engine.store
        # A folder that is not there yet is seen to appear in the folder above it.
        for folder in (store.folder, store.folder / "macros", store.folder / "layouts", store.user_layouts):
            if folder and folder.is_dir():
                notify.add_watch(folder, flags.CLOSE_WRITE | flags.MOVED_TO | flags.MOVED_FROM | flags.DELETE
                                 | flags.CREATE)

        def ready(events: int) -> None:
            for event in notify.read(timeout=0):
                if event.wd == device_watch:
                    self._look_again()
                elif event.mask & flags.ISDIR and event.name in ("macros", "layouts"):
                    if (store.folder / event.name).is_dir():
                        notify.add_watch(store.folder / event.name, flags.CLOSE_WRITE | flags.MOVED_TO
                                         | flags.MOVED_FROM | flags.DELETE)
                    self._engine.reload_soon()
                elif (event.name.endswith((".toml", ".macro")) and not event.name.startswith(".")
                      and not event.mask & flags.CREATE):
                    self._engine.reload_soon()
        self._engine.loop.watch(notify.fileno(), ready)

    def _look_again(self) -> None:
        """Look for missing devices when the system has come to rest."""
        def found(present: object) -> None:
            if isinstance(present, list) and self.take(present):
                self._engine.tell_desk()
        # Listing reads hundreds of small files when there are many devices: not on the loop.
        self._engine.alarm("devices", time.monotonic_ns() + SETTLE,
                           lambda now: self._engine.worker.do(self.present, found))

    def close(self) -> None:
        """Give every device back."""
        for surface_id in list(self.holdings):
            self._give_back(surface_id)
        if self._notify is not None:
            self._engine.loop.forget(self._notify.fileno())
            self._notify.close()
