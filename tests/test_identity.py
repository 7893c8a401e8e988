"""Knowing a device again: a table of situations, each with who must get what."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brass_pebble.core.devices.identity import Claim, DeviceFacts, DeviceRule, assign, real_serial, score

PAD = DeviceFacts("pad", "Marram numeric pad", "USB", "4d52", "0011", port="usb-1.1")
NUMBERED = DeviceFacts("numbered", "Juniper pad", "USB", "4a50", "0002", serial="JP-20931", port="usb-3")


def pad(name: str, port: str) -> DeviceFacts:
    return replace(PAD, id=name, port=port)


def rule(**fields: str) -> DeviceRule:
    return DeviceRule(tuple(fields.items()))


MAKE = {"vendor": "4d52", "product": "0011", "name": "Marram numeric pad"}


@pytest.mark.parametrize(("wanted", "facts", "port", "fits", "reasons"), [
    (rule(**MAKE, port="usb-1.1"), PAD, "", 75, "same maker and product; in the same port"),
    (rule(**MAKE, port="usb-9"), PAD, "", 45, "same maker and product; in another port"),
    (rule(**MAKE, port="usb-9"), PAD, "usb-1.1", 75, "same maker and product; in the same port"),
    (rule(**MAKE), PAD, "", 45, "same maker and product"),
    (rule(vendor="4d52", product="0011"), replace(PAD, name="Renamed by new firmware"), "", 40,
     "same maker and product"),
    (rule(vendor="4d52", product="0012"), PAD, "", 0, "another product: 0011 instead of 0012"),
    (rule(vendor="1111"), PAD, "", 0, "another maker: 4d52 instead of 1111"),
    (rule(name="marram NUMERIC pad"), PAD, "", 30, "same name"),
    (rule(name="Tern pedals"), PAD, "", 0, "another name: “Marram numeric pad” instead of “Tern pedals”"),
    (rule(bus="Bluetooth", name="Marram numeric pad"), PAD, "", 0, "another connection: USB instead of Bluetooth"),
    (rule(bus="Bluetooth", name="Juniper pad", serial="JP-20931"), NUMBERED, "", 90, "same name; same serial number"),
    (rule(name="Juniper pad", serial="JP-20931"), replace(NUMBERED, port="usb-8"), "usb-3", 90,
     "same name; same serial number; in another port"),
    (rule(name="Juniper pad", serial="JP-11111"), NUMBERED, "", 0,
     "another serial number: JP-20931 instead of JP-11111"),
    (rule(name="Juniper pad", serial="JP-20931"), replace(NUMBERED, serial=""), "", 0,
     "another serial number: none instead of JP-20931"),
    (rule(port="usb-1.1"), PAD, "", 60, "in the same port"),
    (rule(port="usb-1.1"), replace(PAD, port="usb-2"), "", 0, "in another port"),
    (rule(), PAD, "", 0, "it has no device yet"),
])
def test_score_and_reasons(wanted: DeviceRule, facts: DeviceFacts, port: str, fits: int, reasons: str) -> None:
    match = score(wanted, facts, port)
    assert (match.points, "; ".join(match.reasons)) == (fits, reasons)


@pytest.mark.parametrize(("serial", "real"), [
    ("", False), ("0", False), ("000000000000", False), ("0123456789ABCDEF", False), ("123456789", False),
    ("1234567890", False), ("FFFFFFFF", False), ("1.0", False), ("JP-20931", True), ("A8:3E:0E:11:42:07", True),
    ("20240117", True)])
def test_serial_numbers_that_number_nothing(serial: str, real: bool) -> None:
    assert real_serial(serial) is real


LEFT = Claim("left", rule(**MAKE, port="L"))
RIGHT = Claim("right", rule(**MAKE, port="R"))
ONE = Claim("one", rule(**MAKE, port="L"))
ANY = Claim("any", rule(name="Marram numeric pad"))
TWINS = {PAD.make: 2}
# what it is: claims, devices (id at port), surfaces that hold one, twins known, who gets which, who is asked about what
SITUATIONS = {
    "both where they were": ([LEFT, RIGHT], "a@L b@R", {}, {}, {"left": "a", "right": "b"}, {}),
    "swapped: the port decides": ([LEFT, RIGHT], "b@L a@R", {}, TWINS, {"left": "b", "right": "a"}, {}),
    "one moved, the other stayed": ([LEFT, RIGHT], "a@L b@X", {}, TWINS, {"left": "a", "right": "b"}, {}),
    "one moved while the other is held": ([RIGHT], "a@L b@X", {"left": "a@L"}, TWINS, {"right": "b"}, {}),
    "both moved": ([LEFT, RIGHT], "a@X b@Y", {}, TWINS, {}, {"left": "a b", "right": "a b"}),
    "both moved, one answered": ([RIGHT], "a@X b@Y", {"left": "a@X"}, TWINS, {"right": "b"}, {}),
    "only one of two here, elsewhere": ([LEFT, RIGHT], "a@X", {}, TWINS, {}, {"left": "a", "right": "a"}),
    "only one of two here, in its port": ([LEFT, RIGHT], "b@R", {}, TWINS, {"right": "b"}, {}),
    "one surface, its twin is not met": ([ONE], "a@X", {}, TWINS, {}, {"one": "a"}),
    "one surface, no twin was ever seen": ([ONE], "a@X", {}, {}, {"one": "a"}, {}),
    "one surface, two twins elsewhere": ([ONE], "a@X b@Y", {}, {}, {}, {"one": "a b"}),
    "one surface, a twin came along": ([ONE], "a@L b@Y", {}, {}, {"one": "a"}, {}),
    "nobody said which port": ([ANY], "a@X", {}, TWINS, {"any": "a"}, {}),
    "nobody said which port, and two are here": ([ANY], "a@X b@Y", {}, TWINS, {}, {"any": "a b"}),
    "remembered after a move": ([Claim("left", LEFT.rule, "X"), RIGHT], "a@X b@Y", {}, TWINS,
                                {"left": "a", "right": "b"}, {}),
    "nothing here": ([LEFT], "", {}, {}, {}, {}),
    "the same device named twice": ([ANY], "a@L", {"left": "a@L"}, {}, {}, {}),
    "a third one came along": ([RIGHT], "a@L b@X c@Y", {"left": "a@L"}, {}, {}, {"right": "b c"}),
}


def devices(text: str) -> list[DeviceFacts]:
    return [pad(*word.split("@")) for word in text.split()]


@pytest.mark.parametrize("name", SITUATIONS)
def test_who_gets_which(name: str) -> None:
    claims, here, held, twins, placed, asked = SITUATIONS[name]
    verdicts = assign(claims, devices(here), {who: devices(what)[0] for who, what in held.items()}, twins)
    assert {who: v.facts.id for who, v in verdicts.items() if v.facts} == placed
    assert {who: " ".join(f.id for f in v.ask) for who, v in verdicts.items() if v.ask} == asked
    assert all(v.why for v in verdicts.values() if v.facts is None)


def test_the_same_in_whatever_order_they_come() -> None:
    for name, (claims, here, held, twins, placed, _) in SITUATIONS.items():
        verdicts = assign(claims[::-1], devices(here)[::-1], {w: devices(d)[0] for w, d in held.items()}, twins)
        assert {who: v.facts.id for who, v in verdicts.items() if v.facts} == placed, name


@given(st.lists(st.sampled_from("LRXYZ"), max_size=5, unique=True), st.booleans())
def test_no_device_for_two_and_no_guess_between_equals(ports: list[str], known: bool) -> None:
    here = [pad(f"in {port}", port) for port in ports]
    verdicts = assign([LEFT, RIGHT], here, {}, TWINS if known else {})
    given_out = [v.facts.id for v in verdicts.values() if v.facts]
    assert len(given_out) == len(set(given_out))
    # Two surfaces, neither in its port: whoever gets a device now was guessed.
    if not set(ports) & {"L", "R"}:
        assert not given_out


def test_a_rule_made_from_a_device_fits_it_surely() -> None:
    for facts in (PAD, NUMBERED, replace(PAD, vendor="", product=""), replace(NUMBERED, serial="0000")):
        assert score(facts.rule(), facts).points >= 60
    assert NUMBERED.rule().get("port") == ""
    assert PAD.rule().get("port") == "usb-1.1"


def test_the_reason_names_the_surface_that_has_it() -> None:
    verdicts = assign([LEFT], devices("a@L"), {"other": pad("a", "L")})
    assert verdicts["left"].why == "its device is already the surface “other”"
