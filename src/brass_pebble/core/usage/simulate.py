"""Made-up histories: for trying what the counts say, for the demo, and for measuring.  Seeded, so always the same."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass

from brass_pebble.core.desk.look.drawn import BareSurface, BindingRow

from .press import Press
from .report import does_of

DAY = 86_400_000


@dataclass(frozen=True)
class Habit:
    """How somebody uses a surface: weights of bindings, what follows what, how often a neighbour is hit."""

    surface: BareSurface
    bindings: tuple[tuple[str, BindingRow], ...]
    weights: tuple[float, ...]
    follows: dict[int, int]
    slip: float = 0.0


def make_habit(surface: BareSurface, seed: int, *, slip: float = 0.02, unused: float = 0.15) -> Habit:
    """A person's habit: few bindings are used very often, some never, some belong together."""
    chance = random.Random(seed)
    bindings = [(layer.id, binding) for layer in surface.layers for binding in layer.bindings]
    order = list(range(len(bindings)))
    chance.shuffle(order)
    weights = [0.0] * len(bindings)
    for rank, index in enumerate(order):
        # Use falls with rank as word counts do.
        weights[index] = 0.0 if rank >= len(order) * (1 - unused) else 1 / (rank + 1)
    used = [index for index in order if weights[index]]
    follows = {used[at]: used[(at + 3) % len(used)] for at in range(0, len(used), 2)} if used else {}
    return Habit(surface, tuple(bindings), tuple(weights), follows, slip)


def play(habit: Habit, count: int, seed: int, *, start: int = 20_000, days: int = 30) -> Iterator[Press]:
    """So many presses, spread over days; times in ms since 1970."""
    chance = random.Random(seed)
    indices = range(len(habit.bindings))
    if not any(habit.weights):
        return
    made, last = 0, -1
    each = max(1, count // days)
    for day in range(days):
        at = (start + day) * DAY + 18 * 3_600_000
        while made < (count if day == days - 1 else (day + 1) * each):
            if last in habit.follows and chance.random() < 0.6:
                index = habit.follows[last]
                at += chance.randint(300, 1500)
            else:
                index = chance.choices(indices, habit.weights)[0]
                at += chance.randint(800, 9000)
            last = index
            layer, binding = habit.bindings[index]
            if habit.slip and chance.random() < habit.slip:
                beside = _beside(habit, binding.control, chance)
                if beside is not None:
                    yield _press(habit, start + day, at, *beside, chance)
                    at += chance.randint(300, 900)
                    yield Press(at, start + day, habit.surface.id, layer, "undo", "press", "tap Ctrl+Z",
                                chord="Ctrl+Z")
                    at += chance.randint(200, 900)
                    made += 2
            yield _press(habit, start + day, at, layer, binding, chance)
            made += 1


def _press(habit: Habit, day: int, at: int, layer: str, binding: BindingRow, chance: random.Random) -> Press:
    macro = binding.target if binding.kind == "play" else ""
    chord = binding.target if binding.kind == "tap" else ""
    return Press(at, day, habit.surface.id, layer, binding.control, binding.gesture, does_of(binding), macro,
                 chord, late=int(chance.lognormvariate(5, 0.7)), stopped=bool(macro) and chance.random() < 0.03)


def _beside(habit: Habit, control: str, chance: random.Random) -> tuple[str, BindingRow] | None:
    from .report import neighbours
    here = next((c for c in habit.surface.controls if c.id == control), None)
    near = set(neighbours(habit.surface, here)) if here else set()
    found = [(layer, binding) for layer, binding in habit.bindings if binding.control in near
             and binding.gesture == "press"]
    return chance.choice(found) if found else None
