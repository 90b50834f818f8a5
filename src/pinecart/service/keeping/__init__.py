"""How long what was recorded is kept, and how it is cleared away."""
