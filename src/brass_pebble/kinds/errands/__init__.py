"""What runs ask of others over the network: each kind a file with a class, and a row in `table.py`."""
