"""Who did what, in a chain that cannot be edited quietly."""
