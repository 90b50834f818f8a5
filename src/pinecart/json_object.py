"""What JSON calls an object."""

from __future__ import annotations

from typing import Any

JsonObject = dict[str, Any]
"""Its members by name, read or to be written."""
