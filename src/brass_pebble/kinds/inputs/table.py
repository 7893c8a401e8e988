"""Every kind of input.  A new one is a file beside this one, and a row here."""

from __future__ import annotations

from collections.abc import Callable

from .bench import Bench, BenchKind
from .evdev import EvdevKind
from .kind import InputKind
from .microphones import MicrophoneKind
from .midi_ports import MidiKind
from .network import Connected, OscKind, SessionKind

# In the order in which their devices are listed.
_MAKERS: tuple[Callable[[Bench, Connected], InputKind], ...] = (
    lambda bench, network: BenchKind(bench),
    lambda bench, network: EvdevKind(),
    lambda bench, network: MidiKind(),
    lambda bench, network: SessionKind(network),
    lambda bench, network: OscKind(network),
    lambda bench, network: MicrophoneKind(),
)


def input_kinds(bench: Bench, network: Connected) -> dict[str, InputKind]:
    """Every kind by its name."""
    kinds = [make(bench, network) for make in _MAKERS]
    return {kind.name: kind for kind in kinds}
