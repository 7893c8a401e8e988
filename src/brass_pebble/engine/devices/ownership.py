"""Which device each surface has: taking over, losing, finding again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from brass_pebble.core.desk.model import ARMED, Surface
from brass_pebble.core.devices.identity import Claim, DeviceFacts, Verdict, assign, score
from brass_pebble.core.play.bounce import Chatter
from brass_pebble.core.say.problem import Problem
from brass_pebble.core.signals.signal import WHEEL
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import (
    Follows,
    FollowsSurface,
    HeardAside,
    LiveDesk,
    Ports,
    PressPath,
    RunControl,
    Tap,
)
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.inputs.base import HasLamps, Input, InputError
from brass_pebble.kinds.inputs.kind import InputKind, Watch

from .memory import Memory
from .ways_in import TRIAL_SECONDS, WaysIn

MS = 1_000_000
SETTLE = 150 * MS
# What turns and is no motion of a pointer: EV_REL codes Z to MISC.
TURNS = frozenset(WHEEL.first + code for code in range(2, 10))
WAITS = "waits until its keys are let go"


@dataclass
class Holding:
    """A surface's device.

    Its state is "taken", "waiting" (for its keys to be let go), "resting", "missing", "refused", or "unsure" (several
    could be meant: `ask` has them); `why` says more.  `parts` are the devices that belong to it.
    """

    rules: object
    state: str
    why: str = ""
    source: Input | None = None
    parts: tuple[DeviceFacts, ...] = ()
    ask: tuple[DeviceFacts, ...] = ()
    reasons: tuple[str, ...] = ()
    chatter: Chatter | None = None


def rules_of(surface: Surface) -> object:
    """What a surface's device is opened by: the devices that make it up, and the parts of them that it takes."""
    return surface.rule, surface.also, surface.takes, surface.unbound if surface.shares else ""


class Devices:
    """The inputs of all surfaces."""

    aside: HeardAside
    grips: FollowsSurface
    recorder: Tap
    kinds: dict[str, InputKind]
    messages: Follows
    path: PressPath
    control: RunControl
    live: LiveDesk
    setup: Setup
    memory: Memory

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        self.holdings: dict[str, Holding] = {}
        self.here: list[DeviceFacts] = []
        self.ways = WaysIn(ports, self)
        self._answers: dict[str, str] = {}
        self._watches: list[Watch] = []

    def present(self) -> list[DeviceFacts]:
        """All devices of the bench and of the machine."""
        return [facts for kind in self._used_kinds() for facts in kind.present()]

    def _used_kinds(self) -> list[InputKind]:
        return [kind for kind in self.kinds.values() if self.setup.real_devices or not kind.of_machine]

    def owner(self, device: str) -> str:
        """The surface that has a device, or an empty text."""
        return next((name for name, h in self.holdings.items() if h.source and any(f.id == device for f in h.parts)),
                    "")

    def find(self, device: str) -> DeviceFacts | None:
        """A device that is here, by its id."""
        return next((facts for facts in self.here if facts.id == device), None)

    def take(self, present: list[DeviceFacts] | None = None) -> bool:
        """Take over what the desk names and is here; give back what it no longer names.  True if anything changed.

        `present` are the devices there are; they are listed here without it.
        """
        surfaces = self._ports.desk.surfaces
        before, here_before = self._states(), self.here
        for surface_id, holding in list(self.holdings.items()):
            surface = surfaces.get(surface_id)
            if surface is None or rules_of(surface) != holding.rules:
                self.give_back(surface_id)
                del self.holdings[surface_id]
        if present is not None:
            self.here = present
        self._open_late_nodes()
        self._give_back_the_last()
        waiting = [s for s in surfaces.values() if self.holdings.get(s.id) is None or not self.holdings[s.id].source]
        if present is None:
            present = self.present() if waiting or not self.here else self.here
        self.here = present
        self.ways.forget_absent(present)
        # Over the network somebody who is started again is there twice for a moment: those are no twins.
        self.memory.see([facts for facts in present if self.kind_of(facts).has_twins])
        self._place(waiting)
        for surface in surfaces.values():
            self.listen(surface.id)
        self.remember()
        return before != self._states() or here_before != present

    def _place(self, waiting: list[Surface]) -> None:
        ports = self.memory.ports
        held = {name: h.parts[0] for name, h in self.holdings.items() if h.source and h.parts}
        extra = {f"{name}+{index}": part for name, h in self.holdings.items() if h.source
                 for index, part in enumerate(h.parts[1:], 1)}
        claims = []
        for surface in waiting:
            answered = self.find(self._answers.get(surface.id, ""))
            if answered and not self.owner(answered.id) and score(surface.rule, answered).points:
                held[surface.id] = answered
            else:
                claims.append(Claim(surface.id, surface.rule, ports.get(surface.id, "")))
            claims += [Claim(f"{surface.id}+{index}", rule) for index, rule in enumerate(surface.also, 1)]
        elsewhere = {facts.make for facts in self.here if not self.kind_of(facts).has_twins}
        twins = {make: count for make, count in self.memory.twins.items() if make not in elsewhere}
        verdicts = assign(claims, self.here, {**held, **extra}, twins)
        for surface in waiting:
            verdict = verdicts.get(surface.id) or Verdict(held[surface.id], reasons=("you said so",))
            parts = [v.facts for index in range(len(surface.also))
                     if (v := verdicts[f"{surface.id}+{index + 1}"]).facts]
            self.holdings[surface.id] = self._settle(surface, verdict, parts)

    def _open_late_nodes(self) -> None:
        """A device of which a node came after the others is opened again, so that none of it goes by."""
        for surface_id, holding in list(self.holdings.items()):
            known = {node for part in holding.parts for node in part.nodes}
            if holding.source is None or not known:
                continue
            now = {node for facts in self.here if known & set(facts.nodes) for node in facts.nodes}
            if now > known:
                log.info("surface %s has a node more", surface_id)
                self.give_back(surface_id)
                del self.holdings[surface_id]

    def _give_back_the_last(self) -> None:
        """What has become the last keyboard or pointer, since another one went, is not kept."""
        for surface_id, holding in list(self.holdings.items()):
            surface = self._ports.desk.surfaces[surface_id]
            if holding.source is None or not holding.parts or \
                    not self.kind_of(holding.parts[0]).takes_from_programs:
                continue
            why = self.ways.refusal(surface, holding.parts[0])
            if why:
                log.info("surface %s is given back: %s", surface_id, why)
                self.give_back(surface_id)
                self.holdings[surface_id] = Holding(holding.rules, "refused", why)

    def _settle(self, surface: Surface, verdict: Verdict, parts: list[DeviceFacts]) -> Holding:
        facts, rules = verdict.facts, rules_of(surface)
        if facts is None:
            ask = self.ways.askable(verdict.ask)
            if verdict.ask and not ask:
                return Holding(rules, "missing", self.ways.say_typed(verdict.ask))
            return Holding(rules, "unsure" if ask else "missing", verdict.why, ask=ask)
        why = self.ways.refusal(surface, facts)
        if why:
            return Holding(rules, "refused", why)
        try:
            holding = self._open(surface, facts, parts)
        except Exception as error:
            # Whatever is wrong with one device is told for that one, and the others are taken over all the same.
            log.error("opening %s failed: %r", facts.shown, error, exc_info=error)
            return Holding(rules, "refused", f"“{facts.shown}” cannot be taken over: {error!r}. The log has more")
        holding.reasons = verdict.reasons
        if holding.source:
            self.memory.ports[surface.id] = facts.port
            if surface.id in self._ports.router.resting:
                self.holdings[surface.id] = holding
                self.rest(surface.id)
        return holding

    def is_typed_on(self, facts: DeviceFacts) -> bool:
        """Whether a device's keys go to programs: it is not a surface, or one that takes other parts of it."""
        return self.ways.types_for_programs(facts)

    def keys_mix_in(self, facts: DeviceFacts) -> bool:
        """Whether what is held on it reaches programs beside what is sent: Ctrl of the main keyboard."""
        return self.kind_of(facts).takes_from_programs and self.is_typed_on(facts)

    def _states(self) -> dict[str, tuple[object, ...]]:
        return {name: (holding.state, holding.why, holding.ask) for name, holding in self.holdings.items()}

    def _open(self, surface: Surface, facts: DeviceFacts, parts: list[DeviceFacts]) -> Holding:
        every, rules = (facts, *parts), rules_of(surface)
        try:
            source = self.kinds[facts.kind].open(facts, every, surface.shares)
        except InputError as error:
            log.warning("%s", error)
            return Holding(rules, "refused", str(error))
        log.info("took over %s at %s", facts.shown, facts.port or facts.id)
        why = "" if source.state() == "taken" else WAITS
        return Holding(rules, source.state(), why, source, every)

    def listen(self, surface_id: str) -> None:
        """Read a surface's device as its desk says now, and show its lamps."""
        holding = self.holdings.get(surface_id)
        if holding is None or holding.source is None:
            return
        surface = self._ports.desk.surfaces[surface_id]
        source = holding.source
        wanted = frozenset(signal for item in surface.layout.controls for signal in (item.code, *item.moves))
        if self.aside.heard_by(surface_id):
            # Whoever draws it has to hear what turns, too.
            wanted |= TURNS
        source.expect(wanted, never_lets_go=surface.never_lets_go)
        self.share(surface_id)
        self.grips.follow(surface_id)
        self._ports.router.mover.set_ranges(surface_id, source.ranges())
        if holding.state != "resting" or self._ports.desk.surfaces[surface_id].can_wake_itself():
            self.path.listen_to(surface_id, holding.source)
        self.show_lamps(surface_id)

    def share(self, surface_id: str) -> None:
        """Take of a surface's device what its layers want now, and let the rest pass."""
        surface, holding = self._ports.desk.surfaces.get(surface_id), self.holdings.get(surface_id)
        if surface is not None and surface.shares and holding is not None and holding.source is not None:
            holding.source.share(surface.taken_now(self._ports.router.layers.stack(surface)))

    def show_all_lamps(self) -> None:
        """Layers came on or went off: the lamps of every device say so."""
        for surface_id in self.holdings:
            self.show_lamps(surface_id)

    def show_lamps(self, surface_id: str) -> None:
        """Light the lamps that the desk gives a meaning."""
        surface, holding = self._ports.desk.surfaces[surface_id], self.holdings[surface_id]
        if holding.source is not None and holding.state != "resting":
            armed = holding.state == "taken"
            layers = set(self._ports.router.layers.stack(surface)) if armed else set()
            lamps = {lamp: armed if shows == ARMED else shows in layers for lamp, shows in surface.lamps}
            if self.recorder.busy:
                # Hands are on the surface and eyes on the show: every lamp it has says that something is recorded.
                lamps |= dict.fromkeys(holding.source.facts.lamps, True)
            if (lit := holding.source.ability(HasLamps)) is not None:
                lit.show_lamps(lamps)

    def point_out(self, facts: DeviceFacts) -> None:
        """A press that is not typing, or a client, told which device the surface asked about has."""
        if self.is_asked_about(facts):
            question = self.question()
            log.info("a press told that %s at %s is %s", facts.shown, facts.port, question)
            self._answers[question] = facts.id
            self.memory.ports[question] = facts.port
            self.take(self.here)
            self._answers.pop(question, None)
            self.live.tell_desk()

    def is_asked_about(self, facts: DeviceFacts) -> bool:
        """Whether it may be the device of the surface that is asked about."""
        question = self.question()
        return bool(question) and any(facts.id == asked.id for asked in self.holdings[question].ask)

    def was_typed_on(self, facts: DeviceFacts) -> None:
        """Somebody types on a keyboard that is not a surface: it counts as a main one; no press takes it any more."""
        if self.ways.was_typed_on(facts) and self.take(self.here):
            self.live.tell_desk()

    def question(self) -> str:
        """The surface that wants to know which device it has, or an empty text."""
        return next((name for name in self._ports.desk.surfaces
                     if name in self.holdings and self.holdings[name].state == "unsure"), "")

    def remember(self) -> None:
        """Write down what is known of devices and was told once, if it has changed."""
        if text := self.memory.text():
            self._ports.worker.do(lambda: self.memory.write(text), lambda result: None)

    def rest(self, surface_id: str) -> None:
        """Let a surface type normally, as if it had never been taken over.

        It is read on only if one of its controls wakes it.
        """
        holding = self.holdings.get(surface_id)
        self._ports.router.resting.add(surface_id)
        if holding is None or holding.source is None:
            return
        self.path.let_go(surface_id)
        self.control.stop_latches_of(surface_id)
        holding.source.rest()
        holding.state, holding.why = "resting", "it types normally; wake it with s, or brass-pebble wake"
        if not self._ports.desk.surfaces[surface_id].can_wake_itself():
            for fileno in holding.source.filenos():
                self._ports.loop.forget(fileno)

    def wake(self, surface_id: str, *, on_trial: bool = False) -> None:
        """Let a surface act again; one that was refused since somebody may need its device only if it may be tried."""
        holding = self.holdings.get(surface_id)
        self._ports.router.resting.discard(surface_id)
        if on_trial and holding is not None and holding.state == "refused" and self.ways.was_refused(surface_id):
            self.ways.try_out(surface_id, TRIAL_SECONDS, lambda now: self._trial_over(surface_id))
            self.take(self.here)
            return
        if holding is None or holding.source is None or holding.state != "resting":
            return
        # The control that wakes it is down, and its release goes to other programs.
        self.path.let_go(surface_id)
        try:
            holding.source.wake()
        except InputError as error:
            self.give_back(surface_id)
            self.holdings[surface_id] = Holding(holding.rules, "refused", str(error))
            return
        holding.state = holding.source.state()
        holding.why = "" if holding.state == "taken" else WAITS
        self.listen(surface_id)

    def _trial_over(self, surface_id: str) -> None:
        """Nobody kept what was refused: it works like any other device again."""
        self.ways.end_trial(surface_id)
        surface = self._ports.desk.surfaces.get(surface_id)
        if surface is None:
            return
        self.give_back(surface_id)
        self.take(self.here)
        self._ports.problems.add(Problem(
            f"{surface.name} was taken over on trial and nobody kept it, so it was given back",
            hint="Wake it once more, and keep it within ten seconds: with k on the Desk, or brass-pebble keep"))
        self.live.tell_desk()

    def toggle(self, surface_id: str) -> None:
        """Rest if awake, wake if resting."""
        (self.wake if surface_id in self._ports.router.resting else self.rest)(surface_id)
        self.live.tell_desk()

    def check_state(self, surface_id: str) -> None:
        """An input that waited may have been taken by now."""
        holding = self.holdings.get(surface_id)
        if holding and holding.source and holding.state != holding.source.state():
            holding.state, holding.why = holding.source.state(), ""
            self.show_lamps(surface_id)
            self.live.tell_desk()

    def lost(self, surface_id: str, why: str, told: str = "") -> None:
        """A device was pulled out: release what it held, and wait for it.  `told` is what the person is to know."""
        log.info("surface %s lost its device: %s", surface_id, why)
        surface, rules = self._ports.desk.surfaces.get(surface_id), self.holdings[surface_id].rules
        self.path.let_go(surface_id)
        self.give_back(surface_id)
        if surface is not None and surface.unplugged == "end":
            self.control.stop_runs_of(surface_id)
        self.holdings[surface_id] = Holding(rules, "missing", told or "its device was pulled out; plug it in again")
        self.live.tell_desk()
        self.look_again()

    def cannot_be_read(self, surface_id: str, error: Exception) -> None:
        """Reading a device failed in a way that nobody foresaw: it is given back, and the others are read on."""
        log.error("reading %s failed: %r", surface_id, error, exc_info=error)
        rules = self.holdings[surface_id].rules
        self.give_back(surface_id)
        self.holdings[surface_id] = Holding(rules, "refused", f"reading it failed ({error!r}), so it was given back. "
                                            "Plug it in again; the log has more")
        self.live.tell_desk()

    def notice_chatter(self, surface_id: str, chatter: Chatter) -> None:
        """One of its switches bounces: offer a debounce time."""
        if holding := self.holdings.get(surface_id):
            holding.chatter = chatter
            self.live.tell_desk()

    def give_back(self, surface_id: str) -> None:
        """Let a surface's device go."""
        holding = self.holdings.get(surface_id)
        if holding and holding.source:
            self.path.let_go(surface_id)
            for fileno in holding.source.filenos():
                self._ports.loop.forget(fileno)
            source, holding.source = holding.source, None
            try:
                source.close()
            except Exception as error:
                log.error("closing %s failed: %r", source.facts.shown, error, exc_info=error)

    def watch_for_changes(self) -> None:
        """Be told of devices that come and go."""
        for kind in self._used_kinds():
            try:
                for watch in kind.watches():
                    self._watches.append(watch)
                    self._ports.loop.watch(watch.fileno, self._watcher(watch))
            except OSError as error:
                log.warning("devices of the kind %s that come and go are not noticed: %s", kind.name, error)

    def _watcher(self, watch: Watch) -> Callable[[int], None]:
        def ready(events: int) -> None:
            if watch.read():
                self.look_again()
        return ready

    def look_again(self) -> None:
        """Look for missing devices when the system has come to rest."""
        def found(present: object) -> None:
            if not isinstance(present, list):
                return
            self._notice_lost_ports(present)
            self.messages.follow()
            if self.take(present):
                self.live.tell_desk()
        # Listing reads hundreds of small files when there are many devices: not on the loop.
        self._ports.alarms.at("devices", self._ports.now() + SETTLE,
                           lambda now: self._ports.worker.do(self.present, found))

    def _notice_lost_ports(self, present: list[DeviceFacts]) -> None:
        """Some kinds do not tell when a device goes: it is missing from the list."""
        here = {facts.id for facts in present}
        for name, holding in list(self.holdings.items()):
            if holding.source is not None and holding.parts and holding.parts[0].id not in here and \
                    self.kinds[holding.parts[0].kind].goes_silently:
                self.lost(name, "its port is gone")

    def close(self) -> None:
        """Give every device back."""
        for surface_id in list(self.holdings):
            self.give_back(surface_id)
        for watch in self._watches:
            self._ports.loop.forget(watch.fileno)
            watch.close()

    def kind_of(self, facts: DeviceFacts) -> InputKind:
        """The kind of a device."""
        return self.kinds[facts.kind]
