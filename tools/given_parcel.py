"""What somebody else gave, for a picture: the demo's numpad changed a little, and a macro that reaches outside."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

LAMP = '''name "Lamp on"
label "lamp"
run "lamp-tool" "--level" "80"
request post "http://192.168.1.40/lamp" with "on"
wait 200ms
type "Lamp is on"
'''
FOLDER = Path(tempfile.mkdtemp(prefix="bpg"))
PARCEL = FOLDER / "tideline-numpad.zip"


def pack(desk: Path, runtime: Path) -> Path:
    """Write the parcel; the fields are those of every step of a picture."""
    from brass_pebble.engine.disk.packages.parcel_file import pack_desk
    from brass_pebble.engine.disk.store import DeskStore
    copy = FOLDER / "desk"
    shutil.copytree(desk, copy)
    file = copy / "desk.toml"
    text = file.read_text(encoding="utf-8")
    for old, new in (('7 = { tap = "Ctrl+Alt+1", label = "wide"', '7 = { tap = "Ctrl+Alt+9", label = "total"'),
                     ('1 = { tap = "Ctrl+Alt+T", label = "title", tint = "wheat" }', '1 = { play = "lamp-on" }'),
                     ('3 = { tap = "Ctrl+Alt+L", label = "lamp", tint = "clay" }', "")):
        text = text.replace(old, new, 1)
    file.write_text(text, encoding="utf-8")
    (copy / "macros" / "lamp-on.macro").write_text(LAMP, encoding="utf-8")
    macro = copy / "macros" / "oven-close-up.macro"
    macro.write_text(macro.read_text(encoding="utf-8").replace("wait 300ms", "wait 500ms"), encoding="utf-8")
    PARCEL.write_bytes(pack_desk(DeskStore(copy, FOLDER / "versions"), surfaces=["left-numpad"]))
    return FOLDER
