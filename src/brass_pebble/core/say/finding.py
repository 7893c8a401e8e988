"""What an examination of the machine found, told to a person."""

from __future__ import annotations

from dataclasses import dataclass

GOOD, WRONG, UNKNOWN = "good", "wrong", "not known"


@dataclass(frozen=True)
class Finding:
    """One thing that was looked at: its state, what that means for the person, and what to do.

    `surface` is the id of the surface that it speaks of, if it speaks of one.
    """

    about: str
    state: str
    means: str
    fix: str = ""
    surface: str = ""

    def as_dict(self) -> dict[str, str]:
        """For JSON."""
        return dict(self.__dict__)
