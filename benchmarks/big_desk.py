"""A large made-up desk: 40 surfaces with 5,000 bindings and 2,000 macros."""

from __future__ import annotations

import random
import tomllib
from pathlib import Path

SURFACES, BINDINGS, MACROS = 40, 5_000, 2_000
LAYOUTS = {"full-iso": 105, "numpad": 17, "pads-16": 16, "grid-6x4": 24}
WORDS = ("wide", "next cam", "mute", "title", "cut", "marker", "bell", "fade", "replay", "lights")
TINTS = ("clay", "wheat", "moss", "lagoon", "sky", "iris", "rose")


def write_big_desk(folder: Path, *, surfaces: int = SURFACES, bindings: int = BINDINGS, macros: int = MACROS,
                   output: str = "stage") -> None:
    """Write it; always the same."""
    from brass_pebble.core.devices.layout import read_layout
    from brass_pebble.paths import SHIPPED_LAYOUTS
    chance = random.Random(11)
    (folder / "macros").mkdir(parents=True, exist_ok=True)
    for number in range(macros):
        lines = [f'name "Macro {number}"', f'label "m{number}"', f"tint {chance.choice(TINTS)}"]
        for step in range(chance.randint(3, 12)):
            key = chance.choice("ABCDEFGHIJKLMNOPQRSTUVWXYZ")
            lines += chance.choice((
                [f"tap Ctrl+Alt+{key}"], [f"wait {chance.randint(10, 400)}ms"], [f'type "text {number} {step}"'],
                [f"repeat {step + 2} every 80ms", f"  tap {key}"],
                ["keep Ctrl down", f"  tap {key}", f"  tap F{1 + step % 12}"]))
        (folder / "macros" / f"macro-{number}.macro").write_text("\n".join(lines) + "\n")
    names = list(LAYOUTS)
    controls = {name: [c.id for c in read_layout(tomllib.loads((SHIPPED_LAYOUTS / f"{name}.toml").read_text()), id=name,
                                                 file=name)[0].controls] for name in names}
    text = ["format = 1", 'name = "A very large desk"', f'output = "{output}"', ""]
    left = bindings
    for number in range(surfaces):
        layout = names[number % len(names)]
        text += [f"[surface.s{number}]", f'name = "Surface {number}"', f'layout = "{layout}"',
                 f"at = [{(number % 8) * 25}, {number // 8 * 8}]", f'device = {{ name = "Device {number}" }}', ""]
        share = left // (surfaces - number)
        layer = 0
        while share > 0:
            text += [f"[surface.s{number}.layer.l{layer}]", f'name = "Layer {layer}"', "",
                     f"[surface.s{number}.layer.l{layer}.press]"]
            for control in controls[layout][:share]:
                tint, label = chance.choice(TINTS), chance.choice(WORDS)
                if chance.random() < 0.4:
                    text.append(f'"{control}" = {{ play = "macro-{chance.randrange(macros)}" }}')
                else:
                    key = chance.choice("ABCDEFGHIJKLMNOPQRSTUVWXYZ")
                    text.append(f'"{control}" = {{ tap = "Ctrl+Alt+{key}", label = "{label}", tint = "{tint}" }}')
            made = min(share, len(controls[layout]))
            share -= made
            left -= made
            layer += 1
            text.append("")
    (folder / "desk.toml").write_text("\n".join(text) + "\n")
    from brass_pebble.demo import know
    know(folder)
