"""The kernel’s input interface, which inputs and outputs share."""
