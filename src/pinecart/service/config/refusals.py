"""The service's own refusals, beside those of core."""

from __future__ import annotations

from pinecart.core import errors


class NotFound(errors.PinecartError):
    """There is nothing of that name, or the asker may not know of it."""

    code = "not-found"


class Conflict(errors.PinecartError):
    """It can't be done as things stand now."""

    code = "conflict"


class NotAllowed(errors.PinecartError):
    """A right is missing."""

    code = "right.missing"
