"""A keyboard on the screen, for whoever has only a mouse: keys to click; modifiers stick until the next key."""

from __future__ import annotations

from textual import events
from textual.strip import Strip
from textual.widget import Widget
from textual.widgets import Input, TextArea

from brass_pebble.core.desk.action import CHOOSE, NEXT, PREVIOUS
from brass_pebble.screen.base.palette import Palette

from .canvas import Canvas, paint
from .key_footer import KeyFooter

# A row a line; a key with a name of more than one letter stands as it is, “Space” is wide.
_ROWS = (
    "Esc F1 F2 F3 F4 F5 F6 F7 F8 F9 F10 F11 F12",
    "1 2 3 4 5 6 7 8 9 0 - = Backspace Insert Home PageUp",
    "Tab q w e r t y u i o p [ ] \\ Delete End PageDown",
    "a s d f g h j k l ; ' \" Enter Left Up Right Down",
    "Shift z x c v b n m , . / : + Ctrl Alt AltGr Super Space",
)
_MODIFIERS = ("Ctrl", "Alt", "AltGr", "Super", "Shift")
# What these do in a field when no modifier sticks.
_PRESSED = {"Enter": "enter", "Backspace": "backspace", "Delete": "delete", "Left": "left", "Right": "right",
            "Up": "up", "Down": "down", "Home": "home", "End": "end", "Tab": "tab", "Esc": "escape"}
# Names in chords, where the sign itself would be read as something else.
_IN_CHORDS = {"Esc": "Escape", "+": "Shift+Equal"}


class ScreenKeys(Widget):
    """Types into the field that has the focus.  With a modifier that sticks, a key writes a chord: Ctrl, Alt, 4 is
    `Ctrl+Alt+4`."""

    DEFAULT_CSS = "ScreenKeys { dock: bottom; height: 7; width: 100%; background: $panel; border-top: solid $primary; }"
    can_focus = False

    def __init__(self) -> None:
        super().__init__()
        self._stuck: list[str] = []
        # The cells of each key, row by row.
        self._keys: list[list[tuple[int, int, str]]] = []
        self._lines: list[Strip] = []
        # With switches, rows are gone through, and then the keys of one.
        self._row, self._key = -1, -1

    def on_mount(self) -> None:
        """Draw it, above the footer if there is one."""
        if self.screen.query(KeyFooter):
            self.styles.margin = (0, 0, 1, 0)
        self.redraw()

    def on_resize(self) -> None:
        """Draw it for the new width."""
        self.redraw()

    def redraw(self) -> None:
        """Draw it; what sticks is filled."""
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        width = max(1, self.size.width)
        canvas = Canvas(width, len(_ROWS) + 1, paint(palette.text, palette.panel))
        self._keys = []
        for y, row in enumerate(_ROWS):
            x = 1
            self._keys.append([])
            for name in row.split():
                shown = name.upper() if "Shift" in self._stuck and len(name) == 1 else name
                wide = len(shown) + 2
                stuck = name in self._stuck or (y == self._row and self._key in (-1, len(self._keys[-1])))
                style = paint(palette.on_brass if stuck else palette.text, palette.brass if stuck else palette.cap,
                              bold=stuck)
                canvas.put(x, y, f" {shown} ", style)
                self._keys[-1].append((x, x + wide, name))
                x += wide + 1
        held = "+".join([*self._stuck, "…"]) if self._stuck else "Click keys; Ctrl, Alt, Super and Shift stick."
        canvas.put(1, len(_ROWS), f"{held}   F12: hide", paint(palette.dim, palette.panel))
        self._lines = canvas.strips()
        self.refresh()

    def render_line(self, y: int) -> Strip:
        """One row."""
        return self._lines[y] if y < len(self._lines) else Strip.blank(self.size.width)

    def switch(self, deed: str) -> bool:
        """What a switch does here; False if it is not for the keyboard: back, when no row is entered."""
        names = [row.split() for row in _ROWS]
        step = {NEXT: 1, PREVIOUS: -1}.get(deed, 0)
        if step and self._key < 0:
            self._row = (self._row + step) % len(names) if self._row >= 0 else 0
        elif step:
            self._key = (self._key + step) % len(names[self._row])
        elif deed == CHOOSE and self._key < 0:
            self._key = 0 if self._row >= 0 else -1
        elif deed == CHOOSE:
            name, self._key = names[self._row][self._key], -1
            self.press(name)
        elif self._key >= 0:
            self._key = -1
        else:
            return False
        self.redraw()
        return True

    def on_mouse_down(self, event: events.MouseDown) -> None:
        """The field keeps the focus."""
        event.stop()
        event.prevent_default()

    def on_click(self, event: events.Click) -> None:
        """Press what is under the pointer."""
        event.stop()
        y = event.y - 1
        if y == len(_ROWS):
            self.app.simulate_key("f12")
        name = next((key for start, end, key in (self._keys[y] if 0 <= y < len(self._keys) else [])
                     if start <= event.x < end), "")
        if name:
            self.press(name)

    def press(self, name: str) -> None:
        """A key, by what stands on it."""
        if name in _MODIFIERS:
            self._stuck = [held for held in self._stuck if held != name] if name in self._stuck else \
                [held for held in _MODIFIERS if held in (*self._stuck, name)]
            self.redraw()
            return
        stuck, self._stuck = self._stuck, []
        if any(held != "Shift" for held in stuck):
            self._type("+".join([*stuck, _IN_CHORDS.get(name, name.upper() if len(name) == 1 else name)]))
        elif name in _PRESSED and not stuck:
            self.app.simulate_key(_PRESSED[name])
        elif name == "Space":
            self._type(" ")
        else:
            self._type(name.upper() if stuck and len(name) == 1 else name)
        self.redraw()

    def _type(self, text: str) -> None:
        field = self.screen.focused
        if not isinstance(field, Input | TextArea):
            field = next(iter(self.screen.query(Input)), None)
        if isinstance(field, Input):
            field.insert_text_at_cursor(text)
        elif isinstance(field, TextArea):
            field.insert(text)
