"""Everything that clients and the engine say to one another, as declared messages.  Knows neither of them.

One frozen type for each request, each reply and each topic of news: its fields, their units and limits, and what it is
for.  `table.py` lists them; `wire.py` reads and writes them; docs/protocol.md and docs/protocol.schema.json are made
from them.
"""
