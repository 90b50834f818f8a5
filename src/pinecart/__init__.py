"""Pine Cart: defined, scheduled and audited transfers between folders
and object-storage buckets.
"""

__version__ = "0.1.0"
__all__ = ["__version__"]
