"""Reads nginx configurations and says what the server does with a request."""
