"""What a control can send, and what a key is called."""
