"""The interfaces of wlr-data-control-unstable-v1, version 2, declared for pywayland.  Those of ext-data-control-v1,
which pywayland has, are the same under other names.

Messages are numbered by their order, so the order here is that of the protocol.
"""

from __future__ import annotations

from typing import Any

from pywayland.protocol.wayland import WlSeat
from pywayland.protocol_core import Argument, ArgumentType, Interface, Proxy, Resource


class Manager(Interface):
    """Gives access to clipboards."""

    name = "zwlr_data_control_manager_v1"
    version = 2


class Device(Interface):
    """The clipboards of a seat."""

    name = "zwlr_data_control_device_v1"
    version = 2


class Source(Interface):
    """What is offered by this program."""

    name = "zwlr_data_control_source_v1"
    version = 1


class Offer(Interface):
    """What is offered by another program."""

    name = "zwlr_data_control_offer_v1"
    version = 1


class ManagerProxy(Proxy[Manager]):
    """What can be asked of it."""

    interface = Manager

    @Manager.request(Argument(ArgumentType.NewId, interface=Source))
    def create_data_source(self) -> Any:
        """Something to offer."""
        return self._marshal_constructor(0, Source)

    @Manager.request(Argument(ArgumentType.NewId, interface=Device), Argument(ArgumentType.Object, interface=WlSeat))
    def get_data_device(self, seat: Any) -> Any:
        """A seat's clipboards."""
        return self._marshal_constructor(1, Device, seat)


class DeviceProxy(Proxy[Device]):
    """What can be asked of it."""

    interface = Device

    @Device.request(Argument(ArgumentType.Object, interface=Source, nullable=True))
    def set_selection(self, source: Any) -> None:
        """Offer something, or nothing."""
        self._marshal(0, source)

    @Device.request()
    def destroy(self) -> None:
        """It is not asked for any more."""
        self._marshal(1)
        self._destroy()

    @Device.request(Argument(ArgumentType.Object, interface=Source, nullable=True), version=2)
    def set_primary_selection(self, source: Any) -> None:
        """Offer something in place of what was marked last."""
        self._marshal(2, source)


class DeviceResource(Resource[Device]):
    """What is told of it."""

    interface = Device

    @Device.event(Argument(ArgumentType.NewId, interface=Offer))
    def data_offer(self, id: Any) -> None:
        """An offer comes."""
        self._post_event(0, id)

    @Device.event(Argument(ArgumentType.Object, interface=Offer, nullable=True))
    def selection(self, id: Any) -> None:
        """It is that of the clipboard."""
        self._post_event(1, id)

    @Device.event()
    def finished(self) -> None:
        """Nothing more is told."""
        self._post_event(2)

    @Device.event(Argument(ArgumentType.Object, interface=Offer, nullable=True), version=2)
    def primary_selection(self, id: Any) -> None:
        """It is that of what was marked last."""
        self._post_event(3, id)


class SourceProxy(Proxy[Source]):
    """What can be asked of it."""

    interface = Source

    @Source.request(Argument(ArgumentType.String))
    def offer(self, mime_type: str) -> None:
        """One of its forms."""
        self._marshal(0, mime_type)

    @Source.request()
    def destroy(self) -> None:
        """It is offered no more."""
        self._marshal(1)
        self._destroy()


class SourceResource(Resource[Source]):
    """What is told of it."""

    interface = Source

    @Source.event(Argument(ArgumentType.String), Argument(ArgumentType.FileDescriptor))
    def send(self, mime_type: str, fd: int) -> None:
        """Somebody wants it in this form."""
        self._post_event(0, mime_type, fd)

    @Source.event()
    def cancelled(self) -> None:
        """Somebody else offers something."""
        self._post_event(1)


class OfferProxy(Proxy[Offer]):
    """What can be asked of it."""

    interface = Offer

    @Offer.request(Argument(ArgumentType.String), Argument(ArgumentType.FileDescriptor))
    def receive(self, mime_type: str, fd: int) -> None:
        """Have it written, in this form."""
        self._marshal(0, mime_type, fd)

    @Offer.request()
    def destroy(self) -> None:
        """It is not asked for any more."""
        self._marshal(1)
        self._destroy()


class OfferResource(Resource[Offer]):
    """What is told of it."""

    interface = Offer

    @Offer.event(Argument(ArgumentType.String))
    def offer(self, mime_type: str) -> None:
        """One of its forms."""
        self._post_event(0, mime_type)


class ManagerResource(Resource[Manager]):
    """Nothing is told of it."""

    interface = Manager


for _interface, _proxy, _resource in ((Manager, ManagerProxy, ManagerResource), (Device, DeviceProxy, DeviceResource),
                                      (Source, SourceProxy, SourceResource), (Offer, OfferProxy, OfferResource)):
    _interface.proxy_class, _interface.resource_class = _proxy, _resource
    _interface._gen_c()
