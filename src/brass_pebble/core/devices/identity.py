"""Which device is which: what is known of one, how well it fits what a desk remembers, and who gets which."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from brass_pebble.core.say.counts import say_count
from brass_pebble.core.signals.keys import is_button, key_table
from brass_pebble.core.signals.signal import AXIS, MOVING, NOTE, STRUCK

from .telling import IN_WORDS

RULE_FIELDS = ("name", "port", "serial", "bus", "vendor", "product")
# What a fit is worth: a serial number settles it, a port nearly so, the make alone leaves twins.
POINTS = {"make": 40, "name": 30, "serial": 60, "port": 30, "same name": 5}
SURE = POINTS["name"] + POINTS["port"]
LONGEST_SHOWN = 60
# What usb_make_path of the kernel ends with: the ports from the root hub on.
_USB_PORT = re.compile(r"^usb-.*-(\d[\d.]*)$")
# BTN_MISC, KEY_OK, REL_X, REL_Y, KEY_VOLUMEDOWN and KEY_VOLUMEUP of linux/input-event-codes.h
FIRST_BUTTON, AFTER_BUTTONS = 0x100, 0x160
REL_X, REL_Y = 0, 1
VOLUME = frozenset((114, 115))
# BTN_SIDE to BTN_TASK; EV_REL codes of dials, and of wheels.
EXTRA_BUTTONS, DIALS, WHEELS = range(0x113, 0x118), (3, 4, 5, 7, 9), (6, 8)
MOST_BESIDE_A_KNOB = 40
# How a microphone is connected.
SOUND = "sound"


@dataclass(frozen=True)
class DeviceFacts:
    """A physical device as the system reports it.

    `port` is where it is plugged in (the kernel's `phys` without the part for the interface); `vendor` and `product`
    are four hex digits; `nodes` are its input nodes; `codes` are the keys and buttons it says it can send, `rels` and
    `axes` what it turns and moves (EV_REL and EV_ABS codes), `lamps` which of num, caps and scroll it has; `full` and
    `points` say that one can type and point with it.
    """

    id: str
    name: str
    bus: str = ""
    vendor: str = ""
    product: str = ""
    serial: str = ""
    port: str = ""
    nodes: tuple[str, ...] = ()
    codes: tuple[int, ...] = ()
    rels: tuple[int, ...] = ()
    axes: tuple[int, ...] = ()
    lamps: tuple[str, ...] = ()
    kind: str = "evdev"
    readable: bool = True
    full: bool = False
    points: bool = False

    def field(self, name: str) -> str:
        """One of `RULE_FIELDS`."""
        return str(getattr(self, name))

    @property
    def spoken_to(self) -> bool:
        """Whether it is a microphone."""
        return self.bus == SOUND

    @property
    def make(self) -> tuple[str, ...]:
        """What twins share."""
        return self.bus, self.vendor, self.product, self.name

    def rule(self) -> DeviceRule:
        """What a desk writes down to know it again: its make, and its serial number or else its port."""
        wanted = ["name", "vendor", "product", "serial" if real_serial(self.serial) else "port"]
        return DeviceRule(tuple((name, self.field(name)) for name in RULE_FIELDS
                                if name in wanted and self.field(name)))

    @property
    def shown(self) -> str:
        """The name for a screen: nothing in it can steer a terminal or hide, and it is not endless."""
        plain = show_hidden(self.name).strip()
        if len(plain) > LONGEST_SHOWN:
            plain = plain[:LONGEST_SHOWN - 1] + "…"
        return plain or "a device without a name"

    @property
    def where(self) -> str:
        """How and where it is plugged in, in words: `USB, port 2.1`."""
        if self.spoken_to and ":" in self.port:
            return ", ".join(self.port.split(":", 1)).replace("pulse", "sound server", 1)
        if match := _USB_PORT.search(self.port):
            return f"{self.bus}, port {match[1]}"
        if self.bus in ("Bluetooth", "built in") or not self.port:
            return self.bus or "not known"
        return self.port if self.port.startswith(self.bus) else f"{self.bus}, {self.port}"

    @property
    def can(self) -> str:
        """What it can do, in words people use: `17 keys, a knob`."""
        plain = [code for code in self.codes if code < STRUCK]
        table = key_table().by_code
        keys = sum(not (FIRST_BUTTON <= code < AFTER_BUTTONS or (code in table and table[code].button))
                   for code in plain)
        pads = sum(NOTE.first <= code <= NOTE.last for code in self.codes)
        axes = sum(AXIS.first <= code <= AXIS.last for code in self.codes)
        knobs = sum(code >= MOVING for code in self.codes) - axes
        counts = ((keys, "key", "keys"), (len(plain) - keys, "button", "buttons"), (pads, "pad", "pads"),
                  (knobs, "knob", "knobs"), (axes, "axis", "axes"))
        words = [f"{count} {one if count == 1 else many}" for count, one, many in counts if count]
        if self.spoken_to:
            words.append("a microphone")
        if {REL_X, REL_Y} <= set(self.rels):
            words.append("a pointer")
        elif self.rels or (set(plain) >= VOLUME and len(self.codes) <= MOST_BESIDE_A_KNOB):
            words.append("a knob")
        if self.axes:
            words.append(f"{len(self.axes)} {'axis' if len(self.axes) == 1 else 'axes'}")
        return ", ".join(words)

    @property
    def parts(self) -> tuple[tuple[str, tuple[str, ...]], ...]:
        """What may be wanted of it, in words, and the parts that a desk names for it; the first is the usual one.

        Empty where only the whole of it makes sense.
        """
        table = key_table().by_code
        extra = tuple(table[code].name for code in self.codes if code in EXTRA_BUTTONS)
        turns = tuple(word for word, codes in (("dials", DIALS), ("wheel", WHEELS)) if set(self.rels) & set(codes))
        typed = any(code < STRUCK and not is_button(code) for code in self.codes)
        found: list[tuple[str, tuple[str, ...]]] = []
        if self.points:
            if extra:
                buttons = "its extra button" if len(extra) == 1 else f"its {len(extra)} extra buttons"
                found.append((f"{buttons}; it goes on pointing and clicking", extra))
            if self.full:
                found += [("the keyboard; it keeps pointing and clicking", ("keys",)),
                          ("the mouse; it keeps typing", ("buttons", "motion", "wheel"))]
            found.append(("everything; it no longer points or clicks", ()))
        elif turns and typed:
            found = [("everything", ()), ("what turns; its keys keep typing", turns),
                     ("its keys; what turns works as before", ("keys",))]
        return tuple(found)

    def as_dict(self) -> dict[str, Any]:
        """For JSON."""
        return {name: value for name, value in self.__dict__.items() if name not in ("codes", "rels", "axes")} | {
            "shown": self.shown, "can": self.can, "where": self.where, "keys": len(self.codes),
            "parts": [[words, list(parts)] for words, parts in self.parts],
            "pointer": {REL_X, REL_Y} <= set(self.rels)}


@dataclass(frozen=True)
class DeviceRule:
    """What a desk says of a surface's device, by field."""

    fields: tuple[tuple[str, str], ...] = ()

    def get(self, name: str) -> str:
        """A field's value, or an empty text."""
        return dict(self.fields).get(name, "")

    def __str__(self) -> str:
        return ", ".join(f"{name} “{value}”" for name, value in self.fields)


@dataclass(frozen=True)
class Match:
    """How well a device fits: points (0 is not at all), and the reasons in words."""

    points: int
    reasons: tuple[str, ...]


def real_serial(serial: str) -> bool:
    """Whether a serial number tells one device from its twin.

    Makers who do not number their devices send none, zeros, a counting sequence or one repeated character.
    """
    text = re.sub(r"[^0-9a-z]", "", serial.casefold())
    if len(text) < 4 or len(set(text)) < 3:
        return False
    # Counting up from its first digit is a placeholder.
    digits = "0123456789abcdef"
    return text not in digits and text not in digits[1:] + "0" and text != "1234567890"


def score(rule: DeviceRule, facts: DeviceFacts, port: str = "") -> Match:
    """How well `facts` fits `rule`.

    `port` is where the device was when it was last known for sure; without it, the rule's own port counts.
    """
    told = {name: value.casefold() for name, value in rule.fields}
    is_now = {name: facts.field(name).casefold() for name in RULE_FIELDS}
    expected_port = (port or rule.get("port")).casefold()
    same_serial = told.get("serial") and told["serial"] == is_now["serial"]
    for name, words in (("vendor", "another maker"), ("product", "another product"), ("bus", "another connection")):
        if name in told and told[name] != is_now[name] and not (name == "bus" and same_serial):
            return Match(0, (f"{words}: {facts.field(name) or 'none'} instead of {rule.get(name)}",))
    if "serial" in told and not same_serial:
        return Match(0, (f"another serial number: {facts.serial or 'none'} instead of {rule.get('serial')}",))
    points, reasons = 0, []
    if "vendor" in told and "product" in told:
        points += POINTS["make"]
        reasons.append("same maker and product")
        if told.get("name") == is_now["name"]:
            points += POINTS["same name"]
    elif "name" in told:
        if told["name"] != is_now["name"]:
            return Match(0, (f"another name: “{facts.name}” instead of “{rule.get('name')}”",))
        points += POINTS["name"]
        reasons.append("same name")
    elif set(told) == {"port"}:
        # Whatever is plugged in there is meant.
        if told["port"] != is_now["port"]:
            return Match(0, ("in another port",))
        points += POINTS["name"]
    elif not told:
        return Match(0, ("it has no device yet",))
    if same_serial:
        points += POINTS["serial"]
        reasons.append("same serial number")
    if expected_port and expected_port == is_now["port"]:
        points += POINTS["port"]
        reasons.append("in the same port")
    elif expected_port:
        reasons.append("in another port")
    return Match(points, tuple(reasons))


@dataclass(frozen=True)
class Claim:
    """A surface that has no device now: what its desk says, and the port it was last in."""

    surface: str
    rule: DeviceRule
    port: str = ""


@dataclass(frozen=True)
class Verdict:
    """Which device a surface gets, or why none; `ask` are the devices to choose from: a key that is pressed
    three times tells."""

    facts: DeviceFacts | None = None
    why: str = ""
    reasons: tuple[str, ...] = ()
    ask: tuple[DeviceFacts, ...] = ()


@dataclass
class _Hall:
    """Who is placed so far."""

    free: dict[str, DeviceFacts]
    open: dict[str, Claim]
    verdicts: dict[str, Verdict] = field(default_factory=dict)
    placed: list[DeviceFacts] = field(default_factory=list)

    def place(self, claim: Claim, facts: DeviceFacts, match: Match) -> None:
        self.verdicts[claim.surface] = Verdict(facts, reasons=match.reasons)
        self.placed.append(facts)
        del self.free[facts.id], self.open[claim.surface]


def assign(claims: Sequence[Claim], present: Iterable[DeviceFacts], held: Mapping[str, DeviceFacts] | None = None,
           twins: Mapping[tuple[str, ...], int] | None = None) -> dict[str, Verdict]:
    """Give each claim its device, and never guess between twins.

    `held` are the devices that surfaces have already; `twins` tells for a make (`DeviceFacts.make`) how many were
    ever seen at once.  First come serial numbers and ports; what is left over fits only if nothing else could be
    meant.
    """
    held, twins = held or {}, twins or {}
    here = list(present)
    taken = {facts.id: name for name, facts in held.items()}
    hall = _Hall({f.id: f for f in here if f.id not in taken}, {c.surface: c for c in claims},
                 placed=list(held.values()))
    sure = [(score(c.rule, f, c.port), c, f) for c in claims for f in hall.free.values()]
    for match, claim, facts in sorted(sure, key=lambda item: -item[0].points):
        if match.points >= SURE and claim.surface in hall.open and facts.id in hall.free:
            hall.place(claim, facts, match)
    settled = True
    while settled:
        settled = False
        for claim in list(hall.open.values()):
            fitting = _fitting(claim, hall.free.values())
            if len(fitting) == 1 and not _could_be_meant(claim, fitting[0], hall, here, twins):
                hall.place(claim, fitting[0], score(claim.rule, fitting[0], claim.port))
                settled = True
    for claim in hall.open.values():
        hall.verdicts[claim.surface] = _unplaced(claim, hall, taken)
    return hall.verdicts


def _fitting(claim: Claim, devices: Iterable[DeviceFacts]) -> list[DeviceFacts]:
    return [facts for facts in devices if score(claim.rule, facts, claim.port).points]


def _could_be_meant(claim: Claim, facts: DeviceFacts, hall: _Hall, here: list[DeviceFacts],
                    twins: Mapping[tuple[str, ...], int]) -> bool:
    """Whether a device might as well be another surface's, or a twin might be meant that is not here now."""
    if any(other is not claim and _fitting(other, [facts]) for other in hall.open.values()):
        return True
    if not (claim.port or claim.rule.get("port")):
        # Nobody has ever said which of them: the only one here is the one.
        return False
    known = max(twins.get(facts.make, 1), sum(f.make == facts.make for f in here))
    return known - sum(f.make == facts.make for f in hall.placed) > 1


def _unplaced(claim: Claim, hall: _Hall, taken: Mapping[str, str]) -> Verdict:
    if not claim.rule.fields:
        return Verdict(why="it has no device yet; press M to meet one")
    fitting = _fitting(claim, hall.free.values())
    if not fitting:
        others = {f.id: name for name, v in hall.verdicts.items() if v.facts for f in [v.facts]} | dict(taken)
        owner = next((name for f in hall.placed if f.id in others and _sure(claim, f) for name in [others[f.id]]), "")
        if owner:
            return Verdict(why=f"its device is already the surface “{owner}”")
        return Verdict(why=f"its device is not connected ({claim.rule})")
    if len(fitting) == 1:
        return Verdict(why="a device of the same make is connected to another port and may be its twin; if it is "
                       f"the one, {IN_WORDS}", ask=tuple(fitting))
    return Verdict(why=f"{say_count(len(fitting), 'device')} could be it; on the right one, "
                       f"{IN_WORDS}", ask=tuple(fitting))


def _sure(claim: Claim, facts: DeviceFacts) -> bool:
    return score(claim.rule, facts, claim.port).points >= SURE


def show_hidden(text: str) -> str:
    """A text with everything written out that cannot be seen or turns the direction of what follows: `\\u202e`."""
    return "".join(char if char.isprintable() and not unicodedata.category(char).startswith(("C", "Zl", "Zp"))
                   and (char == " " or not unicodedata.category(char).startswith("Z"))
                   else f"\\u{ord(char):04x}" if ord(char) <= 0xFFFF else f"\\U{ord(char):08x}" for char in text)
