"""What can be sent out."""
