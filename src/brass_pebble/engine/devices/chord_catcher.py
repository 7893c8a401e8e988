"""Listens for one chord on the main keyboard, held back from all other programs for that moment."""

from __future__ import annotations

from collections.abc import Callable

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.play.chord_catch import LISTENING, ChordCatch
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Ports
from brass_pebble.kinds.inputs.base import DeviceGone, Input, InputError
from brass_pebble.protocol.errors import NoKeyboard

SECONDS = 10.0
# After the chord, its keys are waited for to come up, so that no other program sees half of it.
MOST_WAITING = 3.0
NAME = "chord"


class ChordCatcher:
    """One catch at a time, for one client; `sources` are the keyboards that are taken for it."""

    devices: Devices

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        self._catch: ChordCatch | None = None
        self._client = 0
        self._bench: set[str] = set()
        self.sources: list[Input] = []

    def begin(self, client: int) -> dict[str, object]:
        """Take the keyboards that are no surfaces, for ten seconds at most.

        Raises:
            Refusal: there is none that may be taken.
        """
        self.end("left")
        keyboards = [facts for facts in self.devices.here if facts.full and not self.devices.owner(facts.id)]
        troubles = []
        for facts in keyboards:
            if self.devices.kind_of(facts).simulated:
                self._bench.add(facts.id)
                continue
            try:
                self._take(facts)
            except InputError as error:
                troubles.append(str(error))
        if not self.sources and not self._bench:
            why = troubles[0] if troubles else "there is no keyboard here besides the surfaces"
            raise NoKeyboard(f"no chord can be listened for: {why}", "Type the chord as text, like Ctrl+Alt+F4")
        self._catch, self._client = ChordCatch(), client
        self._ports.alarms.at(NAME, self._ports.now() + int(SECONDS * 1e9), lambda now: self.end("over"))
        self._tell("listening")
        return {"seconds": SECONDS, "keyboards": [facts.shown for facts in keyboards],
                "bench_only": not self.sources}

    def _take(self, facts: DeviceFacts) -> None:
        source = self.devices.kind_of(facts).open(facts, (facts,), None)
        self.sources.append(source)
        for fileno in source.filenos():
            self._ports.loop.watch(fileno, self._reader(source, fileno))

    def _reader(self, source: Input, fileno: int) -> Callable[[int], None]:
        def ready(events: int) -> None:
            try:
                for code, value, _ in source.read(fileno):
                    self._feed(code, value)
                    if self._catch is None:
                        return
            except DeviceGone as gone:
                log.info("the keyboard that was listened to is gone: %s", gone)
                self.end("left")
        return ready

    def nodes(self) -> list[str]:
        """The nodes that are listened to."""
        return [node for source in self.sources for node in source.facts.nodes]

    def hear_bench(self, device: str, code: int, value: int) -> bool:
        """A key of a keyboard of the bench; true if it belongs to the chord, and to nobody else."""
        if self._catch is None or device not in self._bench:
            return False
        self._feed(code, value)
        return True

    def _feed(self, code: int, value: int) -> None:
        catch = self._catch
        if catch is None:
            return
        before = catch.state
        state = catch.feed(self._ports.desk.places.name(code), value)
        if catch.over:
            self.end(state)
        elif state != before:
            # Decided; its keys are still down.
            self._ports.alarms.at(NAME, self._ports.now() + int(MOST_WAITING * 1e9), lambda now: self.end(state))
            self._tell(state)
        elif state == LISTENING:
            self._tell(state)

    def _tell(self, state: str) -> None:
        from brass_pebble.core.signals.keys import key_table
        catch = self._catch
        names = key_table()
        self._ports.publisher.publish("chord", {
            "state": state, "chord": str(catch.chord) if catch and catch.chord else "",
            "down": [names.name(code) for code in catch.down] if catch else []})

    def end(self, state: str) -> None:
        """Give the keyboards back; `state` is told if anything was going on."""
        if self._catch is None and not self.sources:
            return
        self._ports.alarms.cancel(NAME)
        for source in self.sources:
            for fileno in source.filenos():
                self._ports.loop.forget(fileno)
            source.close()
        self.sources, self._bench = [], set()
        if self._catch is not None:
            caught = self._catch.chord is not None
            self._tell("done" if caught else state)
        self._catch = None

    def client_left(self, client: int) -> None:
        """Whoever wanted it has gone."""
        if client == self._client:
            self.end("left")
