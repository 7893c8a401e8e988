"""Plays many programs at once: which key goes down or up at which instant.

Pure: time is an argument.  What is to be sent is appended to a list that the caller hands in, so that the
caller can send it before doing anything else.

Rules: a step's time counts from its run's start; events of one instant leave in the order in which the runs
started; whatever a run pressed, its end releases, in reverse order; a key that several runs hold goes down
with the first and up with the last.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from heapq import heappop, heappush

from .macro.program import Program

MOST_QUEUED = 16

# One effect: key code, 1 down or 0 up, planned time in ns, the run it belongs to.
Effect = tuple[int, int, int, "Run"]


class Run:
    """One playing of a program."""

    # Most runs keep these; what is not stored costs no time between a press and its first effect.
    index = 0
    state = "playing"
    letting_go = False
    ended = 0
    shared: list[int] | tuple[()] = ()

    def __init__(self, id: int, program: Program, start: int, again_key: object, owner: object) -> None:
        self.id = id
        self.program = program
        self.start = start
        self.again_key = again_key
        self.owner = owner
        self.mine: dict[int, None] = {}

    def __repr__(self) -> str:
        return f"<Run {self.id} {self.state} {self.index}/{len(self.program.times)}>"


class Player:
    """All runs, and what they hold down.

    `on_end(run, now)` is told of every run that ended, after its releases are in the list.  `down` counts the runs
    that hold a key; `by_key` has the runs that play for each `again_key`.
    """

    def __init__(self, on_end: Callable[[Run, int], None] | None = None) -> None:
        self.on_end = on_end
        self.runs: dict[int, Run] = {}
        self.down: dict[int, int] = {}
        self._due: list[tuple[int, int, Run]] = []
        self.by_key: dict[object, list[Run]] = {}
        self._queued: dict[object, deque[tuple[Program, object]]] = {}
        self._next_id = 1

    def start(self, program: Program, now: int, out: list[Effect], *, again: str = "both",
              again_key: object = None, owner: object = None) -> tuple[Run | None, str]:
        """Start a run at `now` and send what is due at once.

        `again` says what happens when a run with the same `again_key` is still playing: "start over",
        "ignore", "queue" or "both".  Returns the run and "started"; or None with "ignored", "queued" or
        "queue full".
        """
        playing = self.by_key.get(again_key) if again_key is not None else None
        if playing and again != "both":
            if again == "ignore":
                return None, "ignored"
            if again == "queue":
                queue = self._queued.setdefault(again_key, deque())
                if len(queue) >= MOST_QUEUED:
                    return None, "queue full"
                queue.append((program, owner))
                return None, "queued"
            for run in list(playing):
                self.stop(run, now, out, keep_queue=True)
        return self._begin(program, now, out, again_key, owner), "started"

    def _begin(self, program: Program, now: int, out: list[Effect], again_key: object, owner: object) -> Run:
        run = Run(self._next_id, program, now, again_key, owner)
        self._next_id += 1
        self.runs[run.id] = run
        if again_key is not None:
            self.by_key.setdefault(again_key, []).append(run)
        self._play(run, now, now, out)
        return run

    def advance(self, now: int, out: list[Effect]) -> None:
        """Send everything that is due at `now`, in the order of its planned times."""
        due = self._due
        while due and due[0][0] <= now:
            planned, _, run = heappop(due)
            if run.state == "playing":
                self._play(run, planned, now, out)

    def next_deadline(self) -> int | None:
        """When `advance` has to be called next, in ns, or None."""
        due = self._due
        while due and due[0][2].state != "playing":
            heappop(due)
        return due[0][0] if due else None

    def _play(self, run: Run, until: int, now: int, out: list[Effect]) -> None:
        """Send the run's events planned up to `until`; book the next."""
        program = run.program
        times, start, index, last = program.times, run.start, run.index, len(program.times)
        while index < last:
            planned = start + times[index]
            if planned > until:
                run.index = index
                heappush(self._due, (planned, run.id, run))
                return
            code = program.codes[index]
            if program.values[index]:
                self._press(run, code, planned, out)
            else:
                self._release(run, code, planned, out)
            index += 1
        run.index = index
        end = start + (program.least if program.holds else program.length)
        if program.holds and not run.letting_go:
            return
        if end > until:
            heappush(self._due, (end, run.id, run))
        else:
            self._end(run, end, now, "done", out)

    def _press(self, run: Run, code: int, planned: int, out: list[Effect]) -> None:
        if code in run.mine:
            return
        run.mine[code] = None
        holders = self.down.get(code, 0)
        self.down[code] = holders + 1
        if holders:
            run.shared = [*run.shared, code]
        else:
            out.append((code, 1, planned, run))

    def _release(self, run: Run, code: int, planned: int, out: list[Effect]) -> None:
        if code not in run.mine:
            return
        del run.mine[code]
        holders = self.down[code] - 1
        if holders:
            self.down[code] = holders
        else:
            del self.down[code]
            out.append((code, 0, planned, run))

    def let_go(self, run: Run, now: int, out: list[Effect]) -> None:
        """End a run that holds: now, or when its shortest time has passed.  Others are left alone."""
        if run.state != "playing" or not run.program.holds or run.letting_go:
            return
        run.letting_go = True
        if run.index >= len(run.program.times):
            end = run.start + run.program.least
            if end > now:
                heappush(self._due, (end, run.id, run))
            else:
                self._end(run, now, now, "done", out)

    def stop(self, run: Run, now: int, out: list[Effect], *, keep_queue: bool = False) -> None:
        """End a run at once and release what it holds."""
        if run.state == "playing":
            if not keep_queue:
                self._queued.pop(run.again_key, None)
            self._end(run, now, now, "stopped", out, next_in_queue=False)

    def stop_all(self, now: int, out: list[Effect]) -> int:
        """End every run, latest first, and forget the queued ones.  Returns how many were playing."""
        self._queued.clear()
        runs = list(self.runs.values())
        for run in reversed(runs):
            self.stop(run, now, out)
        self._due.clear()
        return len(runs)

    def _end(self, run: Run, planned: int, now: int, state: str, out: list[Effect], *,
             next_in_queue: bool = True) -> None:
        for code in reversed(list(run.mine)):
            self._release(run, code, planned, out)
        run.state = state
        run.ended = now
        del self.runs[run.id]
        key = run.again_key
        if key is not None:
            same = self.by_key[key]
            same.remove(run)
            if not same:
                del self.by_key[key]
        if self.on_end:
            self.on_end(run, now)
        queue = self._queued.get(key) if next_in_queue and key is not None else None
        if queue:
            program, owner = queue.popleft()
            if not queue:
                del self._queued[key]
            self._begin(program, now, out, key, owner)
