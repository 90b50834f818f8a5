"""What a job remembers of each object: what it last saw at the source, and what it left there."""
