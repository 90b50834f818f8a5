from __future__ import annotations

from typing import Any

from rest_framework.negotiation import DefaultContentNegotiation


class OneForm(DefaultContentNegotiation):
    """Each address answers in its one form, whatever a caller says it accepts."""

    def select_renderer(self, request: Any, renderers: Any, format_suffix: Any = None) -> Any:
        return renderers[0], renderers[0].media_type
