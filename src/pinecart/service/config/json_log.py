"""The service's own output as JSON lines."""

from __future__ import annotations

import json
import logging
from datetime import UTC, datetime


class JsonLines(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        told = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "from": record.name,
            "message": record.getMessage(),
        }
        if record.exc_info:
            told["trace"] = self.formatException(record.exc_info)
        return json.dumps(told)
