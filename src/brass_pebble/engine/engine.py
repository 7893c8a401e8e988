"""The engine: joins inputs, router, player and outputs, and tells clients what happens.

The order of work matters.  A press is read, routed and sent first; only then is its trace noted; only then do
clients hear of it, and never while a step is about to be due.
"""

from __future__ import annotations

import contextlib
import re
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from brass_pebble.core.desk.action import RECORD, RECORD_KEYBOARD, REST, STOP
from brass_pebble.core.desk.look.lettered import notice
from brass_pebble.core.desk.model import Desk
from brass_pebble.core.effects.pointer import WIDE
from brass_pebble.core.macro import Macro, Program
from brass_pebble.core.play.player import Effect, Manner, Player, Run
from brass_pebble.core.play.router import Router
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.durations import say_duration
from brass_pebble.core.say.problem import Problem
from brass_pebble.core.signals.keys import key_table
from brass_pebble.core.signals.signal import MOVING
from brass_pebble.kinds.inputs.base import DeviceGone, Input
from brass_pebble.kinds.inputs.bench import Bench
from brass_pebble.kinds.inputs.bystanders import Bystanders
from brass_pebble.kinds.outputs.base import Output, OutputError, OutputLost
from brass_pebble.kinds.outputs.stage import StageOutput

from .clients.news import News
from .clients.server import Client, Server
from .devices.chord_catcher import ChordCatcher
from .devices.focus import Focus
from .devices.grips import Grips
from .devices.lamps import Answers
from .devices.meeting import Meet
from .devices.memory import Memory
from .devices.network import Network
from .devices.ownership import Devices
from .devices.set_aside import SetAside
from .disk.desk_watch import DeskWatch
from .disk.history import Historian
from .disk.store import DeskStore, Loaded
from .hot.filters import Careful
from .hot.message_sender import Messages
from .logs import log
from .loop import Loop, Worker
from .runs.bench_presses import Hands
from .runs.errands import Errands, stays_notice
from .runs.recorder import Recorder
from .runs.script import Script

MS = 1_000_000
# A shorter suspend than this is none, in ns.
SUSPENDED = 50 * MS
# What is told once: that chords mean letters, and that a program that is run does not stay.
LETTERS, STARTS = "letters", "start"
# A shell that is to leave a program behind.
IN_THE_BACKGROUND = re.compile(r'^ *run +shell +".*& *"', re.MULTILINE)


@dataclass
class Setup:
    """How an engine is to run: its desk, the bench's devices, the stage's programs, the class it can play, and the
    files in which it remembers devices and counts presses."""

    store: DeskStore
    socket: Path
    open_output: Callable[[Desk], Output]
    bench: Bench = field(default_factory=Bench)
    real_devices: bool = True
    script: Script | None = None
    until_left: bool = False
    may_lack_output: bool = False
    known: Path | None = None
    stage: Path | None = None
    history: Path | None = None


class Engine:
    """One running desk."""

    def __init__(self, setup: Setup) -> None:
        self.setup = setup
        self.store = setup.store
        self.loop = Loop(self._deadline, self._on_time, self._after, self._panic, self.mishap)
        self.worker = Worker(self.loop)
        self.player = Player(self._run_ended, self._start_dropped)
        self.router = Router(self.player)
        self.news = News(self)
        self.problems: list[Problem] = []
        self._out: list[Effect] = []
        self._alarms: dict[str, tuple[int, Callable[[int], object]]] = {}
        self.hands = Hands(self)
        self._was_visited = False
        # How far the clock that counts suspends is ahead of the engine's.
        self._ahead = time.clock_gettime_ns(time.CLOCK_BOOTTIME) - time.monotonic_ns()
        # What is told until the engine ends: what is wrong with it, and what the person should know.
        self._standing: list[Problem] = []
        self._notices: list[Problem] = []
        loaded = self._first_desk()
        self.problems = loaded.problems
        # With a desk that cannot be read, the person has to be told so, even where nothing could be sent.
        self.setup.may_lack_output |= not loaded.ok
        self.output = self._open_output(loaded.desk)
        self.output.use(loaded.desk.places)
        self.network = Network(self)
        self.messages = Messages(self)
        self.answers = Answers(self)
        self.memory = Memory(setup.known)
        self.memory.read()
        self.devices = Devices(self)
        self.router.on_layers = self.devices.share
        self.meet = Meet(self)
        self.aside = SetAside(self)
        self.grips = Grips(self)
        self.errands = Errands(self)
        self.recorder = Recorder(self)
        self.bystanders = Bystanders()
        self.router.caps_lock = self.bystanders.caps_lock
        self.careful = Careful(self)
        self.focus = Focus(self)
        self.historian = Historian(self, setup.history)
        self.chord_catcher: ChordCatcher
        # Imported here, since it speaks of this class.
        from .clients.requests import Requests
        self.requests = Requests(self)
        self.server_ready = False
        self.server = Server(setup.socket, self.loop, self.requests.take, self._client_left, self.requests.hello)
        self.server_ready = True
        self.server.later = lambda wait, call: self.later("greetings", wait, call)
        self._tell_once()
        # From here on it can be spoken to, whatever goes wrong with one part.
        for call in (self.network.follow, self.messages.follow, self.devices.take, self.devices.watch_for_changes):
            self._try(call)
        self._desk_watch = DeskWatch(self.store.folder, tuple(filter(None, (self.store.user_layouts,))),
                                     self.reload_soon)
        self.loop.watch(self._desk_watch.fileno, self._desk_watch.ready)
        for call in (self.meet.follow, self.follow_bystanders, self.focus.follow):
            self._try(call)
        self._settle()

    def _first_desk(self) -> Loaded:
        """The desk to begin with: an empty one and a sentence if nothing else can be had."""
        try:
            loaded = self.store.load()
            self.router.load(loaded.desk)
            return loaded
        except Exception as error:
            log.error("the desk could not be read: %r", error, exc_info=error)
            problem = Problem(f"the desk cannot be used: {error!r}", str(self.store.file),
                              hint="Take back what was changed last: brass-pebble desk history lists it")
            self.router.load(Desk())
            return Loaded(Desk(), [problem], ok=False)

    def _try(self, call: Callable[[], object]) -> None:
        """A part that cannot begin keeps no other from it."""
        try:
            call()
        except Exception as error:
            self.mishap(error)

    def mishap(self, error: Exception) -> None:
        """Something beside the way of a press failed: it is told, and everything goes on."""
        log.error("unexpected: %r", error, exc_info=error)
        self.add_problem(Problem(f"something unexpected happened: {error!r}",
                                 hint="Everything else goes on; the log has the details"))

    def _settle(self) -> None:
        """Let the store do what can wait, on the worker."""
        def done(result: object) -> None:
            if isinstance(result, Exception):
                log.error("the desk's history could not be kept: %r", result)
                self.add_problem(Problem(f"the desk's history could not be kept: {result}",
                                         hint="The desk works all the same; see whether the disk is writable"))
        self.worker.do(self.store.settle, done)

    # Whether there is no way to send anything.
    sends_nothing = False

    def _open_output(self, desk: Desk) -> Output:
        try:
            return self.setup.open_output(desk)
        except OutputError as error:
            if not self.setup.may_lack_output:
                raise
            # A surface that could send nothing would only be a dead device: none is taken over.
            self.setup.real_devices, self.sends_nothing = False, True
            self._standing = [Problem(f"nothing can be sent, so no device is taken over: {error}")]
            self.problems = [*self._standing, *self.problems]
            return StageOutput({})

    @property
    def wall_offset(self) -> int:
        """What to add to the engine's clock, in ns, for the time of day; it changes with every suspend."""
        return time.time_ns() - time.monotonic_ns()

    @property
    def desk(self) -> Desk:
        """The desk in use."""
        return self.router.desk

    def run(self) -> None:
        """Serve until `quit`; afterwards nothing is down and nothing is grabbed."""
        try:
            self.loop.run()
        finally:
            self._release_all()

    def quit(self) -> None:
        """End after this round of the loop."""
        self.loop.stop()

    def _release_all(self) -> None:
        out: list[Effect] = []
        try:
            self.player.stop_all(time.monotonic_ns(), out)
            if out:
                self.messages.send(out, time.monotonic_ns())
            self.answers.darken()
        except Exception as error:
            log.error("could not end in order: %r", error)
        # What people wait for first: nothing goes on, and every device is theirs again.
        for call in (self.errands.stop, lambda: self.chord_catcher.end("left"), self.meet.close, self.recorder.close,
                     self.devices.close, self.output.close, self.messages.close, self.bystanders.close,
                     self.focus.close, self._desk_watch.close, self.network.close, self.errands.close,
                     self.historian.close, self.server.close, self.worker.close, self.loop.close, self.store.keep):
            try:
                call()
            except Exception as error:
                log.error("could not end in order: %r", error, exc_info=error)

    # The hot path: from a descriptor to the output, then the notes.

    def listen_to(self, surface_id: str, source: Input) -> None:
        """Route what arrives from an input, as its surface wants it now."""
        surface = self.desk.surfaces[surface_id]
        self.careful.set_debounce(surface)
        careful = bool(surface.second or surface.debounce or self.aside.holds(surface_id) or self.recorder.busy)
        make = self.careful.reader if careful else self._reader
        for fileno in source.filenos():
            self.loop.watch(fileno, make(surface_id, source, fileno), hot=True)

    def _reader(self, surface_id: str, source: Input, fileno: int) -> Callable[[int], None]:
        feed, sure_first, clock = self.router.feed, self.router.sure_first, time.monotonic_ns
        modifiers = self.bystanders.modifiers if self.desk.patience else tuple
        waiting = self.careful.waiting
        node, turned, stale_after = source.node(fileno), self.grips.turned, self.router.stale_after

        def ready(events: int) -> None:
            try:
                arrived_events = source.read(fileno)
            except DeviceGone as gone:
                self.devices.lost(surface_id, str(gone))
                return
            except Exception as error:
                self.devices.cannot_be_read(surface_id, error)
                return
            moved = False
            for code, value, arrived in arrived_events:
                if code >= MOVING:
                    self.router.mover.move(surface_id, code, value, arrived, clock(), self._out)
                    if surface_id in turned:
                        self.grips.move(surface_id, code, value, arrived)
                    moved = True
                    continue
                if moved:
                    # What moved before goes out before.
                    self._after_moves()
                    moved = False
                if ((waiting and not self.router.does(surface_id, code, STOP))
                        or (value and modifiers() and self.router.sends(surface_id, code))):
                    self.careful.hold_back(surface_id, code, value, arrived, "")
                    continue
                # A press from a rest has found its way to the output before anything is noted about it.
                now = clock()
                first = sure_first(surface_id, code) if value and now - arrived < stale_after else ()
                if first and self.output.press(first):
                    sent_at = clock()
                else:
                    first = ()
                out = self._out
                try:
                    trace = feed(surface_id, code, value, arrived, now, out)
                except Exception as error:
                    # No run may know of the keys sent ahead, so nobody else would release them.
                    self._take_back(first, now)
                    self.press_failed(surface_id, error)
                    continue
                if first:
                    if [effect[0] for effect in out[:len(first)]] == [*first]:
                        self.news.unnoted.append((sent_at, out[:len(first)]))
                        del out[:len(first)]
                    else:
                        log.error("sent ahead %s, but %s was played", first, out[:len(first)])
                        self._take_back(first, now)
                if out:
                    self._send(now)
                self._book(surface_id, code, value, trace, arrived, node)
            if moved:
                self._after_moves()
            if not arrived_events:
                self.devices.check_state(surface_id)
        return ready

    def press_failed(self, surface_id: str, error: Exception) -> None:
        """A press could not be answered, by a mistake of the program: what its surface started ends, nothing else."""
        log.error("a press on %s failed: %r", surface_id, error, exc_info=error)
        now = time.monotonic_ns()
        if self._out:
            # As far as the player knows this has left.
            self._send(now)

        def meant(run: Run) -> bool:
            owner = run.owner
            answer = owner.answer if isinstance(owner, Trace) else None
            return run.surface == surface_id or (answer is not None and answer.surface.id == surface_id)
        self.stop_runs(meant)
        self._release_rest(now)
        self.add_problem(Problem(f"a press on “{surface_id}” could not be answered: {error!r}",
                                 hint="What this surface had started was ended; the log has the details"))

    def _take_back(self, codes: tuple[int, ...], now: int) -> None:
        """Release keys that were sent down and belong to no run."""
        unknown = Run(0, Program(), now, None, None)
        self.output.send([(code, 0, now, unknown) for code in reversed(codes)], now)

    def send_rest(self) -> None:
        """Send what a request that failed has left: the player counts on its having gone out."""
        if self._out:
            self._send(time.monotonic_ns())

    def _release_rest(self, now: int) -> None:
        """Every run has ended: what the output still has down belongs to nobody and is released."""
        left = self.output.left_down()
        if left and not self.player.down:
            log.error("nobody released %s", left)
            with contextlib.suppress(OSError):
                self._take_back(tuple(reversed(left)), now)

    def move(self, surface_id: str, signal: int, value: int, arrived: int) -> None:
        """What turns, slides or tilts reported something."""
        self.router.mover.move(surface_id, signal, value, arrived, time.monotonic_ns(), self._out)
        self._after_moves()

    def _after_moves(self) -> None:
        """Send and note what came of positions."""
        router = self.router
        if self._out:
            self._send(time.monotonic_ns())
        if router.fresh or router.parts:
            self._take_fresh()

    def press(self, surface_id: str, code: int, value: int, arrived: int, node: str = "") -> Trace | None:
        """A control went down or up: answer it."""
        now = time.monotonic_ns()
        trace = self.router.feed(surface_id, code, value, arrived, now, self._out)
        if self._out:
            self._send(now)
        self._book(surface_id, code, value, trace, arrived, node)
        return trace

    def _book(self, surface_id: str, code: int, value: int, trace: Trace | None, arrived: int, node: str) -> None:
        """Remember a press or a release, to be told later; do what it asks of the engine itself."""
        news, router = self.news, self.router
        if router.fresh:
            self._take_fresh()
        if trace is None and surface_id in router.resting:
            return
        news.lit.append((surface_id, code, value, arrived))
        if trace is not None:
            if node and value:
                trace.node = node
            news.fresh.append(trace)
            if value and trace.deed:
                self._do_deed(trace)

    def _take_fresh(self) -> None:
        """Gestures that were decided beside the press itself, and parts of what moves that were pressed or let go."""
        if self.router.parts:
            self.news.lit.extend(self.router.parts)
            self.router.parts.clear()
        fresh, self.router.fresh = self.router.fresh, []
        for trace in fresh:
            self.news.fresh.append(trace)
            if trace.deed:
                self._do_deed(trace)

    def _do_deed(self, trace: Trace) -> None:
        if trace.deed == REST and trace.answer is not None:
            self.devices.toggle(trace.answer.surface.id)
        elif trace.deed in (RECORD, RECORD_KEYBOARD):
            self.recorder.toggle(trace, keyboard=trace.deed == RECORD_KEYBOARD)
        elif trace.deed == STOP:
            self.careful.drop_waiting()
            self._release_rest(time.monotonic_ns())
            self.errands.end_helpers()
            self.recorder.cancel("everything was stopped")

    def play(self, macro: Macro, origin: str, values: dict[str, int] | None = None) -> Trace:
        """Play a macro for a client, with the values that it gave."""
        now = time.monotonic_ns()
        trace = self.router.new_trace(now, now, origin)
        trace.spoken = f"“{macro.name}”"
        self.router.play_macro(trace, macro, now, self._out, values)
        if self._out:
            self._send(now)
        self.news.fresh.append(trace)
        return trace

    def play_program(self, program: Program, words: str, origin: str, manner: Manner) -> Trace:
        """Play keys that no binding and no macro plays, for a client."""
        now = time.monotonic_ns()
        trace = self.router.new_trace(now, now, origin)
        trace.spoken = words
        self.router.play(trace, program, manner, None, now, self._out)
        if self._out:
            self._send(now)
        self.news.fresh.append(trace)
        return trace

    def stop_all(self) -> int:
        """End every run and the class, release everything.  Returns the number of runs ended."""
        self.hands.stop_script()
        self.careful.drop_waiting()
        self.router.drop_gestures()
        now, count = time.monotonic_ns(), len(self.player.runs)
        try:
            self.player.stop_all(now, self._out)
            if self._out:
                self._send(now)
            self._release_rest(now)
        except Exception as error:
            # To stop has to work, whatever is wrong.
            self._panic(error)
        self.errands.end_helpers()
        self.recorder.cancel("everything was stopped")
        return count

    def answer_run(self, run: Run, answer: object) -> None:
        """What a run asked of the world is known now: it goes on."""
        now = time.monotonic_ns()
        self.player.answer(run, answer, now, self._out)
        if self._out:
            self._send(now)

    def stop_runs(self, meant: Callable[[Run], bool]) -> int:
        """End the runs that are meant.  Returns how many."""
        now = time.monotonic_ns()
        runs = [run for run in self.player.runs.values() if meant(run)]
        for run in reversed(runs):
            self.player.stop(run, now, self._out)
        if self._out:
            self._send(now)
        return len(runs)

    def let_go(self, surface_id: str) -> None:
        """Release every control of a surface that went away."""
        now = time.monotonic_ns()
        for code, trace in self.router.let_go_surface(surface_id, now, self._out):
            if trace is not None:
                self.news.fresh.append(trace)
            self.news.lit.append((surface_id, code, 0, now))
        self._take_fresh()
        self.careful.forget(surface_id)
        if self._out:
            self._send(now)

    def stop_runs_of(self, surface_id: str) -> None:
        """End the runs that a surface's presses started, since its device is gone."""
        def meant(run: Run) -> bool:
            if run.surface == surface_id and isinstance(run.owner, Trace):
                run.owner.remark("its device was pulled out")
            return run.surface == surface_id
        self.stop_runs(meant)

    def stop_latches_of(self, surface_id: str) -> None:
        """Let go what a surface's controls latched down, since they cannot do it themselves any more."""
        self.stop_runs(lambda run: run.latched and run.surface == surface_id)

    def _send(self, now: int) -> None:
        out = self._out
        self._out = []
        try:
            if any(effect[0] >= WIDE for effect in out):
                self.messages.send(out, now)
            else:
                self.output.send(out, now)
        except OSError as error:
            log.error("the output failed: %s", error)
            self.player.stop_all(now, [])
            self.add_problem(Problem(f"what was sent did not arrive: {error.strerror}",
                                     hint=error.hint if isinstance(error, OutputLost) else
                                     "Every run was stopped. End the engine and start it again"))
        sent_at = time.monotonic_ns()
        if self.recorder.busy:
            self.recorder.note(out, sent_at)
        self.news.unnoted.append((sent_at, out))

    def _on_time(self, now: int) -> None:
        self._notice_sleep()
        if self.router.recognising:
            self._decide_gestures(now)
        self.player.advance(now, self._out)
        if self._out:
            self._notice_mixing(now)
            self._send(now)
        if self.careful.debouncers:
            self.careful.believe_releases(now)
        self.output.advance(now)
        if self.news.due is not None and self.news.due <= now:
            self.news.due = None
            self._ring(self.news.tell, now)
        for name, (when, call) in list(self._alarms.items()):
            if when <= now:
                self._alarms.pop(name, None)
                self._ring(call, now)

    def _ring(self, call: Callable[[int], object], now: int) -> None:
        """An alarm that fails concerns nobody else."""
        try:
            call(now)
        except Exception as error:
            self.mishap(error)

    def _notice_mixing(self, now: int) -> None:
        """A modifier that is held on the main keyboard in the middle of a text changes what is typed: it is told."""
        for _, value, _, run in self._out:
            if not (value and run.types):
                continue
            mixed = tuple(code for code in self.bystanders.modifiers() if code not in run.mixed)
            if mixed and isinstance(run.owner, Trace):
                run.mixed += mixed
                names = "+".join(key_table().name(code) for code in mixed)
                run.owner.remark(f"{names} was held on the main keyboard after {say_duration(now - run.start)} and got "
                                 "mixed in")
                self.news.touch(run.owner)
            return

    def _notice_sleep(self) -> None:
        """After a suspend, of which the engine's clock knows nothing, runs do not go on as if nothing had been."""
        now = time.monotonic_ns()
        ahead = time.clock_gettime_ns(time.CLOCK_BOOTTIME) - now
        lost, self._ahead = ahead - self._ahead, ahead
        if lost > SUSPENDED:
            log.info("the computer was suspended for %.1f s", lost / 1e9)
            self.player.slept(lost, now, self._out)

    def _decide_gestures(self, now: int) -> None:
        """Gestures whose time is over.  What has arrived meanwhile comes first: it may be the release in time."""
        due = self.router.next_deadline()
        if due is None or due > now:
            return
        self.loop.serve_ready()
        self.router.advance(now, self._out)
        if self._out:
            self._send(now)
        self._take_fresh()

    def _deadline(self) -> int | None:
        dues = [when for when, _ in self._alarms.values()]
        for debouncer in self.careful.debouncers.values():
            if (lasted := debouncer.next_deadline()) is not None:
                dues.append(lasted)
        for due in (self.player.next_deadline(), self.output.next_deadline(), self.news.due,
                    self.router.next_deadline() if self.router.recognising else None):
            if due is not None:
                dues.append(due)
        return min(dues) if dues else None

    def alarm(self, name: str, when: int, call: Callable[[int], object]) -> None:
        """Call `call(now)` once at `when`; an alarm of the same name is replaced."""
        self._alarms[name] = (when, call)

    def later(self, name: str, wait: int, call: Callable[[int], object]) -> None:
        """Call `call(now)` in `wait` ns, unless an alarm of that name is set already."""
        if name not in self._alarms:
            self.alarm(name, time.monotonic_ns() + wait, call)

    def cancel_alarm(self, name: str) -> None:
        """Forget an alarm."""
        self._alarms.pop(name, None)

    def _panic(self, error: Exception) -> None:
        """A mistake of the program: everything stops and is released, the engine goes on."""
        log.error("unexpected: %r", error, exc_info=error)
        # What waits in the list has left as far as the player knows; the rest of the runs' keys go up behind it.
        out, self._out = self._out, []
        self.news.drop_effects()
        now, runs = time.monotonic_ns(), list(self.player.runs.values())
        self.player.on_end = None
        self.player.stop_all(now, out)
        self.player.on_end = self._run_ended
        for run in runs:
            self._run_ended(run, now)
        hint = "Every run was stopped and released; the log has the details"
        try:
            if out:
                self.messages.send(out, time.monotonic_ns())
            self._release_rest(now)
        except Exception as worse:
            # Nothing can be sent any more: ending makes the kernel release what is down.
            log.error("the output failed, too: %r", worse)
            hint = "The output failed, too, so the engine ended, which releases every key; the log has the details"
            self.quit()
        self.add_problem(Problem(f"something unexpected happened: {error!r}", hint=hint))

    def _run_ended(self, run: Run, now: int) -> None:
        self.news.run_ended(run)
        if run.state == "stopped" and run.live is not None:
            self.errands.end_helpers(run)

    def _start_dropped(self, owner: object) -> None:
        self.news.start_dropped(owner)

    def _after(self) -> None:
        """At the end of each round of the loop."""
        if self.network.to_flush:
            self.network.flush()
        if self.player.errands:
            self.errands.take()
        self.news.book()

    def add_problem(self, problem: Problem) -> None:
        """Tell the person of something wrong."""
        self.problems = [*self.problems[-49:], problem]
        if self.server.wanted("problem"):
            self.server.publish("problem", {"problems": [p.as_dict() for p in self.problems]})

    # The desk on disk.

    def reload_soon(self) -> None:
        """The desk's files changed: read them when the writing has come to rest."""
        self.alarm("reload", time.monotonic_ns() + 60 * MS,
                   lambda now: self.worker.do(self.store.reload, self.take_loaded))

    def take_loaded(self, result: object) -> None:
        """A desk was read on the worker: use it, or keep the last good one.  None: nothing has changed."""
        if result is None:
            return
        if not isinstance(result, Loaded):
            log.error("reading the desk failed: %r", result)
            self.add_problem(Problem(f"the desk could not be read: {result}", hint="The desk before keeps running"))
            return
        if result.ok:
            output, before = self.desk.output, self.desk
            self._use_places(result.desk)
            try:
                self.router.load(result.desk)
            except Exception as error:
                log.error("the desk cannot be used: %r", error, exc_info=error)
                self.router.load(before)
                self.add_problem(Problem(f"the desk cannot be used as it is now: {error!r}", "desk.toml",
                                         hint="The desk before keeps running"))
                return
            lost = self.router.lost_latches()
            self.stop_runs(lambda run: run in lost)
            self.aside.follow()
            self.devices.take()
            self.focus.follow()
            if result.desk.output != output:
                result.problems.append(Problem(f"the output is now “{result.desk.output}”, but “{output}” stays in use",
                                               "desk.toml", hint="End the engine and start it again"))
        self.problems = [*self._standing, *result.problems, *self._notices]
        self._tell_once()
        self.network.follow()
        self.messages.follow()
        self.tell_desk()
        self._settle()

    def _tell_once(self) -> None:
        """What the person has to know of a desk that was made before, and need not be told again."""
        if LETTERS not in self.memory.told and (problem := notice(self.desk)) is not None:
            self.tell_once(LETTERS, problem)
        if STARTS in self.memory.told:
            return
        for macro in self.desk.macros.values():
            if (found := IN_THE_BACKGROUND.search(macro.source)) is not None:
                line = macro.source.count("\n", 0, found.start()) + 1
                self.tell_once(STARTS, stays_notice(f"macros/{macro.id}.macro", line))

    def tell_once(self, word: str, problem: Problem) -> None:
        """Tell something that has to be said a single time, ever; `word` is what it is remembered by."""
        if word not in self.memory.told:
            self.memory.told.add(word)
            self.devices.remember()
            self.tell_standing(problem)

    def tell_standing(self, problem: Problem) -> None:
        """Tell something until the engine ends: a desk that is saved meanwhile does not hide it."""
        self._notices = [*self._notices, problem]
        self.add_problem(problem)

    def _use_places(self, desk: Desk) -> None:
        """Another keyboard layout: what is down goes up under the one under which it went down."""
        if desk.places != self.desk.places:
            self.stop_all()
            self.output.use(desk.places)

    def tell_desk(self) -> None:
        """Tell clients of the desk and of the devices as they are now."""
        if self.server.wanted("desk"):
            self.server.publish("desk", {"desk": self.requests.desk_state()})
        if self.server.wanted("problem"):
            self.server.publish("problem", {"problems": [p.as_dict() for p in self.problems]})
        self.meet.tell()
        self.answers.follow()
        self.follow_bystanders()

    def follow_bystanders(self) -> None:
        """The keyboards that are typed on, and so mix in, may have changed."""
        if self.setup.real_devices and self.desk.output != "stage":
            self.bystanders.follow(facts for facts in self.devices.here
                                   if facts.kind == "evdev" and self.devices.is_typed_on(facts))

    def _client_left(self, client: Client) -> None:
        self.hands.let_go(client.number)
        self.meet.client_left(client.number)
        self.chord_catcher.client_left(client.number)
        # A client that only asks something must not end an engine whose screen has yet to come.
        self._was_visited |= bool(client.topics)
        if self.setup.until_left and self._was_visited and not self.server.clients:
            log.info("the last client left")
            self.quit()
