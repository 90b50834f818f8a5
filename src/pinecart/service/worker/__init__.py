"""Gives runs to processes of their own."""
