"""Who tells which window has the focus: one file a kind."""
