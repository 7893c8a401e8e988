"""The world, one file a kind: inputs, outputs, who tells the focus."""
