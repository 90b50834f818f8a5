"""Registered stores and their sealed secrets."""
