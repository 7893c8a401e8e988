"""What clients may ask about labels: their sizes and icons.  See docs/protocol.md."""

from __future__ import annotations

from brass_pebble.core.label.icons import check_icon
from brass_pebble.core.label.sizes import read_size, write_size
from brass_pebble.core.say.problem import ProblemError, nearest
from brass_pebble.engine.disk.edits import Edit
from brass_pebble.engine.ports import Ports
from brass_pebble.protocol import labels as messages
from brass_pebble.protocol.errors import Refusal

from .editing import Editing
from .server import Client


class PaperRequests:
    """Answers on behalf of an engine."""

    def __init__(self, ports: Ports, editing: Editing) -> None:
        self._ports, self._editing = ports, editing

    def do_label_size(self, client: Client, ask: messages.LabelSize) -> None:
        """How large the labels of a surface are: of a key of one unit, or of one `control`; empty for the usual."""
        surface = self._editing.surface(ask.surface)
        control, size = ask.control, ask.size
        known = [item.id for item in surface.layout.controls]
        if control and control not in known:
            raise Refusal(f"“{surface.name}” has no control “{control}”", nearest(control, known))
        try:
            value = write_size(read_size(size)) if size else None
        except ProblemError as error:
            raise Refusal(error.problem.what, error.problem.hint) from None
        path = ("surface", surface.id, "labels", *(("sizes", control) if control else ("cap",)))
        what = f"label of {control}" if control else "labels"
        edit = Edit(f"{surface.name}: {what} {f'of {value} mm' if value else 'as usual'}", ((path, value),))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))

    def do_icon(self, client: Client, ask: messages.Icon) -> None:
        """The icon on the label of a binding; empty for what its words suggest, “none” for no icon."""
        surface = self._editing.surface(ask.surface)
        layer_id, gesture, control = ask.layer, ask.gesture, ask.control
        layer = next((layer for layer in surface.layers if layer.id == layer_id), None)
        if layer is None or (control, gesture) not in layer.bindings:
            raise Refusal(f"“{control}” of “{surface.name}” does nothing in that layer", "An icon needs a binding")
        try:
            icon = check_icon(ask.icon)
        except ProblemError as error:
            raise Refusal(error.problem.what, error.problem.hint) from None
        path = ("surface", surface.id, "layer", layer_id, gesture, control, "icon")
        edit = Edit(f"{surface.name} {control}: icon {icon or 'as its words suggest'}", ((path, icon or None),))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))
