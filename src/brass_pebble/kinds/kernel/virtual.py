"""Making virtual devices of the kernel (uinput), for outputs and for what passes through an input.

The package that makes them looks for the new device's node afterwards, and where it may not open it yet it opens every
other device instead, whatever its name.  Nobody here needs the node, so it is not looked for.
"""

from __future__ import annotations

from typing import Any


def make_device(events: dict[int, Any], **settings: Any) -> Any:
    """A virtual device: `fd` is written to, `close` removes it.  `settings` as for `evdev.UInput`.

    Raises:
        OSError, evdev.UInputError: it cannot be made.
    """
    # The package is slow to import, and the demo can do without it.
    import evdev

    class Virtual(evdev.UInput):
        """A virtual device whose node is not looked for."""

        def _find_device(self, *about: Any) -> None:  # type: ignore[override]
            return None
    return Virtual(events, **settings)
