"""Recording without the screen: what surfaces send, and the keyboard types, between two presses of a record control."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from brass_pebble.core.effects.kinds import KEY, MOTION, kind_of
from brass_pebble.core.play.player import Effect
from brass_pebble.core.play.quick_record import CHOOSE, IDLE, RECORDING, Outcome, QuickRecord
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.problem import Problem
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.disk.edits import Edit, binding_edit
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import LiveDesk, Ports
from brass_pebble.kinds.inputs.base import DeviceGone, InputError

if TYPE_CHECKING:
    from brass_pebble.core.devices.identity import DeviceFacts
    from brass_pebble.kinds.inputs.listening import Heard, Overheard

WORDS = {CHOOSE: "Press the key that should play this macro; press record again to cancel",
         RECORDING: "recording; press record again to end"}
# What recordings are called, with a number behind it: a recording may replace one of them.
NAMED = "recorded-"


class Recorder:
    """Joins `QuickRecord` with the engine.

    With `_keyboard`, the keyboards that are no surfaces are listened to from the moment the target is chosen until the
    recording ends, and at no other time.
    """

    devices: Devices
    live: LiveDesk
    store: DeskStore

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        self.quick = QuickRecord()
        self._keyboard = False
        self._ears: list[Overheard] = []
        self._opened = False

    @property
    def busy(self) -> bool:
        """Whether presses have to be looked at."""
        return self.quick.state != IDLE

    @property
    def chooses(self) -> bool:
        """Whether the next press is the target."""
        return self.quick.state == CHOOSE

    def toggle(self, trace: Trace, *, keyboard: bool = False) -> None:
        """The record control was pressed; with `keyboard`, what is typed is recorded, too."""
        now = self._ports.now()
        if not self.busy:
            self._keyboard = keyboard
        outcome = self.quick.toggle(now)
        trace.state = "done"
        if outcome is not None:
            trace.why = self._finish(outcome)
        else:
            trace.why = WORDS.get(self.quick.state, "nothing is recorded")
        self._follow()

    def cancel(self, why: str) -> bool:
        """End it, and save nothing; false if nothing was going on."""
        if not self.quick.cancel():
            return False
        self._say(f"Recording ended ({why}); nothing was saved.")
        self._follow()
        return True

    def take_target(self, surface: str, control: str) -> bool:
        """Whether this press only says which control is to play it."""
        if not self.quick.choose(surface, control, self._ports.now()):
            return False
        self._follow()
        return True

    def note(self, effects: list[Effect], now: int) -> None:
        """Something was sent: it belongs to the recording if a surface's press caused it."""
        for code, value, _, run in effects:
            owner = run.owner
            # Keys and the pointer are recorded; messages and axes have no place in the text.
            if kind_of(code) in (KEY, MOTION) and not run.timetable.secret and isinstance(owner, Trace) \
                    and owner.origin == "press":
                self.quick.note(code, value, now)

    def hear(self, heard: Heard) -> None:
        """A keyboard that is not a surface was typed on."""
        if self._keyboard and not heard.turned and kind_of(heard.code) is KEY:
            self.quick.note(self._ports.desk.places.name(heard.code), heard.value, heard.at)

    # Listening to keyboards.

    def _listen(self) -> None:
        wanted = self._keyboard and self.quick.state == RECORDING
        if wanted == self._opened:
            return
        self._opened = wanted
        if not wanted:
            ears, self._ears = self._ears, []
            for ear in ears:
                self._close(ear)
            return
        devices = self.devices
        for facts in devices.here:
            if facts.full and facts.readable and not devices.owner(facts.id) and \
                    devices.kind_of(facts).takes_from_programs:
                self._open(facts)

    def _open(self, facts: DeviceFacts) -> None:
        def job() -> object:
            from brass_pebble.kinds.inputs.listening import Overheard
            return Overheard(facts)

        def opened(result: Any) -> None:
            if isinstance(result, Exception):
                why = str(result) if isinstance(result, InputError) else f"{facts.shown}: {result!r}"
                self._ports.problems.add(Problem(f"the keyboard is not recorded: {why}"))
            elif not self._opened:
                self._close(result)
            else:
                self._ears.append(result)
                for fileno in result.filenos():
                    self._ports.loop.watch(fileno, self._reader(result, fileno))
        self._ports.worker.do(job, opened)

    def _reader(self, ears: Overheard, fileno: int) -> Any:
        def ready(events: int) -> None:
            try:
                for heard in ears.read(fileno):
                    self.hear(heard)
            except DeviceGone as gone:
                log.info("a keyboard that was recorded is gone: %s", gone)
                if ears in self._ears:
                    self._ears.remove(ears)
                    self._close(ears)
        return ready

    def nodes(self) -> list[str]:
        """The nodes of keyboards that are recorded."""
        return [node for ears in self._ears for node in ears.facts.nodes]

    def _forget(self, ears: Overheard) -> None:
        for fileno in ears.filenos():
            self._ports.loop.forget(fileno)

    def _close(self, ears: Overheard) -> None:
        self._forget(ears)
        # Closing a node may wait for the kernel.
        self._ports.worker.do(ears.close, lambda result: None)

    def close(self) -> None:
        """The engine ends: no keyboard is listened to, and lamps are as they were."""
        for ears in self._ears:
            self._forget(ears)
            ears.close()
        self._ears = []

    # What clients see.

    def _follow(self) -> None:
        """Let every surface be read as it has to be now, and tell clients."""
        self._listen()
        for surface in self._ports.desk.surfaces:
            self.devices.listen(surface)
        if self.busy:
            self._ports.alarms.at("recorder", self.quick.until, self._expire)
        else:
            self._ports.alarms.cancel("recorder")
        self._ports.publisher.publish("recorder", self.state())

    def _expire(self, now: int) -> None:
        outcome = self.quick.expire(now)
        if outcome is not None:
            self._say(f"Recording ended, since its time was over: {self._finish(outcome)}.")
        elif not self.busy:
            self._say("Recording ended, since its time was over; nothing was saved.")
        self._follow()

    def _say(self, text: str) -> None:
        log.info("%s", text)
        self._ports.publisher.publish("note", {"text": text, "bell": False})

    def state(self) -> dict[str, object]:
        """For clients."""
        surface, control = self.quick.target if self.quick.state == RECORDING else ("", "")
        return {"state": self.quick.state, "surface": surface, "control": control,
                "keyboard": self._keyboard and self.busy}

    # The outcome.

    def _finish(self, outcome: Outcome) -> str:
        store = self.store
        surface = self._ports.desk.surfaces.get(outcome.surface)
        if surface is None or not surface.layers:
            return "the control that was chosen is not there any more"
        # The layer that is on top now is the one that the person sees.
        layer = self._ports.router.layers.stack(surface)[-1]
        replaced = self._replaceable(surface.id, layer, outcome.control)
        if not outcome.text:
            bound = binding_edit(surface.id, layer, outcome.control)
            files = ((f"macros/{replaced}.macro", None),) if replaced else ()
            edit = Edit(f"{surface.id} {outcome.control}: recording cleared", bound.values, files, bound.needs)
            said = f"nothing was played, so {surface.name} {outcome.control} was cleared"
        else:
            name = replaced or _free(store.macro_names())
            number = name.removeprefix(NAMED)
            text = f'name "Recorded {number}"\nlabel "rec {number}"\n\n{outcome.text}'
            bound = binding_edit(surface.id, layer, outcome.control, "play", name)
            edit = Edit(f"{surface.id} {outcome.control}: recorded", bound.values, ((f"macros/{name}.macro", text),),
                        bound.needs)
            said = f"recorded onto {surface.name} {outcome.control}, live now"

        def done(result: object) -> None:
            if isinstance(result, tuple):
                self.live.take_loaded(result[1])
            else:
                self._ports.problems.add(Problem(f"what was recorded could not be saved: {result}"))
        self._ports.worker.do(lambda: (store.change(edit), store.load()), done)
        return said

    def _replaceable(self, surface: str, layer: str, control: str) -> str:
        """The recording that a control plays now, if nothing else plays it; an empty text without one."""
        desk = self._ports.desk
        found = ""
        for owner in desk.surfaces.values():
            for each in owner.layers:
                for (name, gesture), binding in each.bindings.items():
                    for action in (binding.action, *binding.action.steps):
                        if action.kind != "play" or not action.target.startswith(NAMED):
                            continue
                        if (owner.id, each.id, name, gesture) == (surface, layer, control, "press"):
                            found = action.target
        others = sum(action.target == found for owner in desk.surfaces.values() for each in owner.layers
                     for binding in each.bindings.values() for action in (binding.action, *binding.action.steps)
                     if action.kind == "play")
        return found if others == 1 and found.removeprefix(NAMED).isdigit() else ""


def _free(taken: set[str]) -> str:
    number = 1
    while f"{NAMED}{number}" in taken:
        number += 1
    return f"{NAMED}{number}"
