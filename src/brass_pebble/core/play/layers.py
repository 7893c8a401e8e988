"""Which layers of which surfaces are on, and why.  Pure.

The lowest layer of a surface is always on.  Another one is on while a control holds it, when it was switched on, for
one press, or because the focused window is one that it follows.  Layers stack in the order in which the desk lists
them, however they came on.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable
from typing import TYPE_CHECKING

from brass_pebble.core.desk.layer_switch import EVERY, GO_TO, NEXT, ONE_PRESS, WHILE_HELD, FocusedWindow, LayerTarget
from brass_pebble.core.desk.model import find_layer

if TYPE_CHECKING:
    from brass_pebble.core.desk.model import Desk, Layer, Surface

_NONE: set[str] = set()


Key = tuple[str, str]  # surface id, layer id


class Layers:
    """The state of all layers.  `changed` has the surfaces whose stack may differ since it was last emptied."""

    def __init__(self) -> None:
        self._desk: Desk | None = None
        self._switched: set[Key] = set()
        self._held: dict[Key, set[Hashable]] = {}
        self._once: set[Key] = set()
        self._followed: set[Key] = set()
        self._put_off: set[Key] = set()
        self._started: set[Key] = set()
        self.window: FocusedWindow | None = None
        self.pinned = False
        self.changed: set[str] = set()
        # Counts whatever clients should hear of.
        self.version = 0
        self._stacks: dict[str, tuple[str, ...]] = {}

    def load(self, desk: Desk) -> None:
        """Another desk: layers that are gone are off; the others stay as they are."""
        self._desk = desk
        there = {(surface.id, layer.id) for surface in desk.surfaces.values() for layer in surface.layers}
        for keys in (self._switched, self._once, self._followed, self._put_off):
            keys.intersection_update(there)
        self._held = {key: holders for key, holders in self._held.items() if key in there}
        fresh = {(surface.id, layer.id) for surface in desk.surfaces.values() for layer in surface.layers[1:]
                 if layer.starts == "on"} - self._started
        self._switched |= fresh
        # A layer that starts on and was switched off stays off when the desk is read again.
        self._started = (self._started | fresh) & there
        self._stacks.clear()
        self.version += 1
        self.changed |= set(desk.surfaces)
        self._follow()

    def stack(self, surface: Surface) -> tuple[str, ...]:
        """The ids of a surface's layers that are on, from the lowest to the topmost."""
        found = self._stacks.get(surface.id)
        if found is None:
            found = self._stacks[surface.id] = tuple(
                layer.id for index, layer in enumerate(surface.layers)
                if index == 0 or self._is_on((surface.id, layer.id)))
        return found

    def _is_on(self, key: Key) -> bool:
        return (key in self._switched or key in self._held or key in self._once
                or (key in self._followed and key not in self._put_off))

    def why(self, surface: Surface, layer: str) -> str:
        """Why a layer is on, in a word or two; empty if it is off."""
        key = (surface.id, layer)
        if surface.layers and surface.layers[0].id == layer:
            return "always"
        for keys, word in ((self._held, "held"), (self._once, "one press"), (self._switched, "switched on")):
            if key in keys:
                return word
        return "follows the focus" if self._is_on(key) else ""

    @property
    def once_surfaces(self) -> set[str]:
        """The surfaces that have a layer on for their next press only."""
        return {key[0] for key in self._once} if self._once else _NONE

    @property
    def holding(self) -> bool:
        """Whether any layer is held."""
        return bool(self._held)

    def end_once(self, surface_id: str) -> None:
        """The one press has come."""
        for key in [key for key in self._once if key[0] == surface_id]:
            self._once.discard(key)
            self._touch(key)

    def _touch(self, key: Key) -> None:
        self._stacks.pop(key[0], None)
        self.changed.add(key[0])
        self.version += 1

    def _meant(self, target: LayerTarget, own: str) -> list[tuple[Surface, Layer | None]]:
        assert self._desk is not None
        surfaces = self._desk.surfaces
        ids: Iterable[str] = target.surfaces or (own,)
        if target.surfaces == (EVERY,):
            ids = surfaces
        found: list[tuple[Surface, Layer | None]] = []
        for surface_id in ids:
            surface = surfaces.get(surface_id)
            layer = find_layer(surface, target.layer) if surface else None
            if surface and (layer or not target.layer):
                found.append((surface, layer))
        return found

    def switch(self, target: LayerTarget, own: str, holder: Hashable) -> str:
        """Carry a switch out for a press of a control of the surface `own`; what became of it, in words.

        `holder` holds a layer that is on while held, until `let_go(holder)`.
        """
        said = []
        for surface, layer in self._meant(target, own):
            if layer is None:
                said.append(f"{self._step(surface, 1 if target.how == NEXT else -1).name} on")
            else:
                said.append(f"{layer.name} {self._switch_one(surface, layer, target.how, holder)}")
        return ", ".join(dict.fromkeys(said)) or f"there is no layer “{target.layer}” there"

    def _step(self, surface: Surface, step: int) -> Layer:
        order = [layer.id for layer in surface.layers]
        on = [index for index, name in enumerate(order) if index and (surface.id, name) in self._switched]
        layer = surface.layers[((on[-1] if on else 0) + step) % len(order)]
        self._go_to(surface, layer)
        return layer

    def _go_to(self, surface: Surface, layer: Layer) -> None:
        for other in surface.layers[1:]:
            key = (surface.id, other.id)
            (self._switched.add if other is layer else self._switched.discard)(key)
            self._once.discard(key)
            if other is not layer and key in self._followed:
                self._put_off.add(key)
        self._put_off.discard((surface.id, layer.id))
        self._touch((surface.id, layer.id))

    def _switch_one(self, surface: Surface, layer: Layer, how: str, holder: Hashable) -> str:
        key = (surface.id, layer.id)
        if layer is surface.layers[0] and how != GO_TO:
            return "is the lowest and always on"
        if how == GO_TO:
            self._go_to(surface, layer)
            return "on"
        if how == WHILE_HELD:
            self._held.setdefault(key, set()).add(holder)
            self._touch(key)
            return "on while held"
        if how == ONE_PRESS:
            on = key not in self._once
            (self._once.add if on else self._once.discard)(key)
            self._touch(key)
            return "on for one press" if on else "off"
        return self.set_on(surface, layer, on=not self._is_on(key))

    def set_on(self, surface: Surface, layer: Layer, *, on: bool) -> str:
        """Switch a layer on, or off whatever it is on for (but not out of a finger's hold)."""
        key = (surface.id, layer.id)
        if on:
            self._switched.add(key)
            self._put_off.discard(key)
        else:
            self._switched.discard(key)
            self._once.discard(key)
            if key in self._followed:
                self._put_off.add(key)
        self._touch(key)
        if not on and key in self._held:
            return "off when its control is let go"
        return "on" if on else "off"

    def let_go(self, holder: Hashable) -> None:
        """A control that may hold layers was let go."""
        for key, holders in list(self._held.items()):
            if holder in holders:
                holders.discard(holder)
                if not holders:
                    del self._held[key]
                self._touch(key)

    # Following the focused window.

    def focus(self, window: FocusedWindow | None) -> None:
        """Another window has the focus; None if that cannot be told."""
        self.version += self.window != window
        self.window = window
        self._follow()

    def pin(self, *, pinned: bool) -> None:
        """Leave following layers as they are, whatever gets the focus; or follow again."""
        self.version += 1
        self.pinned = pinned
        self._follow()

    def _follow(self) -> None:
        if self._desk is None or self.pinned:
            return
        window = self.window
        followed = {(surface.id, layer.id) for surface in self._desk.surfaces.values() for layer in surface.layers[1:]
                    if layer.follows is not None and window is not None and layer.follows.fits(window)}
        for key in followed ^ self._followed:
            self._put_off.discard(key)
            self._touch(key)
        self._followed = followed

