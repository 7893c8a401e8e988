"""The desk’s files: read, watched, edited, kept.  Nothing else touches them."""
