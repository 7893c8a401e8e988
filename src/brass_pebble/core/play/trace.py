"""The account of one press, from arrival to last effect, and the sentence that tells it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec.structs import replace

from brass_pebble.core.desk.action import ACTION_KINDS
from brass_pebble.core.devices.identity import show_hidden
from brass_pebble.core.effects.kinds import kind_of, tell
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.durations import say_duration
from brass_pebble.core.signals.keys import key_table
from brass_pebble.core.signals.signal import STRUCK, spell

from .player import Run
from .told import ReactionRow, SentRow, TraceRow

if TYPE_CHECKING:
    from brass_pebble.core.desk.model import Surface

    from .plan import Answer

# Where a trace comes from that no control was pressed for, but that something was said for.
SPEECH = "speech"
MOST_SENT = 200
MOST_REACTIONS = 50
# What others have told is kept in part, in characters: each remark and the reason, and all remarks of a press.
LONGEST_TOLD, MOST_TOLD = 1_000, 40_000
MORE = "more was said, and is not kept"
MS = 1_000_000


class Trace:
    """One press.  Times are in ns of the engine's clock.

    Filled in while the press is answered; put into words only later, when its effects have left.  What a press
    leaves as it was is not stored with it: it is made on the way from a finger to a program, where each store counts.
    """

    answer: Answer | None = None
    code = 0
    run: Run | None = None
    state = "nothing"
    why = ""
    spoken = ""
    pressed = 0
    released = 0
    count = 0
    first_sent = 0
    last_sent = 0
    # The node that the press came from, as the kernel calls it; empty where there is none.
    node = ""
    worst = 0
    sent: list[tuple[int, int, int, int]] | tuple[()] = ()
    reactions: list[tuple[str, str, int, bool]] | tuple[()] = ()
    remarks: tuple[str, ...] = ()
    macro = ""
    # How hard it was pressed, 1 to 127.
    strength = 127
    # How long it waited for a second tap, in ns.
    waited = 0
    # Whether the history has it: “begun”, or “over” with what became of it.
    counted = ""
    # The surface that heard something that came to no press.
    heard_by: Surface | None = None
    # Whether its device was answered.
    told_once = False

    def __init__(self, id: int, arrived: int, fed: int, origin: str = "press") -> None:
        self.id = id
        self.arrived = arrived
        self.fed = fed
        self.origin = origin

    @property
    def deed(self) -> str:
        """What the engine itself is to do, if that is the action."""
        return self.answer.deed if self.answer else ""

    def remark(self, text: str) -> None:
        """Something worth knowing beside the way itself; it may be told by a program or a stranger."""
        text = _bounded(text)
        if not text.isprintable():
            text = show_hidden(text)
        if text in self.remarks or self.remarks[-1:] == (MORE,):
            return
        whole = sum(map(len, self.remarks)) + len(text) <= MOST_TOLD
        self.remarks = (*self.remarks, text if whole else MORE)

    def note_reaction(self, program: str, text: str, at: int, good: bool) -> None:
        """A stage program did something, or failed to notice."""
        if not isinstance(self.reactions, list):
            self.reactions = []
        if len(self.reactions) >= MOST_REACTIONS:
            # The last one stays the newest.
            self.reactions.pop()
        self.reactions.append((program, text, at, good))

    def note_sent(self, code: int, value: int, planned: int, actual: int) -> None:
        """One effect left."""
        if not self.count:
            self.first_sent = actual
        self.count += 1
        self.last_sent = actual
        late = actual - planned
        self.worst = max(self.worst, late)
        if not isinstance(self.sent, list):
            self.sent = []
        if len(self.sent) < MOST_SENT:
            self.sent.append((code, value, planned, actual))

    def told(self, wall_offset: int) -> TraceRow:
        """The row that clients get.  `wall_offset` is added to the engine's clock to get ns since 1970."""
        names = key_table()
        start = (self.run.begun or self.run.start) if self.run else self.fed
        run, answer = self.run, self.answer
        surface, layer, action = (answer.surface, answer.layer, answer.action) if answer else (
            self.heard_by, None, None)
        since = self.pressed or self.arrived
        row = TraceRow(
            id=self.id,
            at=(self.arrived + wall_offset) / 1e9,
            origin=self.origin,
            surface=surface.id if surface else "",
            surface_name=surface.name if surface else "",
            control=answer.control if answer else "",
            gesture=answer.gesture if answer else "press",
            strength=self.strength,
            layer=layer.id if layer else "",
            layer_name=layer.name if layer else "",
            action=action.kind if action else "",
            target=action.target if action else "",
            words=answer.words if answer else self.spoken,
            state=self.state,
            why=_bounded(self.why),
            remarks=list(self.remarks),
            run=run.id if run else 0,
            length_ms=(run.timetable.length if run else 0) / MS,
            holds=bool(run and run.timetable.holds),
            held_ms=(self.released - since) / MS if self.released else None,
            first_ms=(self.first_sent - self.arrived) / MS if self.count else None,
            lasted_ms=(self.last_sent - self.first_sent) / MS if self.count else None,
            raw=say_raw(self.code, self.node) if self.origin == "press" and self.code else "",
            ended_ms=(run.ended - start) / MS if run and run.ended else None,
            late_ms=self.worst / MS,
            count=self.count,
            sent=[SentRow(key=tell(code, value), down=value > 0 and kind_of(code).holds,
                          planned_ms=(planned - start) / MS, at_ms=(actual - start) / MS)
                  for code, value, planned, actual in self.sent],
            shared=[names.name(code) for code in (run.shared if run else ())],
            reactions=[ReactionRow(program=program, text=text, at_ms=(when - self.arrived) / MS, good=good)
                       for program, text, when, good in self.reactions],
            sentence="",
        )
        return replace(row, sentence=sentence(row))


def _bounded(text: str) -> str:
    return text if len(text) <= LONGEST_TOLD else f"{text[:LONGEST_TOLD]}…"


def say_raw(code: int, node: str) -> str:
    """What a device itself reported: `KEY_KP5 76 (0x4c), event5`; messages as they are spelt, and their bytes."""
    key = key_table().by_code.get(code)
    text = spell(code) if code >= STRUCK else f"{key.kernel[0] if key else 'key'} {code} (0x{code:x})"
    return f"{text}, {node}" if node else text


def sentence(trace: TraceRow) -> str:
    """What happened, in one sentence or two, without the time of day."""
    if trace.origin != "press":
        parts = [f"{trace.surface_name if trace.origin == SPEECH else trace.origin}: "]
    else:
        parts = [f"{trace.surface_name} {trace.control}, {trace.gesture}"]
        parts.append(f", in {trace.layer_name}: " if trace.layer_name else ": ")
    parts.append(_answer(trace))
    sent = say_sent(trace)
    if sent:
        parts.append(f"; {sent}")
    if trace.shared:
        parts.append(f"; {'+'.join(trace.shared)} was already held by another run")
    parts.extend(f"; {remark}" for remark in trace.remarks)
    parts.append(".")
    seen: dict[str, list[str]] = {}
    for reaction in trace.reactions:
        seen.setdefault(reaction.program, []).append(reaction.text)
    for program, texts in seen.items():
        shown = texts if len(texts) <= 2 else [*texts[:1], f"… {texts[-1]}"]
        parts.append(f" {program}: {', '.join(shown)}.")
    return "".join(parts)


def _answer(trace: TraceRow) -> str:
    state, words = trace.state, trace.words
    if state == "nothing":
        return str(trace.why) or "nothing bound; swallowed"
    if not words or trace.action == "layer":
        return str(trace.why)
    if trace.action == "latch" and trace.why == "ended by this press":
        return f"let {words} go again"
    kind = ACTION_KINDS.get(trace.action)
    if kind is None or kind.verbs is None:
        text = str(words)
    else:
        text = f"{kind.verbs[0 if state in ('playing', 'holding') else 1]} {words}"
    if state == "stopped":
        text += ", stopped before its end"
    if trace.why:
        text += f" ({trace.why})"
    return text


def say_sent(trace: TraceRow) -> str:
    """What left, and when: `Ctrl+Alt+4 down 0.3 ms later, up after 40 ms`."""
    sent = trace.sent
    if not sent or trace.first_ms is None or trace.lasted_ms is None:
        return ""
    first = f"{say_duration(round(trace.first_ms * MS))} later"
    downs = []
    for event in sent:
        if not event.down:
            break
        downs.append(event.key)
    if not any(event.down for event in sent):
        last = sent[-1]
        text = f"{last.key}, {first}" if trace.count == 1 else f"{trace.count} values, the last {last.key}"
        return f"sent {text}"
    if trace.count > 2 * len(downs):
        lasted = say_duration(round(trace.lasted_ms * MS))
        return f"{say_count(trace.count, 'key event')} over {lasted}, the first {first}"
    named = "" if "+".join(downs) == trace.words else "+".join(downs) + " "
    text = f"{named}down {first}" if downs else ""
    if trace.count == 2 * len(downs) and downs:
        text += f", up after {say_duration(round((sent[-1].at_ms - sent[0].at_ms) * MS))}"
    return text
