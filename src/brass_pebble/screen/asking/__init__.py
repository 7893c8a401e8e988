"""What macros ask, on top of whatever is shown."""
