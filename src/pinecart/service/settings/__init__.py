"""What holds for the whole service, and may be changed while it works."""
