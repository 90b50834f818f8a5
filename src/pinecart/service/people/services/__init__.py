"""What changes people, and how they come in."""
