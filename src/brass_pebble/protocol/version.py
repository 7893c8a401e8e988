"""Which protocol this is: both sides must speak the same."""

VERSION = 1
