from __future__ import annotations

from typing import Any

from pinecart.service.trail.models import Line


def lines_before(number: int | None, limit: int) -> list[dict[str, Any]]:
    """Newest first, from before line `number` on."""
    found = Line.objects.order_by("-id")
    if number is not None:
        found = found.filter(pk__lt=number)
    return [dict(line) for line in found.values("id", "at", "who", "action", "subject", "facts")[:limit]]
