"""Which device is meant by a surface's `device` line."""

from __future__ import annotations

from dataclasses import dataclass

RULE_FIELDS = ("name", "port", "serial", "bus", "vendor", "product")


@dataclass(frozen=True)
class DeviceFacts:
    """A physical device as the system reports it.

    `port` is where it is plugged in (the kernel's `phys` without the part for the interface); `vendor` and
    `product` are four hex digits; `nodes` are its input nodes; `full` says that it can
    do what a full keyboard can.
    """

    id: str
    name: str
    bus: str = ""
    vendor: str = ""
    product: str = ""
    serial: str = ""
    port: str = ""
    nodes: tuple[str, ...] = ()
    keys: int = 0
    pointer: bool = False
    kind: str = "evdev"
    readable: bool = True
    note: str = ""
    full: bool = False

    def field(self, name: str) -> str:
        """One of `RULE_FIELDS`."""
        return str(getattr(self, name))


@dataclass(frozen=True)
class DeviceRule:
    """What a desk says of a surface's device: every field it names must agree."""

    fields: tuple[tuple[str, str], ...] = ()

    def fits(self, facts: DeviceFacts) -> bool:
        """Whether `facts` may be the device meant."""
        return bool(self.fields) and all(facts.field(name).casefold() == value.casefold()
                                         for name, value in self.fields)

    def __str__(self) -> str:
        return ", ".join(f"{name} “{value}”" for name, value in self.fields)


def choose(rule: DeviceRule, present: list[DeviceFacts]) -> tuple[DeviceFacts | None, str]:
    """The one device that fits, or None and the reason in words.  Twins are never guessed between."""
    if not rule.fields:
        return None, "no device is named for it; add a device line to desk.toml"
    fitting = [facts for facts in present if rule.fits(facts)]
    if len(fitting) == 1:
        return fitting[0], ""
    if not fitting:
        return None, f"its device is not here ({rule})"
    ports = ", ".join(f"“{facts.port}”" for facts in fitting)
    return None, f"{len(fitting)} devices fit ({rule}); add port to its device line, one of {ports}"
