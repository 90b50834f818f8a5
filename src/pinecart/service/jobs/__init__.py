"""Job definitions and when they are due."""
