"""What clients may ask about things that move: how they are read, and their calibration.  See docs/protocol.md."""

from __future__ import annotations

from dataclasses import replace

from brass_pebble.core.desk.model import Surface, usual_settings
from brass_pebble.core.devices.layout import Control
from brass_pebble.core.play.axis import AxisSettings, Calibration
from brass_pebble.core.say.problem import nearest
from brass_pebble.core.say.setting import settings_of, write_all
from brass_pebble.engine.disk.edits import Edit
from brass_pebble.engine.ports import Ports
from brass_pebble.protocol import motion as messages
from brass_pebble.protocol.base import UNSET, Request
from brass_pebble.protocol.errors import Refusal

from .editing import Editing
from .server import Client, Message


class MotionRequests:
    """Answers on behalf of an engine."""

    def __init__(self, ports: Ports, editing: Editing) -> None:
        self._ports, self._editing = ports, editing

    def _control(self, surface: Surface, name: str) -> Control:
        found = next((c for c in surface.layout.controls if c.id == name and c.moves), None)
        if found is None:
            moving = [c.id for c in surface.layout.controls if c.moves]
            raise Refusal(f"“{name}” of “{surface.name}” does not move", nearest(name, moving) or
                          (f"Moving are {', '.join(moving)}" if moving else "Nothing on it moves"))
        return found

    def do_set_axis(self, client: Client, ask: messages.SetAxis) -> None:
        """How an axis is read from now on; with `usual`, as usual."""
        surface = self._editing.surface(ask.surface)
        control = self._control(surface, ask.control)
        axis = ask.axis
        if ask.usual:
            settings = usual_settings(control)
        else:
            given = {name: value for name in settings_of(AxisSettings) if (value := getattr(ask, name)) is not UNSET}
            settings = replace(surface.settings_of(control, axis), **given)
        self._save(client, ask, surface, control, {axis: settings}, "curve")

    def do_calibrate(self, client: Client, ask: messages.Calibrate) -> Message | None:
        """`begin` watching how far a control goes, or `end` it and take what was seen."""
        surface = self._editing.surface(ask.surface)
        control = self._control(surface, ask.control)
        mover = self._ports.router.mover
        if ask.step == "begin":
            mover.calibrate(surface.id, control.id, [Calibration() for _ in control.moves])
            return {}
        seen = mover.calibrate(surface.id, control.id, None)
        found = {axis: result for axis, calibration in enumerate(seen or ())
                 if (result := calibration.result(surface.settings_of(control, axis), centred=control.centred))}
        if not found:
            raise Refusal("it has hardly moved", "Move it to both ends, let it rest, then end the calibration")
        self._save(client, ask, surface, control, found, "calibrated")
        return None

    def _save(self, client: Client, ask: Request, surface: Surface, control: Control,
              changed: dict[int, AxisSettings], what: str) -> None:
        """Write the settings of axes; those of a stick's second axis only where they differ from the first's."""
        usual = usual_settings(control)
        axes = [changed.get(axis, surface.settings_of(control, axis)) for axis in range(len(control.moves))]
        if changed.keys() == {0} and len(axes) > 1 and f"{control.id} down" not in dict(surface.axes):
            # What was one setting for both stays one.
            axes[1] = axes[0]
        values = []
        for name, settings in zip((control.id, f"{control.id} down"), axes, strict=False):
            row = write_all(settings, usual)
            if name != control.id and settings == axes[0]:
                row = {}
            elif name != control.id and not row:
                row = {"invert": settings.invert}
            values.append((("surface", surface.id, "axis", name), row or None))
        edit = Edit(f"{surface.id} {control.id}: {what}", tuple(values))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))
