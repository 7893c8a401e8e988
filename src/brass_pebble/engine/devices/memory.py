"""What an engine remembers of devices from one start to the next: ports, twins, the main keyboard.

It is a help, not a part of the desk: without the file, a surface whose device moved is asked for once more.
"""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from brass_pebble.core.devices.identity import DeviceFacts, DeviceRule, score
from brass_pebble.engine.logs import log
from brass_pebble.file_access import private_folder, read_text, write_text


@dataclass
class Memory:
    """`ports`: where each surface's device was last; `twins`: how many of a make were ever seen at once; `main`: the
    keyboard that is never taken over."""

    file: Path | None = None
    ports: dict[str, str] = field(default_factory=dict)
    twins: dict[tuple[str, ...], int] = field(default_factory=dict)
    main: DeviceRule = DeviceRule()
    # What the person was told once, by a word for each.
    told: set[str] = field(default_factory=set)
    _saved: str = ""

    def read(self) -> None:
        """Remember what the file says; a broken one is as good as none."""
        if self.file is None or not self.file.is_file():
            return
        try:
            data = json.loads(read_text(self.file))
            self.ports = {str(k): str(v) for k, v in data["ports"].items()}
            self.twins = {tuple(map(str, row[:-1])): int(row[-1]) for row in data["twins"]}
            self.main = DeviceRule(tuple((str(k), str(v)) for k, v in data["main"].items()))
            self.told = {str(word) for word in data.get("told", ())}
        except (OSError, ValueError, KeyError, AttributeError, TypeError) as error:
            log.warning("what was remembered of devices cannot be read: %s", error)

    def see(self, present: list[DeviceFacts]) -> None:
        """Count twins."""
        counts: dict[tuple[str, ...], int] = {}
        for facts in present:
            counts[facts.make] = counts.get(facts.make, 0) + 1
        for make, count in counts.items():
            if count > 1:
                self.twins[make] = max(count, self.twins.get(make, 1))

    def is_main(self, facts: DeviceFacts) -> bool:
        """Whether this is the keyboard that its person types on."""
        return bool(self.main.fields) and score(self.main, facts).points >= SURELY

    def text(self) -> str:
        """The file's text if it has to be written, or an empty one."""
        data: dict[str, Any] = {"ports": self.ports, "twins": [[*make, count] for make, count in self.twins.items()],
                                "main": dict(self.main.fields), "told": sorted(self.told)}
        text = json.dumps(data, ensure_ascii=False, indent=1)
        if text == self._saved:
            return ""
        self._saved = text
        return text

    def write(self, text: str) -> None:
        """Put the file in place."""
        if self.file is not None:
            private_folder(self.file.parent)
            write_text(self.file, text)


# Maker and product alone would mark a twin, too.
SURELY = 60
