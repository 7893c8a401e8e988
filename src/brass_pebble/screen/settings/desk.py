"""What is set for the whole desk, changed at once."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from textual.binding import BindingType

from brass_pebble.core.desk.model import Desk
from brass_pebble.screen.known import Known

from .panel import Ask, SettingsPanel


class DeskPanel(SettingsPanel):
    """The settings that hold wherever nothing else is said."""

    BINDINGS: ClassVar[list[BindingType]] = [("D", "leave", "back")]
    MODEL = Desk

    def __init__(self, known: Known, ask: Ask) -> None:
        super().__init__(ask)
        self._known = known

    def heading(self) -> str:
        return f"{self._known.desk.name}: settings of the desk"

    def about(self) -> str:
        return f"{self._known.desk.folder}/desk.toml"

    def written(self) -> Mapping[str, Any]:
        settings: Mapping[str, Any] = self._known.desk.settings
        return settings

    async def put(self, what: str, value: Any) -> bool:
        return bool(await self._ask("set", what=what, value=value))
