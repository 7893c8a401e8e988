"""A macro under another name: renamed, copied, deleted, from its own view."""

from __future__ import annotations

from typing import ClassVar

from textual import work
from textual.binding import Binding, BindingType

from brass_pebble.protocol.macros import MacroWritten
from brass_pebble.screen.base.sheets import AskText, Choose
from brass_pebble.screen.base.view import View


class MacroNames(View):
    """What a macro's view does to the macro as a whole."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("f2", "rename", "rename", show=False, priority=True, tooltip="rename it; what plays it follows"),
        Binding("f3", "copy", "copy", show=False, priority=True, tooltip="make a copy of it"),
        Binding("f10", "delete", "delete", show=False, priority=True, tooltip="delete it"),
    ]
    macro_id: str

    def unsaved(self) -> bool:
        """Whether the text that is shown is not what the macro plays."""
        return False

    def _called(self) -> str:
        return next((macro.name for macro in self.known.desk.macros if macro.id == self.macro_id), self.macro_id)

    @work(exclusive=True, group="names")
    async def action_rename(self) -> None:
        """Call it something else."""
        if self.unsaved():
            self.notify("Correct the errors first: only a saved macro can be renamed.", timeout=5)
            return
        await self._named("rename_macro", "Rename", "Its bindings and the macros that play it follow.", self._called())

    @work(exclusive=True, group="names")
    async def action_copy(self) -> None:
        """Make another one of the same text, and open it."""
        await self._named("copy_macro", "Copy", "Name of the copy.", f"{self._called()} (2)")

    async def _named(self, do: str, title: str, says: str, proposal: str) -> None:
        made = ""

        async def give(name: str) -> str:
            nonlocal made
            reply, wrong = await self.ask_or_say(do, macro=self.macro_id, name=name)
            made = reply.macro if isinstance(reply, MacroWritten) else ""
            return wrong
        await self.app.push_screen_wait(AskText(f"{title} “{self._called()}”", says, proposal, save=give))
        if made:
            self.notify("Saved. u on the desk: undo.", timeout=4)
            self.app.pop_screen()
            self.app.open_view("macro", macro=made)  # type: ignore[attr-defined]

    @work(exclusive=True, group="names")
    async def action_delete(self) -> None:
        """Take it away, after asking."""
        players = [f"{surface.name} {row.control}" for surface in self.known.desk.surfaces for layer in surface.layers
                   for row in layer.bindings if row.kind == "play" and row.target == self.macro_id]
        says = (f"It is played by {', '.join(dict.fromkeys(players[:6]))}{' and more' if len(players) > 6 else ''}; "
                "these will do nothing." if players else "No control plays it.")
        chosen = await self.app.push_screen_wait(Choose(f"Delete “{self._called()}”", f"{says} u on the desk: undo.",
                                                          ["Delete", "Cancel"]))
        if chosen == 0 and await self.change("remove_macro", macro=self.macro_id):
            self.app.pop_screen()
