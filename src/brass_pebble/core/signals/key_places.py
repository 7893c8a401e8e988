"""Keys are called by what they type; where such a key is depends on the layout of the receiving program.

Inside, a key's code is that of its name: Z is KEY_Z of linux/input-event-codes.h, whoever types it.  An output sends
the place where the receiver's layout has it.  A key that is meant by its place on a US keyboard (`PlaceZ`) has `PLACED`
and that place's code.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property

from .keys import PLACED, lettered_keys


@dataclass(frozen=True)
class Places:
    """Where one layout has the keys that are called by what they type, as far as it differs from a US keyboard.

    `places` are from a name's code to the kernel's code of the place; a name that no key types by itself (without Shift
    or AltGr) is not in it and means its place on a US keyboard.
    """

    places: Mapping[int, int] = field(default_factory=dict)

    @cached_property
    def _names(self) -> dict[int, int]:
        return {place: name for name, place in self.places.items()}

    def place(self, code: int) -> int:
        """The kernel's code to send for a key."""
        return code - PLACED if code >= PLACED else self.places.get(code, code)

    def name(self, place: int) -> int:
        """The code by which the key at a place is called: what it types, or else the place."""
        if not self.places:
            return place
        found = self._names.get(place)
        if found is not None:
            return found
        return place if self.places.get(place, place) == place else PLACED + place

    def settle(self, codes: Iterable[int]) -> tuple[int, ...]:
        """Codes that mean the same key made the same, however they were written."""
        if not self.places:
            return tuple(code - PLACED if code >= PLACED else code for code in codes)
        return tuple(dict.fromkeys(self.name(self.place(code)) for code in codes))

    def moved(self, codes: Iterable[int]) -> bool:
        """Whether any of these keys is elsewhere than on a US keyboard."""
        return any(code in self.places for code in codes)


US = Places()
# KEY_102ND, the key that keyboards outside of the US have beside the left Shift.
EXTRA = 86


def places_of(typed: Mapping[str, int]) -> Places:
    """The places of a layout, from what its keys type by themselves: character → kernel code."""
    here = lettered_keys()
    return Places({name: typed[char] for char, name in here.items()
                   if char in typed and typed[char] != name and typed[char] in {*here.values(), EXTRA}})
