"""The engine's process: `python -m brass_pebble.engine.main`."""

from __future__ import annotations

import argparse
import contextlib
import gc
import json
import os
import signal
import socket
import sys
import time
from collections.abc import Callable
from pathlib import Path

from brass_pebble import file_access, paths
from brass_pebble.core.say.problem import Problem
from brass_pebble.kinds.inputs.bench import Bench, read_bench
from brass_pebble.kinds.outputs.base import OutputError
from brass_pebble.kinds.outputs.stage import StageOutput
from brass_pebble.kinds.outputs.table import open_output

from .assemble import assemble
from .disk.bench_desk import BenchDesk
from .disk.store import DeskBusy, DeskStore
from .disk.tighten import tighten
from .engine import Engine
from .logs import log, start_log
from .runs.script import read_script
from .setup import Setup

EXIT_FAILED = 1
EXIT_BUSY = 5
EXIT_PERMISSION = 4
_RESET_ON_FORK = 0x40000000


def main(arguments: list[str] | None = None, say: Callable[[str], None] | None = None) -> int:
    """Run an engine until it is told to end.  Returns the exit code."""
    options = _parser().parse_args(arguments)
    # What the engine writes is the person's alone.
    paths.usual_umask = os.umask(0o077)
    ready = options.ready_fd
    listener = start_log(paths.state_folder(), os.environ.get("BRASS_PEBBLE_LOG", "INFO"))
    try:
        return _run(options, ready, say)
    except DeskBusy as error:
        return _fail(ready, str(error), EXIT_BUSY)
    except (OutputError, PermissionError) as error:
        return _fail(ready, str(error), EXIT_PERMISSION)
    except Exception as error:
        log.error("the engine ended: %r", error, exc_info=error)
        details = f". The log has the details: {paths.state_folder() / 'engine.log'}" if listener is not None else ""
        return _fail(ready, f"the engine could not go on: {error!r}{details}", EXIT_FAILED)
    finally:
        if listener is not None:
            listener.stop()


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="brass-pebble engine", description=main.__doc__)
    parser.add_argument("--desk", type=Path, required=True)
    parser.add_argument("--bench", type=Path, help="devices of the bench")
    parser.add_argument("--stage", type=Path, help="folder of the stage's programs")
    parser.add_argument("--script", type=Path, help="a scripted class")
    parser.add_argument("--bench-only", action="store_true", help="leave the machine's own devices alone")
    parser.add_argument("--on-bench", action="store_true", help="simulate every device and program of the desk")
    parser.add_argument("--until-left", action="store_true", help="end when the last client leaves")
    parser.add_argument("--started-by", type=int, default=0, metavar="PID", help="with --until-left: end, too, if this "
                        "process has ended and nobody came")
    parser.add_argument("--may-lack-output", action="store_true", help="without a virtual keyboard, take nothing over")
    parser.add_argument("--real-time", action="store_true", help="ask for a real-time priority")
    parser.add_argument("--ready-fd", type=int, default=-1, help="told one line when ready, or why not")
    return parser


def _run(options: argparse.Namespace, ready: int, say: Callable[[str], None] | None) -> int:
    began = time.monotonic()
    # What is made while it starts stays for as long as it runs: looking for garbage in it would be in vain.
    gc.disable()
    desk = options.desk
    store = DeskStore(desk, paths.state_folder() / "versions" / paths.desk_key(desk), paths.user_layouts(),
                      paths.approvals_file(desk))
    store.lock()
    try:
        store.get_to_know()
    except OSError as error:
        log.error("it cannot be noted that this desk is known: %s", error)
    sockets = paths.socket_path(desk)
    bench = Bench()
    if options.bench:
        bench = read_bench(options.bench, store.layout)

    on_bench = BenchDesk(desk) if options.on_bench else None
    opened = tighten((desk, paths.state_folder(), paths.user_layouts()))
    setup = _on_bench(on_bench, store, sockets, options) if on_bench else Setup(
        store, sockets, lambda desk: open_output(desk, options.stage), bench, not options.bench_only,
        read_script(options.script) if options.script else None, options.until_left, options.may_lack_output,
        paths.state_folder() / "known" / f"{paths.desk_key(desk)}.json", options.stage, paths.history_file(desk))
    setup.started_by = options.started_by
    engine = assemble(setup)
    store.started()
    for folder in opened:
        engine.problems.notice(Problem(
            f"other users of this computer could read {folder}; now only you can", str(folder),
            hint="If others are to read it, share a package of the desk instead (E)"))
    if store.not_kept is not None:
        engine.problems.notice(Problem(
            "versions, drafts, usage and approvals of this desk are not kept: "
            f"{file_access.say(store.not_kept)}", str(paths.state_folder()),
            hint="The desk runs from its files, and what came from others stays off. Make room there, or have it made "
            "writable, and start again"))
    _end_on_signals(engine)
    priority = _raise_priority() if options.real_time else "with ordinary priority"
    gc.freeze()
    gc.enable()
    gc.set_threshold(20_000, 20, 50)
    # Slow jobs on the other thread give way to the loop quickly.
    sys.setswitchinterval(0.0005)
    log.info("ready in %.0f ms, desk %s, %s", 1000 * (time.monotonic() - began), desk, priority)
    _tell(ready, {"ready": str(sockets), "pid": os.getpid()})
    # The first client asks for the desk; what it will get is put together while it is on its way.
    engine.ports.alarms.at("rows", time.monotonic_ns(), lambda now: engine.requests.warm())
    if say is not None:
        _introduce(engine, say)
    engine.run()
    log.info("ended")
    return 0


def _on_bench(found: BenchDesk, store: DeskStore, socket: Path, options: argparse.Namespace) -> Setup:
    """How a desk runs on the bench: none of it is remembered or counted."""
    return Setup(store, socket, lambda desk: StageOutput(found.programs_of(desk)), found.bench,
                 real_devices=False, until_left=options.until_left, seen=found.seen, programs=found.programs)


def run_here(desk: Path, say: Callable[[str], None], *options: str) -> int:
    """Run an engine in this process, and `say` to the person what it does."""
    return main(["--desk", str(desk), *options], say)


def _introduce(engine: Engine, say: Callable[[str], None]) -> None:
    say(f"{engine.ports.desk.name}: engine {os.getpid()} is ready. Ctrl+C ends it and gives every device back.")
    for problem in engine.problems.listed:
        say(f"  ! {problem}")
    for name, holding in engine.devices.holdings.items():
        surface = engine.ports.desk.surfaces[name]
        say(f"  {surface.name}: {holding.state}{', ' + holding.why if holding.why else ''}")
    if not engine.ports.desk.surfaces:
        say(f"  No surfaces yet. brass-pebble devices lists what is here; name one in {engine.setup.store.file}")
    sys.stdout.flush()


def _end_on_signals(engine: Engine) -> None:
    """SIGTERM, SIGINT and SIGHUP end the engine in an orderly way."""
    near, far = socket.socketpair()
    for end in (near, far):
        end.setblocking(False)
    signal.set_wakeup_fd(far.fileno())
    for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        signal.signal(number, lambda *_: None)
    signal.signal(signal.SIGPIPE, signal.SIG_IGN)

    def woken(events: int) -> None:
        with contextlib.suppress(BlockingIOError):
            near.recv(64)
        # Keeps the far end open for as long as the engine runs.
        far.fileno()
        engine.quit()
    engine.ports.loop.watch(near.fileno(), woken)


def _raise_priority() -> str:
    """Ask for a small real-time priority for the loop's thread, if this user may have one.

    Steps then stay on time beside programs that take every processor; a single press may arrive a little later, since
    the kernel no longer wakes the loop where the press was made (docs/performance.md).
    """
    try:
        os.sched_setscheduler(0, os.SCHED_RR | _RESET_ON_FORK, os.sched_param(5))
        return "with real-time priority"
    except OSError:
        try:
            os.setpriority(os.PRIO_PROCESS, 0, -10)
            return "with raised priority"
        except OSError:
            return "with ordinary priority"


def _tell(fileno: int, message: dict[str, object]) -> None:
    if fileno >= 0:
        with contextlib.suppress(OSError):
            os.write(fileno, json.dumps(message).encode() + b"\n")
            os.close(fileno)


def _fail(fileno: int, text: str, code: int) -> int:
    log.error("%s", text)
    if fileno >= 0:
        _tell(fileno, {"error": text, "code": code})
    else:
        print(f"brass-pebble: {text}", file=sys.stderr)
    return code


if __name__ == "__main__":
    sys.exit(main())
