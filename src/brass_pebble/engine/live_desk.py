"""The desk in use: read at the start and whenever its files change; everybody who depends on it follows."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

from brass_pebble import file_access
from brass_pebble.core.desk.look.lettered import notice
from brass_pebble.core.desk.model import Desk
from brass_pebble.core.play.router import Router
from brass_pebble.core.say.durations import MS
from brass_pebble.core.say.problem import Problem
from brass_pebble.kinds.outputs.base import Output

from .clients.problems import ProblemList
from .devices.ownership import Devices
from .disk.store import DeskStore, Loaded
from .logs import log
from .ports import Ports
from .runs.control import Control
from .runs.errands import stays_notice
from .setup import Setup

# What is told once: that chords mean letters, and that a program that is run does not stay.
LETTERS, STARTS = "letters", "start"
# A shell that is to leave a program behind.
IN_THE_BACKGROUND = re.compile(r'^ *run +shell +".*& *"', re.MULTILINE)
REST = 60 * MS
Call = Callable[[], object]


def first_desk(store: DeskStore, router: Router, seen: Callable[[Desk], Desk]) -> Loaded:
    """The desk to begin with, as `seen` makes it: an empty one and a sentence if nothing else can be had."""
    try:
        loaded = store.load()
        loaded = replace(loaded, desk=seen(loaded.desk))
        router.load(loaded.desk)
        return loaded
    except Exception as error:
        log.error("the desk could not be read: %r", error, exc_info=error)
        problem = Problem(f"the desk cannot be used: {error!r}", str(store.file),
                          hint="Take back what was changed last: brass-pebble desk history lists it")
        router.load(Desk())
        return Loaded(Desk(), [problem], ok=False)


class DeskInUse:
    """`followers` are called with another desk, `connected` afterwards, whether it could be used or not; `told` when
    clients have been told."""

    control: Control
    devices: Devices
    setup: Setup
    rows: Callable[[], Any]
    followers: Sequence[Call] = ()
    connected: Sequence[Call] = ()
    told: Sequence[Call] = ()

    def __init__(self, ports: Ports, store: DeskStore, problems: ProblemList, output: Output) -> None:
        self._ports, self._store, self._problems, self._output = ports, store, problems, output

    def reload_soon(self) -> None:
        """The desk's files changed: read them when the writing has come to rest."""
        self._ports.alarms.at("reload", self._ports.now() + REST,
                              lambda now: self._ports.worker.do(self._store.reload, self.take_loaded))

    def take_loaded(self, result: object) -> None:
        """A desk was read on the worker: use it, or keep the last good one.  None: nothing has changed."""
        if result is None:
            return
        if not isinstance(result, Loaded):
            log.error("reading the desk failed: %r", result)
            self._problems.add(Problem(f"the desk could not be read: {result}", hint="The desk before keeps running"))
            return
        result = replace(result, desk=self.setup.seen(result.desk))
        if result.ok and not self._use(result):
            return
        self._problems.of_desk(result.problems)
        self.tell_of_old_desk()
        for call in self.connected:
            call()
        self.tell_desk()
        self.settle()

    def _use(self, result: Loaded) -> bool:
        router, before = self._ports.router, self._ports.desk
        if result.desk.places != before.places:
            # Another keyboard layout: what is down goes up under the one under which it went down.
            self.control.stop_all()
            self._output.use(result.desk.places)
        try:
            router.load(result.desk)
        except Exception as error:
            log.error("the desk cannot be used: %r", error, exc_info=error)
            router.load(before)
            self._problems.add(Problem(f"the desk cannot be used as it is now: {error!r}", "desk.toml",
                                       hint="The desk before keeps running"))
            return False
        lost = router.lost_latches()
        self.control.stop_runs(lambda run: run in lost)
        for call in self.followers:
            call()
        if result.desk.output != before.output:
            result.problems.append(Problem(
                f"the output is now “{result.desk.output}”, but “{before.output}” stays in use", "desk.toml",
                hint="End the engine and start it again"))
        return True

    def settle(self) -> None:
        """Let the store do what can wait, on the worker."""
        def done(result: object) -> None:
            if result is True:
                self.reload_soon()
            if isinstance(result, Exception):
                log.error("the desk's history could not be kept: %r", result)
                if self._store.not_kept is None:
                    self._problems.add(Problem(f"the desk's history could not be kept: {file_access.say(result)}",
                                               hint="The desk works all the same; see whether the disk is writable"))
        self._ports.worker.do(self._store.settle, done)

    def tell_of_old_desk(self) -> None:
        """What the person has to know of a desk that was made before, and need not be told again."""
        told, desk = self.devices.memory.told, self._ports.desk
        if LETTERS not in told and (problem := notice(desk)) is not None:
            self.tell_once(LETTERS, problem)
        if STARTS in told:
            return
        for macro in desk.macros.values():
            if (found := IN_THE_BACKGROUND.search(macro.source)) is not None:
                line = macro.source.count("\n", 0, found.start()) + 1
                self.tell_once(STARTS, stays_notice(f"macros/{macro.id}.macro", line))

    def tell_once(self, word: str, problem: Problem) -> None:
        """Tell something that has to be said a single time, ever; `word` is what it is remembered by."""
        told = self.devices.memory.told
        if word not in told:
            told.add(word)
            self.devices.remember()
            self._problems.notice(problem)

    def tell_desk(self) -> None:
        """Tell clients of the desk and of the devices as they are now."""
        if self._ports.publisher.wanted("desk"):
            self._ports.publisher.publish("desk", {"desk": self.rows()})
        self._problems.tell()
        for call in self.told:
            call()
