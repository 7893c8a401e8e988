"""Plays many timetables at once: which key goes down or up at which instant.

Pure: time is an argument.  What is to be sent is appended to a list that the caller hands in, so that the
caller can send it before doing anything else.

What came from somebody else passes the gate (core/effects/gate.py) before it is in the list, and before anything is
asked of the world; a run that is shut out ends, and says why.

Rules: a step's time counts from its run's start; events of one instant leave in the order in which the runs
started; whatever a run pressed, its end releases, in reverse order; a key that several runs hold goes down
with the first and up with the last.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from heapq import heappop, heappush

from brass_pebble.core.effects.gate import Gate, Rights, Typed
from brass_pebble.core.effects.kinds import MOMENTARY_FROM, MOMENTARY_TO
from brass_pebble.core.macro.asks import Ask, CatchUp, Errand, Finish, GaveUp, reach_of_ask
from brass_pebble.core.macro.timetable import Score, Timeline, Timetable
from brass_pebble.core.macro.value.kinds import Given
from brass_pebble.core.say.durations import MS, say_duration
from brass_pebble.core.say.problem import ProblemError

MOST_QUEUED = 16
# A macro without any time of its own cannot be repeated faster.
SHORTEST_TURN = 10 * MS
# How often a run may ask within one call before others have their turn.
MOST_ASKS_AT_ONCE = 10_000
FOR_EVER = -1
# From here on an event is late, in ns; and how long a state lasts at the most for being noticed: three quarters of it
# are a frame of 60 a second and a bit.
LATE = 2 * MS
NOTICED = 24 * MS
# An event that is later than this was overtaken: the computer stood still.  In ns.
OVERTAKEN = 1_000 * MS
# What waits for its turn is played so fast that the last of it ends within this, as far as that can be; in ns.
CATCH_UP = 200 * MS


@dataclass(frozen=True)
class Manner:
    """How a timetable is played.

    `again` says what happens when a run with the same key is still playing: "start over", "ignore", "queue", "both",
    or "end" (the second press ends the first run and starts none).  `turns` is how often it is played, `FOR_EVER`
    until it is ended; with `while_held` letting go ends it at once, with `to_the_end` when its turn is over.  `longest`
    bounds a run, in ns; 0 does not.  `most` is how many may queue; `hurries` are the same timetable played faster and
    faster, for those that have queued up.  A run of which an event comes more than `overtaken` ns late, since the
    computer stood still, ends, or with `goes_on` goes on from then.
    """

    again: str = "both"
    turns: int = 1
    while_held: bool = False
    longest: int = 0
    to_the_end: bool = False
    most: int = MOST_QUEUED
    hurries: tuple[Timetable, ...] = ()
    overtaken: int = OVERTAKEN
    goes_on: bool = False


@dataclass
class Live:
    """What a live run needs to lay its events: its score, and what its press brought."""

    score: Score
    given: Given = field(default_factory=Given)
    locked: bool = False


ONCE = Manner()

# One effect: key code (core/effects/pointer.py has more), 1 down or 0 up, planned time in ns, the run it belongs to.
Effect = tuple[int, int, int, "Run"]


class Run:
    """One playing of a timetable."""

    # Most runs keep these; what is not stored costs no time between a press and its first effect.
    index = 0
    state = "playing"
    letting_go = False
    ended = 0
    shared: list[int] | tuple[()] = ()
    turns_left = 0
    while_held = False
    to_the_end = False
    # When its first turn began, once it has had another one.
    begun = 0
    until = 0
    overtaken = OVERTAKEN
    goes_on = False
    # How long the computer stood still while it played, in ns.
    stood = 0
    # Whether it types a text, and which modifiers somebody else held meanwhile.
    types = False
    # Whose press started it, and whether letting go leaves it down.
    surface = ""
    latched = False
    mixed: tuple[int, ...] = ()
    trouble = ""
    late: dict[int, tuple[int, int]] | None = None
    live: Live | None = None
    timeline: Timeline | None = None
    laying: object = None
    waiting: Ask | None = None
    # Whose it is where the press itself is somebody else's, and what its keys have come to.
    rights: Rights | None = None
    typed: Typed | None = None

    def __init__(self, id: int, timetable: Timetable, start: int, again_key: object, owner: object) -> None:
        self.id = id
        self.timetable = timetable
        self.start = start
        self.again_key = again_key
        self.owner = owner
        self.mine: dict[int, None] = {}

    def __repr__(self) -> str:
        return f"<Run {self.id} {self.state} {self.index}/{len(self.timetable.times)}>"


class Player:
    """All runs, and what they hold down.

    `on_end(run, now)` is told of every run that ended, after its releases are in the list.  `down` counts the runs
    that hold a key; `by_key` has the runs that play for each `again_key`; `errands` is what runs want from the world,
    to be done by the caller, and answered with `answer` if the run waits for it.  `on_drop(owner)` is told of every
    start that was waiting and will not come.
    """

    def __init__(self, on_end: Callable[[Run, int], None] | None = None,
                 on_drop: Callable[[object], None] | None = None) -> None:
        self.on_end = on_end
        self.on_drop = on_drop
        self.runs: dict[int, Run] = {}
        self.down: dict[int, int] = {}
        self._due: list[tuple[int, int, Run]] = []
        self.by_key: dict[object, list[Run]] = {}
        self.errands: list[tuple[Run, Ask]] = []
        # What waits for a run with the same key to end, with the time from which on it waits.
        self._queued: dict[object, deque[tuple[Timetable, object, Manner, Live | None, int, Rights | None]]] = {}
        self._next_id = 1
        self.gate = Gate()

    def start(self, timetable: Timetable, now: int, out: list[Effect], *, again: str = "", again_key: object = None,
              owner: object = None, manner: Manner = ONCE, live: Live | None = None,
              rights: Rights | None = None) -> tuple[Run | None, str]:
        """Start a run at `now` and send what is due at once.

        `again` is short for a `manner` with just that.  A `live` run lays its own events.  `rights` are those of the
        press, where its binding came from somebody else.  Returns the run and
        "started"; or None with "ignored", "queued", "queue full" or "ended".
        """
        again = again or manner.again
        playing = self.by_key.get(again_key) if again_key is not None else None
        if playing and again != "both":
            if again == "ignore":
                return None, "ignored"
            if again == "queue":
                queue = self._queued.setdefault(again_key, deque())
                if len(queue) >= manner.most:
                    return None, "queue full"
                queue.append((timetable, owner, manner, live, now, rights))
                return None, "queued"
            for run in list(playing):
                if again == "end":
                    # Just what it waited for.
                    self._end(run, now, now, "done", out)
                else:
                    self.stop(run, now, out, keep_queue=True)
            if again == "end":
                return None, "ended"
        return self._begin(timetable, now, out, again_key, owner, manner, live, rights), "started"

    def _begin(self, timetable: Timetable, now: int, out: list[Effect], again_key: object, owner: object,
               manner: Manner = ONCE, live: Live | None = None, rights: Rights | None = None) -> Run:
        run = Run(self._next_id, timetable, now, again_key, owner)
        self._next_id += 1
        self.runs[run.id] = run
        if again_key is not None:
            self.by_key.setdefault(again_key, []).append(run)
        if manner is not ONCE:
            run.turns_left, run.while_held = manner.turns - 1 if manner.turns > 0 else FOR_EVER, manner.while_held
            run.to_the_end = manner.to_the_end
            run.overtaken, run.goes_on = manner.overtaken, manner.goes_on
            if manner.longest:
                run.until = now + manner.longest
                heappush(self._due, (run.until, run.id, run))
        if rights is not None:
            run.rights = rights
        if live is not None:
            run.live = live
            self._lay_anew(run)
        self._play(run, now, now, out)
        return run

    def _lay_anew(self, run: Run) -> None:
        assert run.live is not None
        run.timeline, run.laying = run.live.score.start(run.live.given, locked=run.live.locked, rights=run.rights)
        run.timetable = run.timeline.timetable
        self._ask(run, None)

    def _ask(self, run: Run, answer: object) -> None:
        """Let a live run lay its next events, up to its next question."""
        assert run.timeline is not None
        try:
            run.waiting = run.laying.send(answer)  # type: ignore[attr-defined]
            return
        except (StopIteration, Finish):
            pass
        except GaveUp as error:
            run.trouble = f"line {error.line}: {error}"
        except ProblemError as error:
            run.trouble = f"line {error.problem.line or run.timeline.line}: {error.problem.what}"
        except Exception as error:
            # A mistake of the program ends this run, and no other.
            run.trouble = f"line {run.timeline.line}: something unexpected happened: {error!r}"
        run.waiting = run.laying = None
        run.timeline.finish()

    def resume(self, run: Run, outcome: object, now: int, out: list[Effect]) -> None:
        """What came of an errand that a run waits for: it goes on at `now`."""
        if run.state != "playing" or run.timeline is None or run.waiting is None:
            return
        run.timeline.now = max(run.timeline.now, now - run.start)
        self._ask(run, outcome)
        self._play(run, now, now, out)

    def advance(self, now: int, out: list[Effect]) -> None:
        """Send everything that is due at `now`, in the order of its planned times."""
        due = self._due
        while due and due[0][0] <= now:
            planned, _, run = heappop(due)
            if run.state != "playing":
                continue
            if run.until and planned >= run.until:
                run.trouble = f"its limit is {say_duration(run.until - run.start)}"
                self._end(run, planned, now, "stopped", out)
            elif now - planned > run.overtaken and (lost := now - self._next_of(run)) > run.overtaken:
                self._overtake(run, lost, now, out)
            else:
                try:
                    self._play(run, planned, now, out)
                except Exception as error:
                    # A mistake of the program ends this run, and no other.
                    run.trouble = f"something unexpected happened: {error!r}"
                    if run.state == "playing":
                        self._end(run, planned, now, "stopped", out, next_in_queue=False)

    @staticmethod
    def _next_of(run: Run) -> int:
        """When a run's next event was planned, or its end."""
        times = run.timetable.times
        if run.index < len(times):
            return run.start + times[run.index]
        return run.start + (run.timeline.now if run.timeline is not None else run.timetable.length)

    def _overtake(self, run: Run, lost: int, now: int, out: list[Effect]) -> None:
        """A run's events are long overdue: nobody waits for them any more."""
        if run.goes_on:
            run.stood += lost
            run.start += lost
            if run.begun:
                run.begun += lost
            if run.until:
                run.until += lost
                heappush(self._due, (run.until, run.id, run))
            self._play(run, now, now, out)
        else:
            run.trouble = f"the computer was suspended or busy for {say_duration(lost)}"
            self._drop_queue(run.again_key)
            self._end(run, now, now, "stopped", out, next_in_queue=False)

    def slept(self, lost: int, now: int, out: list[Effect]) -> None:
        """The computer was suspended for `lost` ns of which the engine's clock knows nothing.  What holds goes on."""
        for run in list(self.runs.values()):
            if run.timetable.holds or lost <= run.overtaken:
                continue
            if run.goes_on:
                run.stood += lost
            else:
                run.trouble = f"the computer was suspended for {say_duration(lost)}"
                self._drop_queue(run.again_key)
                self._end(run, now, now, "stopped", out, next_in_queue=False)

    def _drop_queue(self, again_key: object) -> None:
        for _, owner, *_ in self._queued.pop(again_key, ()):
            if self.on_drop is not None:
                self.on_drop(owner)

    def next_deadline(self) -> int | None:
        """When `advance` has to be called next, in ns, or None."""
        due = self._due
        while due and due[0][2].state != "playing":
            heappop(due)
        return due[0][0] if due else None

    def _play(self, run: Run, until: int, now: int, out: list[Effect]) -> None:
        """Send the run's events planned up to `until`; book the next."""
        asks = 0
        while True:
            timetable = run.timetable
            times, start, index, last = timetable.times, run.start, run.index, len(timetable.times)
            guarded = timetable.whose is not None or run.rights is not None
            while index < last:
                planned = start + times[index]
                if planned > until:
                    run.index = index
                    heappush(self._due, (planned, run.id, run))
                    return
                code, value = timetable.codes[index], timetable.values[index]
                if now - planned > LATE or run.late:
                    wait = self._too_short(run, code, planned, now)
                    if wait:
                        run.index = index
                        heappush(self._due, (wait, run.id, run))
                        return
                if guarded and (why := self._shut_out(run, index, code, value, now)):
                    run.index, run.trouble = index, why
                    self._drop_queue(run.again_key)
                    self._end(run, planned, now, "stopped", out, next_in_queue=False)
                    return
                if MOMENTARY_FROM <= code < MOMENTARY_TO:
                    out.append((code, value, planned, run))
                elif value:
                    self._press(run, code, planned, out, value)
                else:
                    self._release(run, code, planned, out)
                index += 1
            run.index = index
            if run.waiting is not None:
                asks += 1
                if not self._proceed(run, until, asks):
                    return
                continue
            end = start + (timetable.least if timetable.holds else timetable.length)
            if timetable.holds and not run.letting_go:
                return
            if end > until:
                heappush(self._due, (end, run.id, run))
                return
            if not run.turns_left or run.trouble:
                self._end(run, end, now, "stopped" if run.trouble else "done", out)
                return
            if run.turns_left > 0:
                run.turns_left -= 1
            # The next turn begins where this one was to end: no drift.
            run.begun = run.begun or start
            run.start, run.index = start + max(timetable.length, SHORTEST_TURN), 0
            if run.live is not None:
                self._lay_anew(run)
            if run.start > until:
                heappush(self._due, (run.start, run.id, run))
                return

    def _too_short(self, run: Run, code: int, planned: int, now: int) -> int:
        """Until when an event has to wait, so that what came late before it on the same key can be noticed; or 0.

        When the whole machine has paused, a key's down and up are due at once, and a program that looks once a frame
        would see neither.  Three quarters of the plan are kept, so that what comes behind catches up; what comes behind
        waits for it as well when it is in time itself.
        """
        if run.late is None:
            run.late = {}
        before = run.late.get(code)
        if before is not None:
            sent, was_planned = before
            until = sent + min(planned - was_planned, NOTICED) * 3 // 4
            if now < until:
                return until
        if now - planned > LATE:
            run.late[code] = (now, planned)
        elif before is not None:
            del run.late[code]
        return 0

    def _shut_out(self, run: Run, index: int, code: int, value: int, now: int) -> str:
        """Why an event of a stranger may not leave; nothing if it may, or if it is the person's own."""
        timetable = run.timetable
        rights = (timetable.whose[index] if timetable.whose is not None else None) or run.rights
        # What goes up again went down with leave.
        if rights is None or (not value and code in run.mine):
            return ""
        if run.typed is None:
            run.typed = Typed()
        why = self.gate.shut(rights, code, run.typed, self.down, now)
        if not why:
            return ""
        line = f"line {timetable.lines[index]}: " if timetable.lines[index] else ""
        return f"{line}not sent, because it {why} and is not yours: {rights.whose}. Approve it with G on the desk"

    def _proceed(self, run: Run, until: int, asks: int) -> bool:
        """Deal with what a live run asks; true if it can go on at once."""
        ask, timeline = run.waiting, run.timeline
        assert timeline is not None
        if isinstance(ask, CatchUp):
            due = run.start + timeline.now
            if due > until or asks > MOST_ASKS_AT_ONCE:
                heappush(self._due, (max(due, until + 1), run.id, run))
                return False
            self._ask(run, None)
            return True
        assert ask is not None
        rights = timeline.rights or run.rights
        if rights is not None and not rights.reaches and reach_of_ask(ask):
            self.errands.append((run, Errand(ask.line, "asleep", (f"{ask.told}, of {rights.whose}",))))
            self._ask(run, False)
            return True
        self.errands.append((run, ask))
        if isinstance(ask, Errand) and not ask.wait:
            self._ask(run, True)
            return True
        return False

    def _press(self, run: Run, code: int, planned: int, out: list[Effect], value: int = 1) -> None:
        if code in run.mine:
            return
        run.mine[code] = None
        holders = self.down.get(code, 0)
        self.down[code] = holders + 1
        if holders:
            run.shared = [*run.shared, code]
        else:
            out.append((code, value, planned, run))

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
        """Letting go ends a run that holds: now, or when its shortest time has passed; others are left alone."""
        if run.state == "playing" and run.while_held:
            self._end(run, now, now, "done", out)
            return
        if run.to_the_end:
            run.turns_left = 0
        if run.state != "playing" or not run.timetable.holds or run.letting_go:
            return
        run.letting_go = True
        if run.index >= len(run.timetable.times):
            end = run.start + run.timetable.least
            if end > now:
                heappush(self._due, (end, run.id, run))
            else:
                self._end(run, now, now, "done", out)

    def stop(self, run: Run, now: int, out: list[Effect], *, keep_queue: bool = False) -> None:
        """End a run at once and release what it holds."""
        if run.state == "playing":
            if not keep_queue:
                self._drop_queue(run.again_key)
            self._end(run, now, now, "stopped", out, next_in_queue=False)

    def stop_all(self, now: int, out: list[Effect]) -> int:
        """End every run, latest first, and forget the queued ones.  Returns how many were playing."""
        for key in list(self._queued):
            self._drop_queue(key)
        runs = list(self.runs.values())
        for run in reversed(runs):
            self.stop(run, now, out)
        self._due.clear()
        return len(runs)

    def _end(self, run: Run, planned: int, now: int, state: str, out: list[Effect], *,
             next_in_queue: bool = True) -> None:
        for code in reversed(list(run.mine)):
            self._release(run, code, planned, out)
        if run.timetable.switches:
            self._switch_back(run, planned, out)
        if run.laying is not None:
            run.laying.close()  # type: ignore[attr-defined]
            run.waiting = run.laying = None
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
            timetable, owner, manner, live, since, rights = queue.popleft()
            latest = queue[-1][4] if queue else since
            if not queue:
                del self._queued[key]
            if manner.hurries:
                timetable = hurried(timetable, manner.hurries, len(queue) + 1, latest + CATCH_UP - now)
            self._begin(timetable, now, out, key, owner, manner, live, rights)

    def _switch_back(self, run: Run, planned: int, out: list[Effect]) -> None:
        """A run that ends between switching something off and on again leaves it as it was."""
        code, timetable = run.timetable.switches, run.timetable
        times = sum(1 for index in range(run.index) if timetable.codes[index] == code and timetable.values[index])
        if times % 2 and code not in self.down:
            out.extend([(code, 1, planned, run), (code, 0, planned, run)])


def hurried(timetable: Timetable, faster: tuple[Timetable, ...], waiting: int, left: int) -> Timetable:
    """The slowest of a timetable and its faster ones with which `waiting` of them are played within `left` ns."""
    return next((one for one in (timetable, *faster) if one.length * waiting <= left), faster[-1])
