"""Starting runs beside presses, ending them, letting them go on; and what happens when everything has to stop."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from brass_pebble.core.macro.timetable import Macro, Timetable
from brass_pebble.core.macro.value.kinds import Value
from brass_pebble.core.play.player import Manner, Player, Run
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.problem import Problem
from brass_pebble.engine.clients.news import News
from brass_pebble.engine.hot.sender import Sender
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Ports


class Control:
    """`stop_first` and `stop_last` are called when everything is stopped, before runs end and after; `helpers` ends the
    programs that a run has started."""

    stop_first: Sequence[Callable[[], object]] = ()
    stop_last: Sequence[Callable[[], object]] = ()
    end_helpers: Callable[[Run], object]
    drop_questions: Callable[[Run], object]

    def __init__(self, ports: Ports, player: Player, sender: Sender, news: News) -> None:
        self._ports, self._router = ports, ports.router
        self._player, self._sender, self._news = player, sender, news

    def play(self, macro: Macro, origin: str, values: Mapping[str, Value] | None = None,
             answers: Mapping[str, str] | None = None) -> Trace:
        """Play a macro for a client, with the values and answers that it gave."""
        now = self._ports.now()
        trace = self._router.new_trace(now, now, origin)
        trace.spoken = f"“{macro.name}”"
        self._router.play_macro(trace, macro, now, self._sender.out, values, answers)
        if self._sender.out:
            self._sender.send(now)
        self._news.fresh.append(trace)
        return trace

    def play_timetable(self, program: Timetable, words: str, origin: str, manner: Manner) -> Trace:
        """Play keys that no binding and no macro plays, for a client."""
        now = self._ports.now()
        trace = self._router.new_trace(now, now, origin)
        trace.spoken = words
        self._router.play(trace, program, manner, None, now, self._sender.out)
        if self._sender.out:
            self._sender.send(now)
        self._news.fresh.append(trace)
        return trace

    def stop_all(self) -> int:
        """End every run and the class, release everything.  Returns the number of runs ended."""
        for call in self.stop_first:
            call()
        now, count = self._ports.now(), len(self._player.runs)
        try:
            self._player.stop_all(now, self._sender.out)
            if self._sender.out:
                self._sender.send(now)
            self._sender.release_rest(now)
        except Exception as error:
            # To stop has to work, whatever is wrong.
            self.panic(error)
        for call in self.stop_last:
            call()
        return count

    def stopped_by_press(self, trace: Trace) -> None:
        """A press has ended every run; what else stops with them."""
        self.stop_waiting()
        self._sender.release_rest(self._ports.now())
        for call in self.stop_last:
            call()

    stop_waiting: Callable[[], object]

    def resume_run(self, run: Run, outcome: object) -> None:
        """What a run asked of the world is known now: it goes on."""
        now = self._ports.now()
        self._player.resume(run, outcome, now, self._sender.out)
        if self._sender.out:
            self._sender.send(now)

    def stop_runs(self, meant: Callable[[Run], bool]) -> int:
        """End the runs that are meant.  Returns how many."""
        now = self._ports.now()
        runs = [run for run in self._player.runs.values() if meant(run)]
        for run in reversed(runs):
            self._player.stop(run, now, self._sender.out)
        if self._sender.out:
            self._sender.send(now)
        return len(runs)

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

    def run_ended(self, run: Run, now: int) -> None:
        """A run has ended, however it did."""
        self._news.run_ended(run)
        if run.live is not None:
            self.drop_questions(run)
            if run.state == "stopped":
                self.end_helpers(run)

    def panic(self, error: Exception) -> None:
        """A mistake of the program: everything stops and is released, the engine goes on."""
        log.error("unexpected: %r", error, exc_info=error)
        # What waits in the list has left as far as the player knows; the rest of the runs' keys go up behind it.
        sender, player = self._sender, self._player
        out, sender.out = sender.out, []
        self._news.drop_effects()
        now, runs = self._ports.now(), list(player.runs.values())
        player.on_end = None
        player.stop_all(now, out)
        player.on_end = self.run_ended
        for run in runs:
            self.run_ended(run, now)
        hint = "Every run was stopped and released; the log has the details"
        try:
            sender.send_last(out, self._ports.now())
            sender.release_rest(now)
        except Exception as worse:
            # Nothing can be sent any more: ending makes the kernel release what is down.
            log.error("the output failed, too: %r", worse)
            hint = "The output failed, too, so the engine ended, which releases every key; the log has the details"
            self._ports.loop.stop()
        self._ports.problems.add(Problem(f"something unexpected happened: {error!r}", hint=hint))
