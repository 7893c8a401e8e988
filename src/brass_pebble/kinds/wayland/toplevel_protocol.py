"""The interfaces of wlr-foreign-toplevel-management-unstable-v1, version 1, declared for pywayland.

Messages are numbered by their order, so the order here is that of the protocol.
"""

from __future__ import annotations

from typing import Any

from pywayland.protocol.wayland import WlOutput, WlSeat, WlSurface
from pywayland.protocol_core import Argument, ArgumentType, Interface, Proxy, Resource

# Of the array that tells a window's state.
MINIMISED, ACTIVATED = 1, 2


class ToplevelHandle(Interface):
    """A window."""

    name = "zwlr_foreign_toplevel_handle_v1"
    version = 1


class ToplevelManager(Interface):
    """Tells of windows."""

    name = "zwlr_foreign_toplevel_manager_v1"
    version = 1


class ToplevelHandleProxy(Proxy[ToplevelHandle]):
    """What can be asked of a window."""

    interface = ToplevelHandle

    @ToplevelHandle.request()
    def set_maximized(self) -> None:
        """As large as its screen."""
        self._marshal(0)

    @ToplevelHandle.request()
    def unset_maximized(self) -> None:
        """No longer."""
        self._marshal(1)

    @ToplevelHandle.request()
    def set_minimized(self) -> None:
        """Out of sight."""
        self._marshal(2)

    @ToplevelHandle.request()
    def unset_minimized(self) -> None:
        """Into sight again."""
        self._marshal(3)

    @ToplevelHandle.request(Argument(ArgumentType.Object, interface=WlSeat))
    def activate(self, seat: Any) -> None:
        """To the front, with the focus."""
        self._marshal(4, seat)

    @ToplevelHandle.request()
    def close(self) -> None:
        """Its program is asked to close it."""
        self._marshal(5)

    @ToplevelHandle.request(Argument(ArgumentType.Object, interface=WlSurface), Argument(ArgumentType.Int),
                            Argument(ArgumentType.Int), Argument(ArgumentType.Int), Argument(ArgumentType.Int))
    def set_rectangle(self, surface: Any, x: int, y: int, width: int, height: int) -> None:
        """Where it is drawn small."""
        self._marshal(6, surface, x, y, width, height)

    @ToplevelHandle.request()
    def destroy(self) -> None:
        """It is not asked for any more."""
        self._marshal(7)
        self._destroy()


class ToplevelHandleResource(Resource[ToplevelHandle]):
    """What is told of a window."""

    interface = ToplevelHandle

    @ToplevelHandle.event(Argument(ArgumentType.String))
    def title(self, title: str) -> None:
        """Its title."""
        self._post_event(0, title)

    @ToplevelHandle.event(Argument(ArgumentType.String))
    def app_id(self, app_id: str) -> None:
        """Its class."""
        self._post_event(1, app_id)

    @ToplevelHandle.event(Argument(ArgumentType.Object, interface=WlOutput))
    def output_enter(self, output: Any) -> None:
        """A screen that it is on."""
        self._post_event(2, output)

    @ToplevelHandle.event(Argument(ArgumentType.Object, interface=WlOutput))
    def output_leave(self, output: Any) -> None:
        """A screen that it is on no longer."""
        self._post_event(3, output)

    @ToplevelHandle.event(Argument(ArgumentType.Array))
    def state(self, state: Any) -> None:
        """Numbers of what it is."""
        self._post_event(4, state)

    @ToplevelHandle.event()
    def done(self) -> None:
        """All that has changed was told."""
        self._post_event(5)

    @ToplevelHandle.event()
    def closed(self) -> None:
        """It is gone."""
        self._post_event(6)


class ToplevelManagerProxy(Proxy[ToplevelManager]):
    """What can be asked of the teller."""

    interface = ToplevelManager

    @ToplevelManager.request()
    def stop(self) -> None:
        """Tell no more."""
        self._marshal(0)


class ToplevelManagerResource(Resource[ToplevelManager]):
    """What is told of windows."""

    interface = ToplevelManager

    @ToplevelManager.event(Argument(ArgumentType.NewId, interface=ToplevelHandle))
    def toplevel(self, toplevel: Any) -> None:
        """There is a window."""
        self._post_event(0, toplevel)

    @ToplevelManager.event()
    def finished(self) -> None:
        """Nothing more is told."""
        self._post_event(1)


for _interface, _proxy, _resource in ((ToplevelHandle, ToplevelHandleProxy, ToplevelHandleResource),
                                      (ToplevelManager, ToplevelManagerProxy, ToplevelManagerResource)):
    _interface._gen_c()
    _interface.proxy_class, _interface.resource_class = _proxy, _resource
