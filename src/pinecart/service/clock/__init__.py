"""Starts what is due."""
