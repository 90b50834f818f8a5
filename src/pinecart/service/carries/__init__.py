"""One-off transfers: what is meant by two places, and a run of it like any other."""
