"""Views for giving a desk on and taking one in, for what sleeps, and for the desk's history."""
