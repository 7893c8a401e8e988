"""MIDI over the network: packets, the recovery journal, sessions.  Pure: no sockets, no clock."""
