"""What runs want from the world: windows, speech, other programs, the clipboard, other runs.

Slow ones are done on threads of their own; a failure is told in the trace, and never holds the keys of anybody.
"""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from brass_pebble import paths
from brass_pebble.core.desk.layer_switch import fits
from brass_pebble.core.desk.model import ANYWHERE
from brass_pebble.core.macro.asks import Ask, Errand, Look, Program, Question, Window
from brass_pebble.core.play.player import Player, Run
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.durations import say_duration
from brass_pebble.core.say.problem import Problem
from brass_pebble.engine.clients.news import News
from brass_pebble.engine.loop import Worker
from brass_pebble.engine.ports import LiveDesk, Ports, RunControl
from brass_pebble.kinds.errands import read
from brass_pebble.kinds.errands.base import Done, SpeakingTold, World, over, perform
from brass_pebble.kinds.errands.call import STOPPED, TOO_LATE, Call
from brass_pebble.kinds.errands.helpers import LATE, STAYS, Helpers, name_of
from brass_pebble.kinds.errands.names import Names
from brass_pebble.kinds.errands.pasting import Pasting
from brass_pebble.kinds.errands.programs import Start
from brass_pebble.kinds.errands.table import POOLS, errand_kinds
from brass_pebble.kinds.outputs.base import HasWindows, Output
from brass_pebble.kinds.windows.base import CannotDo, WindowGone, focus_and_wait
from brass_pebble.kinds.windows.table import desktop_kind, open_desktop
from brass_pebble.secret_file import SecretError, read_one

from .questions import Questions

MS = 1_000_000
# A helper's time for ending is over at once when everything stops, in s.
ENDS_WITHIN = 0.05
CLIPBOARD_SECONDS = 2.0
# What an errand is given to end once its time is over; and a reading of the clipboard, once others wait for it; in ns.
GRACE, READS_ALONE = 250 * MS, 500 * MS
THROWN_OUT = "did not give it in time, and somebody else needs the clipboard"
# What is proposed from the clipboard is asked for this long, in s.
ASKED_FOR = 3.0
TOLD_ONCE = "start"


class Errands:
    """Does errands, and answers the runs that wait for them."""

    control: RunControl
    news: News
    live: LiveDesk
    player: Player
    output: Output
    questions: Questions
    folder: Path
    # Told, on a thread, when speaking begins and ends.
    spoken: SpeakingTold

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        self._pools: dict[str, Worker] = {}
        self._helpers = Helpers()
        self.pasting = Pasting()
        self._closing = False
        self._names = Names()
        self._kinds = errand_kinds(World(
            self._helpers, self.pasting, lambda: self.folder, lambda name: read_one(paths.secrets_file(), name),
            lambda: ports.desk.redirects == ANYWHERE, lambda *, begins: self.spoken(begins=begins)))
        # What is being done for whom, on which threads, and since when (0: it has not begun).
        self._calls: dict[Call, Doing] = {}
        self._called = 0
        # When everything was stopped last: what was asked for before that and has not begun is not begun.
        self._stopped_at = 0

    def take(self) -> None:
        """Do what runs have asked for."""
        asked, self.player.errands = self.player.errands, []
        for run, ask in asked:
            if run.state != "playing" and isinstance(ask, Window | Question | Program | Look):
                continue
            self._do(run, ask)

    def _do(self, run: Run, ask: Ask) -> None:
        if isinstance(ask, Question):
            self.questions.put(run, ask)
            return
        own = self._own
        if isinstance(ask, Window) and own is not None:
            self._wait_for_own(run, ask, own, self._ports.now() + ask.limit)
            return
        word = ask.kind if isinstance(ask, Errand) else type(ask).__name__
        if isinstance(ask, Errand):
            here = {"show": self._show, "ring": self._ring, "stop": self._stop, "layer": self._layer,
                    "asleep": self._asleep, "secret": self._secret}.get(word)
            if here is not None:
                self._answer(run, ask, here(run, ask))
                return
            if word.startswith("window ") and own is not None:
                self._answer(run, ask, _do_to_own(own, ask))
                return
            if word in ("run", "shell"):
                name = name_of(ask.words) if word == "run" else "the shell"
                self._remark(run, f"line {ask.line}: {name} may run for {say_duration(ask.limit)} at most")
        self._call(run, ask, word)

    def _call(self, run: Run, ask: Ask, word: str) -> None:
        """Ask something of the world.  When its time is over the run goes on, whatever the other side does
        meanwhile."""
        if word not in self._kinds:
            self._answer(run, ask, (f"nobody here knows how to {word}", False))
            return
        kind = self._kinds[word]()
        limit = kind.limit(ask)
        call = Call(limit / 1e9, self._names)
        doing = self._calls[call] = Doing(run, kind.pool, word)
        self._called += 1
        alarm = f"call {self._called}"

        def answer(result: object) -> None:
            if self._calls.pop(call, None) is not None:
                self._ports.alarms.cancel(alarm)
                self._answer(run, ask, result)

        def give_up(now: int) -> None:
            answer(over(kind, ask, call))

        def end(now: int) -> None:
            call.end(TOO_LATE)
            # It has not begun, or it is in a library that heeds nothing.
            self._ports.alarms.at(alarm, now + GRACE, give_up)
        self._ports.alarms.at(alarm, self._ports.now() + limit, end)
        if isinstance(kind, Start):
            kind.later = lambda remark: self._later(run, ask, remark)

        def job() -> Done:
            doing.begun = self._ports.now()
            return perform(kind, ask, call)
        self._slowly(kind.pool, run, ask, job, answer)
        if kind.pool == "clipboard":
            self._throw_out()

    def _throw_out(self) -> None:
        """Whoever waits for the clipboard does not wait for a reading that hangs: it had its moment."""
        def look(now: int) -> None:
            waiting = [call for call, doing in self._calls.items() if doing.pool == "clipboard" and not doing.begun]
            for call, doing in [*self._calls.items()]:
                if waiting and doing.word == "read clipboard" and doing.begun:
                    call.end(THROWN_OUT)
        if len([doing for doing in self._calls.values() if doing.pool == "clipboard"]) > 1:
            self._ports.alarms.at("clipboard", self._ports.now() + READS_ALONE, look)

    def _later(self, run: Run, ask: Ask, remark: str) -> None:
        """Something that was done has turned out otherwise.  Called on a thread."""
        if not self._closing:
            text = f"line {ask.line}: {remark}"
            with contextlib.suppress(OSError, RuntimeError, KeyError):
                self._pools["program"].do(lambda: text, lambda said: self._remark(run, str(said)))

    def read_clipboard(self) -> str:
        """What the clipboard holds, for a question that proposes it; on a thread, and nothing if it cannot be had."""
        return str(read.clipboard(self.pasting, Call(ASKED_FOR, self._names))[1] or "")

    @property
    def _own(self) -> HasWindows | None:
        """The output's own programs as windows; an engine that lacks the desk's output has a stage without any."""
        return self.output.ability(HasWindows) if self._ports.desk.output == "stage" else None

    def _pool(self, name: str) -> Worker:
        if name not in self._pools:
            self._pools[name] = Worker(self._ports.loop, *POOLS[name][:2])
        return self._pools[name]

    def _slowly(self, pool: str, run: Run, ask: Ask, job: Callable[[], Done],
                answer: Callable[[object], None] | None = None) -> None:
        answer = answer or (lambda result: self._answer(run, ask, result))
        asked, crowded = self._ports.now(), self._pool(pool).crowded

        def begin() -> tuple[str, Done]:
            waited = self._ports.now() - asked
            if self._closing or run.state == "stopped" or self._stopped_at >= asked:
                return "", ("it was stopped before it began", False)
            late = crowded and waited > LATE
            return f"begun {say_duration(waited)} late, since others went on" if late else "", job()

        def done(result: object) -> None:
            if isinstance(result, tuple):
                late, result = result
                if late:
                    self._remark(run, f"line {ask.line}: {late}")
            answer(result)
        if not self._pool(pool).do(begin, done):
            most, more, what = POOLS[pool]
            answer((f"it was not done: {most + more} {what} already", False))

    def _answer(self, run: Run, ask: Ask, result: object) -> None:
        if isinstance(result, Exception):
            result = (f"it could not be done: {result}", False)
        assert isinstance(result, tuple)
        remark, answer = result
        if remark:
            self._remark(run, f"line {ask.line}: {remark}")
            if STAYS in remark and isinstance(run.owner, Trace):
                self.live.tell_once(TOLD_ONCE, stays_notice(f"macros/{run.owner.macro}.macro", ask.line))
        if isinstance(ask, Window | Program | Look) or (isinstance(ask, Errand) and ask.wait):
            self.control.resume_run(run, answer)

    def _remark(self, run: Run, text: str) -> None:
        if isinstance(run.owner, Trace):
            run.owner.remark(text)
            self.news.touch(run.owner)

    # Windows.

    def _wait_for_own(self, run: Run, ask: Window, own: HasWindows, until: int) -> None:
        """The output's own programs are its windows."""
        now = self._ports.now()
        if run.state != "playing":
            return
        if own.is_there(ask.pattern, focused=ask.focused) != ask.gone:
            self.control.resume_run(run, True)
        elif now >= until:
            self.control.resume_run(run, False)
        else:
            self._ports.alarms.at(f"window {run.id}", min(until, now + 20 * MS),
                                  lambda now: self._wait_for_own(run, ask, own, until))

    def remember_focus(self) -> Callable[[], str] | None:
        """Which window has the focus, on a thread: a call that gives it back, and says what is wrong if it cannot."""
        if self._own is not None or desktop_kind() is None:
            return None
        here = open_desktop()
        try:
            window = next((one for one in here.look() if one.focused), None)
        finally:
            here.close()
        if window is None:
            return None
        name = window.title[:40] or window.cls or "without a title"

        def give_back() -> str:
            here = open_desktop()
            try:
                return "" if focus_and_wait(here, window.key) else f"the window “{name}” did not take the focus back"
            except WindowGone:
                return f"the window “{name}” was closed meanwhile"
            except CannotDo as error:
                return str(error)
            finally:
                here.close()
        return give_back

    def slowly(self, job: Callable[[], object], then: Callable[[object], None]) -> bool:
        """Do something about windows on a thread, then `then(result)` on the loop; false if too many wait."""
        return self._pool("window").do(job, then)

    def say(self, text: str, then: Callable[[], None]) -> None:
        """Say a text aloud, then call back on the loop, whether it could be said or not."""
        ask, kind = Errand(0, "speak", (text,)), self._kinds["speak"]()
        call = Call(kind.limit(ask) / 1e9, self._names)
        self._pool("speak").do(lambda: perform(kind, ask, call), lambda result: then())

    def utter(self, letters: str) -> bool:
        """Have a row of sounds said aloud, as espeak-ng writes them; false if nothing here can."""
        if not shutil.which("espeak-ng"):
            return False
        return self._pool("speak").do(lambda: self._helpers.run(["espeak-ng", letters], 10.0), lambda result: None)

    # At once.

    def _show(self, run: Run, ask: Errand) -> Done:
        self._ports.publisher.publish("note", {"text": ask.words[0], "bell": False})
        return f"showed “{ask.words[0]}”", True

    def _asleep(self, run: Run, ask: Errand) -> Done:
        return f"waiting for your approval (G on the desk): {ask.words[0]}", False

    def _secret(self, run: Run, ask: Errand) -> Done:
        try:
            return "", read_one(paths.secrets_file(), ask.words[0])
        except SecretError as error:
            return str(error), False

    def _ring(self, run: Run, ask: Errand) -> Done:
        self._ports.publisher.publish("note", {"text": "", "bell": True})
        return ("" if self._ports.publisher.wanted("note") else "nobody heard the bell: no screen is open"), True

    def _stop(self, run: Run, ask: Errand) -> Done:
        name = ask.words[0]

        def meant(other: Run) -> bool:
            owner = other.owner
            if other is run or not isinstance(owner, Trace):
                return False
            macro = self._ports.desk.macros.get(owner.macro)
            return not name or (bool(macro) and name in (owner.macro, macro.name))  # type: ignore[union-attr]
        count = self.control.stop_runs(meant)
        return f"stopped {count} other {'run' if count == 1 else 'runs'}", True

    def _layer(self, run: Run, ask: Errand) -> Done:
        name, state = ask.words
        surface = run.owner.answer.surface.id if isinstance(run.owner, Trace) and run.owner.answer else ""
        done = self._ports.router.switch_layer(surface, name, on=state == "on")
        return done or f"there is no layer “{name}” on the surface that was pressed", bool(done)

    def end_helpers(self, run: Run | None = None) -> None:
        """End the programs that were run to be waited for: those of one run, or all; then what waits is dropped,
        too."""
        if run is None:
            self._stopped_at = self._ports.now()
        for call, doing in [*self._calls.items()]:
            if run is None or doing.run is run:
                call.end(STOPPED)
        if run is None:
            self._helpers.end()
        if self.pasting.pending and not self._closing:
            # A run that ends between offering a text and giving back leaves nothing of it.
            self._pool("clipboard").do(self.pasting.give_back, lambda result: None)

    def stop(self) -> None:
        """Nothing begins any more, and every program that a macro waits for ends, at once."""
        self._closing = self._helpers.closing = True
        for name, pool in self._pools.items():
            if name != "clipboard":
                pool.clear()
        self.end_helpers()

    def close(self) -> None:
        """Put back what the clipboard held; leave behind what does not end."""
        self.stop()
        if "clipboard" in self._pools:
            self._pools["clipboard"].do(self.pasting.close, lambda result: None)
        else:
            self.pasting.close()
        for name, pool in self._pools.items():
            pool.close(CLIPBOARD_SECONDS if name == "clipboard" else ENDS_WITHIN)
        self._helpers.close()


def _do_to_own(own: HasWindows, ask: Errand) -> Done:
    """What can be done to the stage's programs: to give one the focus."""
    pattern, by, *_ = ask.words
    found = next((window for window in own.windows() if fits(pattern, window.cls if by == "class" else window.title)),
                 None)
    if found is None:
        return f"there is no window “{pattern}”", False
    if ask.kind not in ("window focus", "window raise"):
        return "the programs of the stage have a fixed place", False
    own.focus(found.cls)
    return "", True


@dataclass
class Doing:
    """One errand: for whom, on which threads, by which word, and since when (0: it waits), in ns."""

    run: Run
    pool: str
    word: str
    begun: int = 0


def stays_notice(file: str, line: int) -> Problem:
    """What to tell once of a program that is run and seems to be meant to stay."""
    return Problem("a program that is run is waited for, and ended when its time is over, with all it has unsaved",
                   file, line, hint='Write start "program" for one that stays. Shown once')

