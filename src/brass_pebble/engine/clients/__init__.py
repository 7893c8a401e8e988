"""Clients: the socket, their requests, the news they hear."""
