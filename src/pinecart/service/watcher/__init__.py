"""The process that watches sources for changes, and starts what they are reason for."""
