"""Django's SQLite backend, with a patience of its own: see `base`."""
