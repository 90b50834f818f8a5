"""A process of its own that tells people what happened."""
