"""What runs want from the world: windows, speech, other programs, the clipboard, other runs.

Slow ones are done on threads of their own; a failure is told in the trace, and never holds the keys of anybody.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from brass_pebble.core.durations import say_duration
from brass_pebble.core.macro.asks import Ask, Errand, Window
from brass_pebble.core.player import Run
from brass_pebble.core.problem import Problem
from brass_pebble.core.trace import Trace
from brass_pebble.outputs.base import OutputError
from brass_pebble.outputs.stage import StageOutput

from .loop import Worker

if TYPE_CHECKING:
    from .engine import Engine

MS = 1_000_000
THREADS = 6
# Programs that speak: the first one that is here.
SPEAKERS = (("spd-say", "--wait", "--"), ("espeak-ng", "--"), ("espeak", "--"))
# Programs that read and write the clipboard: how to see that it can work, read, write.
CLIPBOARDS = (
    ("WAYLAND_DISPLAY", ("wl-paste", "--no-newline"), ("wl-copy",)),
    ("DISPLAY", ("xclip", "-selection", "clipboard", "-o"), ("xclip", "-selection", "clipboard", "-i")),
    ("DISPLAY", ("xsel", "--clipboard", "--output"), ("xsel", "--clipboard", "--input")),
)
# Programs fetch the clipboard a moment after Ctrl+V.
RESTORE_AFTER = 400 * MS
CLIPBOARD_SECONDS = 2.0
QUIET = ("", False)
# A program that was started to stay and ends with a failure within this was never there, in s.
FAILS_WITHIN = 5.0
TOLD_ONCE = "start"
STAYS = "write start instead of run for a program that stays"
Done = tuple[str, object]  # a remark for the trace, and the answer


class Errands:
    """Does errands, and answers the runs that wait for them."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._workers: Worker | None = None
        self._children: dict[subprocess.Popen[bytes], Run | None] = {}
        self._ended: set[subprocess.Popen[bytes]] = set()
        self._lock = threading.Lock()
        self._kept: str | None = None
        self._closing = False

    def take(self) -> None:
        """Do what runs have asked for."""
        asked, self._engine.player.errands = self._engine.player.errands, []
        for run, ask in asked:
            if run.state != "playing" and isinstance(ask, Window):
                continue
            self._do(run, ask)

    def _do(self, run: Run, ask: Ask) -> None:
        if isinstance(ask, Window):
            output = self._engine.output
            if isinstance(output, StageOutput):
                self._wait_on_stage(run, ask, output, time.monotonic_ns() + ask.limit)
            else:
                self._slowly(run, ask, lambda: self._wait_for_window(run, ask))
            return
        assert isinstance(ask, Errand)
        here = {"show": self._show, "beep": self._beep, "stop": self._stop, "layer": self._layer,
                "restore": self._restore, "asleep": self._asleep}.get(ask.kind)
        if here is not None:
            self._answer(run, ask, here(run, ask))
            return
        def run_helper(ask: Errand) -> Done:
            return self._run(ask, run)

        slow: dict[str, Callable[[Errand], Done]] = {
            "say": self._say, "run": run_helper, "shell": run_helper, "request": _request, "osc": _osc,
            "paste": self._paste}
        if ask.kind == "start":
            self._start_to_stay(run, ask)
            return
        if ask.kind in ("run", "shell"):
            name = _name_of(ask.words) if ask.kind == "run" else "the shell"
            self._remark(run, f"line {ask.line}: {name} may run for {say_duration(ask.limit)} at most")
        self._slowly(run, ask, lambda: slow[ask.kind](ask))

    def _slowly(self, run: Run, ask: Ask, job: Callable[[], Done]) -> None:
        if self._workers is None:
            self._workers = Worker(self._engine.loop, threads=THREADS)
        self._workers.do(job, lambda result: self._answer(run, ask, result))

    def _answer(self, run: Run, ask: Ask, result: object) -> None:
        if isinstance(result, Exception):
            result = (f"it could not be done: {result}", False)
        assert isinstance(result, tuple)
        remark, answer = result
        if remark:
            self._remark(run, f"line {ask.line}: {remark}")
            if STAYS in remark and isinstance(run.owner, Trace):
                self._engine.tell_once(TOLD_ONCE, stays_notice(f"macros/{run.owner.macro}.macro", ask.line))
        if isinstance(ask, Window) or (isinstance(ask, Errand) and ask.wait):
            self._engine.answer_run(run, answer)

    def _remark(self, run: Run, text: str) -> None:
        if isinstance(run.owner, Trace):
            run.owner.remark(text)
            self._engine.news.touch(run.owner)

    # Windows.

    def _wait_on_stage(self, run: Run, ask: Window, output: StageOutput, until: int) -> None:
        """The stage's programs are its windows; a dialog that is open has the focus of its program."""
        from brass_pebble.outputs.x11 import fits
        names = [(program.name, not program.window) for program in output.programs.values()]
        names += [(program.window, True) for program in output.programs.values() if program.window]
        now = time.monotonic_ns()
        if run.state != "playing":
            return
        if any(fits(ask.pattern, name) and (focused or not ask.focused) for name, focused in names):
            self._engine.answer_run(run, True)
        elif now >= until:
            self._engine.answer_run(run, False)
        else:
            self._engine.alarm(f"window {run.id}", min(until, now + 20 * MS),
                               lambda now: self._wait_on_stage(run, ask, output, until))

    def _wait_for_window(self, run: Run, ask: Window) -> Done:
        from brass_pebble.outputs.x11 import Windows
        try:
            windows = Windows()
        except OutputError as error:
            return str(error), False
        try:
            return "", windows.wait(ask.pattern, by_class=ask.by_class, focused=ask.focused, seconds=ask.limit / 1e9,
                                    given_up=lambda: self._closing or run.state != "playing")
        finally:
            windows.close()

    # At once.

    def _show(self, run: Run, ask: Errand) -> Done:
        self._engine.server.publish("note", {"text": ask.words[0], "beep": False})
        return f"showed “{ask.words[0]}”", True

    def _asleep(self, run: Run, ask: Errand) -> Done:
        return f"asleep until you approve it (G on the desk): {ask.words[0]}", False

    def _beep(self, run: Run, ask: Errand) -> Done:
        self._engine.server.publish("note", {"text": "", "beep": True})
        return ("" if self._engine.server.wanted("note") else "nobody heard the beep: no screen is open"), True

    def _stop(self, run: Run, ask: Errand) -> Done:
        name = ask.words[0]

        def meant(other: Run) -> bool:
            owner = other.owner
            if other is run or not isinstance(owner, Trace):
                return False
            macro = self._engine.desk.macros.get(owner.macro)
            return not name or (bool(macro) and name in (owner.macro, macro.name))  # type: ignore[union-attr]
        count = self._engine.stop_runs(meant)
        return f"stopped {count} other {'run' if count == 1 else 'runs'}", True

    def _layer(self, run: Run, ask: Errand) -> Done:
        name, state = ask.words
        surface = run.owner.answer.surface.id if isinstance(run.owner, Trace) and run.owner.answer else ""
        done = self._engine.router.switch_layer(surface, name, on=state == "on")
        return done or f"there is no layer “{name}” on the surface that was pressed", bool(done)

    # On threads.

    def _say(self, ask: Errand) -> Done:
        for speaker in SPEAKERS:
            if shutil.which(speaker[0]):
                return self._start([*speaker, ask.words[0]], 30.0)
        return "nothing was said: no speech program is here. Install speech-dispatcher or espeak-ng", False

    def _run(self, ask: Errand, run: Run) -> Done:
        words = ["/bin/sh", "-c", ask.words[0]] if ask.kind == "shell" else list(ask.words)
        return self._start(words, ask.limit / 1e9, run=run)

    def _start_to_stay(self, run: Run, ask: Errand) -> None:
        """A program of its own: in a session of its own, with nothing of ours open, and ended by nothing of ours."""
        name = _name_of(ask.words)

        def job() -> Done:
            try:
                child = subprocess.Popen(ask.words, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                                         stderr=subprocess.DEVNULL, start_new_session=True, close_fds=True)
            except OSError as error:
                return f"{name} could not be started: {error.strerror}", False
            # Waited for by a thread that nobody waits for, so that it leaves no dead process behind.
            threading.Thread(target=lambda: self._watch_start(run, ask, name, child), daemon=True).start()
            return f"started {name}", True
        self._slowly(run, ask, job)

    def _watch_start(self, run: Run, ask: Errand, name: str, child: subprocess.Popen[bytes]) -> None:
        began = time.monotonic()
        code = child.wait()
        if code and time.monotonic() - began < FAILS_WITHIN and not self._closing and self._workers is not None:
            text = f"line {ask.line}: {name} ended at once, with exit code {code}"
            with contextlib.suppress(OSError, RuntimeError):
                self._workers.do(lambda: text, lambda said: self._remark(run, str(said)))

    def end_helpers(self, run: Run | None = None) -> None:
        """End the programs that were run to be waited for: those of one run, or all."""
        with self._lock:
            children = [child for child, owner in self._children.items() if run is None or owner is run]
            self._ended.update(children)
        for child in children:
            _end_group(child)

    def _start(self, words: list[str], seconds: float, data: bytes = b"", run: Run | None = None) -> Done:
        name = _name_of(words)
        try:
            child = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
                                     start_new_session=True)
        except OSError as error:
            return f"{name} could not be run: {error.strerror}", False
        with self._lock:
            self._children[child] = run
        try:
            _, errors = child.communicate(data, timeout=seconds)
        except subprocess.TimeoutExpired:
            _end(child)
            return f"{name} did not end within {seconds:g} s and was ended; {STAYS}", False
        finally:
            with self._lock:
                self._children.pop(child, None)
                stopped = child in self._ended
                self._ended.discard(child)
        if stopped:
            return f"{name} was stopped", False
        if child.returncode:
            said = errors.decode(errors="replace").strip().splitlines()
            return f"{name} ended with exit code {child.returncode}{': ' + said[-1][:120] if said else ''}", False
        return "", True

    def _clipboard(self) -> tuple[tuple[str, ...], tuple[str, ...]] | None:
        for variable, read, write in CLIPBOARDS:
            if os.environ.get(variable) and shutil.which(read[0]) and shutil.which(write[0]):
                return read, write
        return None

    def _paste(self, ask: Errand) -> Done:
        tools = self._clipboard()
        if tools is None:
            return ("the clipboard is not available: no display, or neither wl-clipboard nor xclip nor xsel is "
                    "installed"), False
        read, write = tools
        try:
            done = subprocess.run(read, capture_output=True, timeout=CLIPBOARD_SECONDS, check=False)
            before = done.stdout.decode(errors="replace") if done.returncode == 0 else ""
            _write_clipboard(write, ask.words[0])
        except (OSError, subprocess.TimeoutExpired) as error:
            return f"the clipboard does not answer: {error}", False
        if self._kept is None:
            # Pastes in quick succession restore what was there before the first.
            self._kept = before
        return "", True

    def _restore(self, run: Run, ask: Errand) -> Done:
        self._engine.alarm("clipboard", time.monotonic_ns() + RESTORE_AFTER, lambda now: self.restore_clipboard())
        return "", True

    def restore_clipboard(self) -> None:
        """Put back what the clipboard held before a paste."""
        kept, self._kept = self._kept, None
        tools = self._clipboard()
        if kept is None or tools is None or self._workers is None:
            return
        self._workers.do(lambda: _write_clipboard(tools[1], kept), lambda result: None)

    def close(self) -> None:
        """End every program that a macro started."""
        self._closing = True
        with self._lock:
            children = list(self._children)
        for child in children:
            _end(child)
        if self._workers is not None:
            self.restore_clipboard()
            self._workers.close()


def stays_notice(file: str, line: int) -> Problem:
    """What to tell once of a program that is run and seems to be meant to stay."""
    return Problem("a program that is run is waited for, and ended when its time is over, with all it has unsaved",
                   file, line, hint='Write start "program" for one that stays. This is told once')


def _name_of(words: Sequence[str]) -> str:
    return os.path.basename(words[0]) if words[0] != "/bin/sh" else "the shell"


def _end_group(child: subprocess.Popen[bytes]) -> None:
    with contextlib.suppress(OSError):
        os.killpg(child.pid, signal.SIGKILL)


def _end(child: subprocess.Popen[bytes]) -> None:
    _end_group(child)
    with contextlib.suppress(Exception):
        child.communicate(timeout=1)


def _write_clipboard(command: tuple[str, ...], text: str) -> None:
    subprocess.run(command, input=text.encode(), timeout=CLIPBOARD_SECONDS, check=True, stdout=subprocess.DEVNULL,
                   stderr=subprocess.DEVNULL)


def _request(ask: Errand) -> Done:
    # Slow to import, and few macros need it.
    import urllib.error
    import urllib.request
    method, url, content = ask.words
    data = content.encode() if content else None
    kind = "text/plain; charset=utf-8"
    if content:
        with contextlib.suppress(ValueError):
            json.loads(content)
            kind = "application/json"
    headers = {"Content-Type": kind} if data else {}
    request = urllib.request.Request(url, data=data, method=method.upper(), headers=headers)
    try:
        with urllib.request.urlopen(request, timeout=ask.limit / 1e9) as reply:
            return f"{url} answered {reply.status}", True
    except urllib.error.HTTPError as error:
        return f"{url} answered {error.code} {error.reason}", False
    except (OSError, ValueError) as error:
        return f"{url} could not be reached: {getattr(error, 'reason', error)}", False


def _osc(ask: Errand) -> Done:
    from pythonosc.udp_client import SimpleUDPClient
    address, target, *words = ask.words
    host, _, port = target.rpartition(":")
    read: dict[str, Callable[[str], Any]] = {"i": int, "f": float, "s": str}
    try:
        SimpleUDPClient(host, int(port)).send_message(address, [read[word[0]](word[2:]) for word in words])
    except (OSError, ValueError) as error:
        return f"{address} could not be sent to {target}: {error}", False
    return "", True
