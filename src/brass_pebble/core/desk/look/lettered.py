"""Which chords of a desk are sent elsewhere since keys are called by what they type.  Pure."""

from __future__ import annotations

from collections.abc import Iterator

from brass_pebble.core.desk.model import Desk
from brass_pebble.core.desk.shortcuts import say_shape
from brass_pebble.core.say.problem import Problem
from brass_pebble.core.signals.keys import Chord

from .clashes import chords_of

MOST_NAMED = 3


def lettered_chords(desk: Desk) -> list[str]:
    """The chords, as written, of which a key is not where a US keyboard has it; each once."""
    return list(dict.fromkeys(_lettered(desk)))


def _lettered(desk: Desk) -> Iterator[str]:
    moved = desk.places.moved
    for surface in desk.surfaces.values():
        for layer in surface.layers:
            for binding in layer.bindings.values():
                yield from (str(chord) for chord in binding.action.chords() if moved(chord.codes))
    for macro in desk.macros.values():
        for (held, key), _ in chords_of(macro):
            if moved((*held, key)):
                yield say_shape((held, key))


def notice(desk: Desk) -> Problem | None:
    """What to tell once of a desk whose programs have another layout than a US one; None if nothing moved."""
    # Most desks are for a US layout, and large ones have thousands of chords to look at.
    chords = lettered_chords(desk) if desk.places.places else []
    if not chords:
        return None
    named = ", ".join(chords[:MOST_NAMED]) + (" …" if len(chords) > MOST_NAMED else "")
    key = next(code for code in _codes(chords[0]) if code in desk.places.places)
    count = f"{len(chords)} {'chord means' if len(chords) == 1 else 'chords mean'}"
    return Problem(f"{count} another key than before on the {desk.keyboard} layout ({named}): a letter or sign in a "
                   "chord is now the key that types it in your programs", "desk.toml",
                   hint=f"To use the key position of a US keyboard instead, write Place{Chord((key,))}. Shown once")


def _codes(chord: str) -> tuple[int, ...]:
    from brass_pebble.core.signals.keys import parse_chord
    return parse_chord(chord).codes
