"""What is said into microphones: what they are to listen for, what counts, and the presses that come of it.

Sound and its recogniser are in a process of their own for each microphone (kinds/voice/ear.py); here arrives what an
utterance can have been.  Everything that was heard leaves a trace, done or not.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

from brass_pebble.core.desk.action import LISTEN, NO_READING, READINGS, STOP, lead_in
from brass_pebble.core.desk.model import Surface
from brass_pebble.core.desk.read.phrases import SPOKEN
from brass_pebble.core.play.gesture import PRESS, WITH
from brass_pebble.core.play.plan import show_action
from brass_pebble.core.play.player import Run
from brass_pebble.core.play.trace import SPEECH, Trace
from brass_pebble.core.signals.midi_in import FULL_STRENGTH
from brass_pebble.core.signals.signal import phrase_signal
from brass_pebble.core.voice.hearing import HeardWord, Hypothesis, Utterance
from brass_pebble.core.voice.judging import SURE, judge
from brass_pebble.core.voice.listening import (
    ACT,
    ASK,
    ATTEND,
    BEGIN,
    CHOSE,
    END,
    LEFT,
    SCREEN,
    VOICE,
    Candidate,
    Decision,
    Heard,
    Listener,
    listened_for,
    press_values,
    without_attention,
)
from brass_pebble.core.voice.wording import plain_words
from brass_pebble.engine.clients.news import News
from brass_pebble.engine.clients.server import Message
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.hot.filters import Filters
from brass_pebble.engine.ports import Ports, RunControl
from brass_pebble.kinds.inputs.microphones import HearsSpeech
from brass_pebble.kinds.voice.messages import (
    Alike,
    Cannot,
    Dictated,
    Gone,
    Kept,
    Knows,
    Level,
    Listen,
    Ready,
    Second,
    Told,
    Uttered,
    Watch,
)
from brass_pebble.kinds.voice.sent import send_phrase, tell_verdict

from .spoken import CANNOT, GONE, HEARS, STARTING, TYPED, Spoken, voice_row
from .trying import Trying

MS = 1_000_000
REPEATS = re.compile(r"^\s*repeat\b", re.MULTILINE)
# How long clients may look at loudness, in s.
LONGEST_LOOK = 600.0
# An utterance counts as just said for so long, in ns.
LATE = 500 * MS


class Hearing:
    """Everything that is spoken to."""

    devices: Devices
    filters: Filters
    news: News
    control: RunControl
    # Says a text aloud, and calls back when it was said.
    speak: Callable[[str, Callable[[], None]], None]

    def __init__(self, ports: Ports, recordings: Path) -> None:
        self._ports = ports
        self.spoken: dict[str, Spoken] = {}
        self.trying = Trying(ports, self, recordings)
        self._looked_at: dict[int, int] = {}
        self._aloud = 0

    # What is listened for.

    def follow(self) -> None:
        """The desk, its devices or its layers may have changed: have every microphone listen for what counts now."""
        surfaces = {name: surface for name, surface in self._ports.desk.surfaces.items()
                    if surface.layout.id == SPOKEN}
        changed = False
        for name in self.spoken.keys() - surfaces.keys():
            self.trying.gone(name, self.spoken.pop(name))
            changed = True
        for name, surface in surfaces.items():
            spoken = self.spoken.get(name)
            if spoken is None:
                spoken = self.spoken[name] = Spoken(Listener(surface.listening), recorded=self.trying.length(name))
                changed = True
            spoken.listener.settings = surface.listening
            changed |= self._follow_source(name, spoken)
            changed |= self._follow_phrases(surface, spoken)
        if changed:
            self.tell()

    def _follow_source(self, name: str, spoken: Spoken) -> bool:
        holding = self.devices.holdings.get(name)
        taken = holding.source if holding is not None else None
        source = taken.ability(HearsSpeech) if taken is not None else None
        if source is None:
            state, why = (TYPED, "") if taken is not None else (GONE, holding.why if holding is not None else "")
            changed = spoken.source is not None or (spoken.state, spoken.why) != (state, why)
            if spoken.source is not None:
                self.trying.lost(name, spoken)
            spoken.source, spoken.state, spoken.why, spoken.speaking = None, state, why, False
            return changed
        if source is spoken.source:
            return False
        spoken.source, spoken.state, spoken.why, spoken.made_of = source, STARTING, "", None
        source.told = lambda told: self.hear(name, told)
        source.order(Watch(on=bool(self._looked_at)))
        return True

    def _follow_phrases(self, surface: Surface, spoken: Spoken) -> bool:
        """Have it listen for the phrases that mean something with the layers that are on."""
        router, listener = self._ports.router, spoken.listener
        stack = frozenset(router.layers.stack(surface)) if surface.id not in router.resting else frozenset()
        choices = len(listener.choices)
        made_of = (surface, stack, listener.on, choices)
        if spoken.made_of is not None and spoken.made_of[0] is surface and spoken.made_of[1:] == made_of[1:]:  # type: ignore[index]
            return False
        spoken.made_of = made_of
        bound = {control: binding.action for layer in surface.layers if layer.id in stack
                 for (control, gesture), binding in layer.bindings.items()
                 if gesture == PRESS or gesture.startswith(WITH)}
        active = [phrase for phrase in surface.phrases if phrase.id in bound]
        listener.always = frozenset(phrase.id for phrase in active if bound[phrase.id].target == STOP)
        listener.plain = frozenset(phrase.id for phrase in active if not phrase.attention)
        spoken.phrases = listened_for(active, listener.settings, on=listener.on, always=listener.always,
                                      choices=choices)
        spoken.number += 1
        if spoken.source is not None:
            spoken.source.order(self.order_phrases(surface, spoken))
        return True

    def order_phrases(self, surface: Surface, spoken: Spoken) -> Listen:
        """What a microphone listens for now, for the process that hears it."""
        return Listen(number=spoken.number, phrases=[send_phrase(phrase) for phrase in spoken.phrases.values()],
                      second=surface.listening.second, language=surface.listening.language,
                      pronounced={word: list(sounds) for word, sounds in surface.pronounced})

    def look(self, client: int, seconds: float) -> None:
        """A client looks at how loud it is, for so long."""
        if seconds > 0:
            until = self._ports.now() + int(min(seconds, LONGEST_LOOK) * 1e9)
            self._looked_at[client] = until
            self._ports.alarms.at(f"voice {client}", until, lambda now: self.look(client, 0))
        else:
            self._looked_at.pop(client, None)
            self._ports.alarms.cancel(f"voice {client}")
        for spoken in self.spoken.values():
            if spoken.source is not None:
                spoken.source.order(Watch(on=bool(self._looked_at)))

    # What arrives.

    def hear(self, name: str, told: Told) -> None:
        """The process of a microphone tells something."""
        spoken, surface = self.spoken.get(name), self._ports.desk.surfaces.get(name)
        if spoken is None or surface is None:
            return
        if isinstance(told, Level):
            spoken.loud, spoken.speaking, spoken.words = told.loud, told.speaking, told.words
            self._tell_level(name, spoken)
            return
        if isinstance(told, Uttered):
            spoken.waited, spoken.worked, spoken.speaking, spoken.words = told.waited, told.worked, False, ""
            self._heard(surface, spoken, self.received(told, surface), told.clipped, tuple(told.sounds))
            return
        if isinstance(told, Kept | Dictated):
            self.trying.told(name, spoken, told)
            return
        if isinstance(told, Ready):
            spoken.state, spoken.why, spoken.recogniser = HEARS, "", told.recogniser
        elif isinstance(told, Knows):
            spoken.unknown = told.unknown
        elif isinstance(told, Second):
            spoken.second = told.why or "ready"
        elif isinstance(told, Alike):
            spoken.alike = told.pairs
        elif isinstance(told, Gone | Cannot):
            spoken.state, spoken.why = (GONE if isinstance(told, Gone) else CANNOT), told.why
            spoken.speaking = False
            self.trying.interrupted(name, spoken)
        self.tell()

    def received(self, told: Uttered, surface: Surface) -> Heard:
        """What was heard, as it counts on a surface: its attention word is told apart from the rest."""
        found = []
        for each in told.candidates:
            said, attentive = without_attention(each.said, surface.listening)
            found.append(Candidate(each.phrase, said, each.values, each.alike, each.needed, attentive, each.trouble))
        return Heard(told.kind, tuple(found), told.why, told.began, told.ended)

    def say(self, surface: Surface, text: str) -> tuple[str, int]:
        """Take words as if they had been said: what came of it, and its trace.

        Raises:
            ProblemError: something of it cannot be said.
        """
        spoken = self.spoken[surface.id]
        now = self._ports.now()
        words = tuple(HeardWord(word) for word in plain_words(text))
        utterance = Utterance((Hypothesis(words),) if words else (), (), now, now)
        verdict = judge(utterance, spoken.phrases)
        told = Uttered(number=spoken.number, kind=verdict.kind, candidates=tell_verdict(verdict),  # type: ignore[arg-type]
                       why=verdict.why, began=now, ended=now)
        return self._heard(surface, spoken, self.received(told, surface))

    def _heard(self, surface: Surface, spoken: Spoken, heard: Heard, clipped: bool = False,
               sounds: tuple[str, ...] = ()) -> tuple[str, int]:
        listener, now = spoken.listener, self._ports.now()
        stops = heard.kind == SURE and bool(heard.candidates) and heard.candidates[0].phrase in listener.always
        if spoken.occupied and not stops:
            words = self.trying.hear(surface, spoken, heard, sounds)
            self.tell()
            return words, self._trace(surface, f"{words}; nothing was sent", heard.ended or now, now).id
        if self._aloud:
            listener.speaks_until = now + 1
        decision = listener.hear(heard, now)
        return self._carry_out(surface, spoken, decision, heard.ended or now, clipped)

    def _carry_out(self, surface: Surface, spoken: Spoken, decision: Decision, at: int,
                   clipped: bool = False) -> tuple[str, int]:
        """Do what was decided: what came of it in words, and the trace that tells it."""
        listener, candidate, now = spoken.listener, decision.candidate, self._ports.now()
        trace: Trace | None = None
        words = decision.why
        if decision.do in (ACT, CHOSE) and candidate is not None:
            # What took long to be understood was not said before the computer stood still.
            late = decision.do == CHOSE or now - at > LATE
            trace = self._press(surface, candidate, now if late else min(at, now))
            words = f"“{candidate.said}”"
            if trace is not None:
                words = _did(trace)
                trace.remark(f"heard “{candidate.said}”" + (
                    f", {candidate.alike} % sure" if spoken.source is not None else "") + (
                    ", chosen from several" if decision.do == CHOSE else ""))
                self.news.touch(trace)
                if told := self._reply(surface, candidate):
                    words = f"{words}: {told}"
        elif decision.do == ASK:
            until = listener.choose_until
            self._ports.alarms.at(f"readings {surface.id}", until, lambda at: self._readings_over(surface.id))
            readings = " or ".join(f"“{each.said}”" for each in decision.choices[:2])
            words = f"not sure: {readings}; choose one"
        elif decision.do == ATTEND:
            words = "listening for a phrase"
            self._ports.alarms.at(f"attention {surface.id}", listener.attentive_until, lambda at: self.tell())
        elif decision.do == BEGIN:
            words = decision.why or "phrases count again"
        elif decision.do == END:
            words = "phrases do not count until listening starts again"
        elif decision.do not in (LEFT, ASK) and candidate is not None:
            words = f"{decision.why}; nothing was sent"
        if trace is None:
            trace = self._trace(surface, words + ("; the microphone is set too loud" if clipped else ""), at, now)
        spoken.last = {
            "said": candidate.said if candidate is not None else "", "do": decision.do, "words": words,
            "phrase": candidate.phrase if candidate is not None else "",
            "alike": candidate.alike if candidate is not None else 0,
            "needed": candidate.needed if candidate is not None and spoken.source is not None else 0,
            "at": (at + self._ports.wall_offset()) / 1e9, "waited_ms": spoken.waited / MS,
            "trace": trace.id}
        self.follow()
        self.tell()
        return words, trace.id

    def _trace(self, surface: Surface, why: str, at: int, now: int) -> Trace:
        trace = self._ports.router.new_trace(min(at, now), now, SPEECH)
        trace.heard_by, trace.why = surface, why
        self.news.fresh.append(trace)
        return trace

    def _press(self, surface: Surface, candidate: Candidate, arrived: int) -> Trace | None:
        phrase = next((each for each in surface.phrases if each.id == candidate.phrase), None)
        if phrase is None:
            return None
        if surface.listening.ends_repeats:
            self.control.stop_runs(self._repeats)
        values, answers = press_values(phrase, candidate)
        code = phrase_signal(phrase.id, values, answers)
        trace = self.filters.arrive(surface.id, code, FULL_STRENGTH, arrived, "")
        self.filters.arrive(surface.id, code, 0, self._ports.now(), "")
        return trace

    def _repeats(self, run: Run) -> bool:
        macro = self._ports.desk.macros.get(run.owner.macro) if isinstance(run.owner, Trace) else None
        return macro is not None and bool(REPEATS.search(macro.source))

    def _reply(self, surface: Surface, candidate: Candidate) -> str:
        """Have the person hear that it was understood.  Returns the phrase's own reply, with the values filled in."""
        phrase = next(each for each in surface.phrases if each.id == candidate.phrase)
        told = phrase.reply
        for name, value in candidate.values.items():
            told = told.replace(f"{{{name}}}", str(value))
        how = surface.listening.reply
        if how == VOICE:
            # What is heard meanwhile is not taken for a phrase, but for those that stop everything.
            self.speak(told or candidate.said, lambda: None)
        elif how != SCREEN:
            self._ports.publisher.publish("note", {"text": "", "bell": True})
        return told

    def speaking(self, *, begins: bool) -> None:
        """The program begins or ends to speak, for whomever; from any thread."""
        self._aloud = max(0, self._aloud + (1 if begins else -1))
        now = self._ports.now()
        for spoken in list(self.spoken.values()):
            spoken.listener.speaks(now, now)

    def alike(self) -> list[tuple[str, str, str, int]]:
        """Phrases that sound alike: surface, the two, how alike."""
        return [(name, *pair) for name, spoken in self.spoken.items() for pair in spoken.alike]

    # Choosing and switching.

    def choose(self, number: int, surface_id: str = "") -> str:
        """Take one of the readings that stand, counted from 1; 0 for none of them.  What came of it."""
        now = self._ports.now()
        for name, spoken in self.spoken.items():
            surface = self._ports.desk.surfaces.get(name)
            if surface is not None and surface_id in ("", name) and spoken.listener.choosing(now):
                self._ports.alarms.cancel(f"readings {name}")
                return self._carry_out(surface, spoken, spoken.listener.choose(number, now), now)[0]
        return ""

    def _readings_over(self, name: str) -> None:
        spoken, surface = self.spoken.get(name), self._ports.desk.surfaces.get(name)
        if spoken is None or surface is None:
            return
        now = self._ports.now()
        if spoken.listener.choices and not spoken.listener.choosing(now):
            self._trace(surface, "no reading was chosen in time; nothing was sent", now, now)
        self.follow()
        self.tell()

    def switch(self, surface_id: str = "", *, on: bool | None = None) -> None:
        """Let phrases count or not, of one microphone or all; None for the other way."""
        for name, spoken in self.spoken.items():
            if surface_id in ("", name):
                spoken.listener.on = not spoken.listener.on if on is None else on
                spoken.listener.choices = ()
        self.follow()
        self.tell()

    def deeds(self) -> dict[str, Callable[[Trace], object]]:
        """What presses can ask for."""
        def take(number: int) -> Callable[[Trace], object]:
            def taken(trace: Trace) -> None:
                trace.why = self.choose(number) or "there is nothing to choose from"
            return taken
        return {LISTEN: lambda trace: self.switch(), NO_READING: take(0),
                **{deed: take(number) for number, deed in enumerate(READINGS, 1)}}

    # The state, for clients.

    def rows(self) -> list[Message]:
        """Every microphone of the desk as it is now."""
        return [self._row(self._ports.desk.surfaces[name], spoken) for name, spoken in self.spoken.items()
                if name in self._ports.desk.surfaces]

    def _row(self, surface: Surface, spoken: Spoken) -> Message:
        rests = surface.id in self._ports.router.resting
        return voice_row(surface, spoken, self._ports.now(), rests=rests,
                         does=lambda phrase: self.would_do(surface, phrase))

    def would_do(self, surface: Surface, phrase: str) -> str:
        """What a phrase would do now, in words; empty if nothing."""
        found = surface.answer(phrase, PRESS, self._ports.router.layers.stack(surface))
        if found is None:
            return ""
        action = found[1].action
        names = {macro.id: macro.name for macro in self._ports.desk.macros.values()}
        return lead_in(action.kind, show_action(action.kind, action.target, names))

    def tell(self) -> None:
        """Tell clients how it is now."""
        if self._ports.publisher.wanted("voice"):
            self._ports.publisher.publish("voice", {"voices": self.rows()})

    def _tell_level(self, name: str, spoken: Spoken) -> None:
        if self._ports.publisher.wanted("loudness"):
            self._ports.publisher.publish("loudness", {"surface": name, "loud": max(-120.0, spoken.loud),
                                                       "speaking": spoken.speaking, "words": spoken.words})

    def client_left(self, client: int) -> None:
        """Nobody looks, tries or teaches for it any more."""
        if client in self._looked_at:
            self.look(client, 0)
        self.trying.client_left(client)


def _did(trace: Trace) -> str:
    """What a phrase did, as screens tell it."""
    answer = trace.answer
    if answer is None or answer.action is None:
        return trace.why or "nothing is bound to it"
    return lead_in(answer.action.kind, answer.words) if trace.state != "nothing" else trace.why
