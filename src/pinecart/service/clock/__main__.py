from __future__ import annotations

import os

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "pinecart.service.config.settings")

import django

django.setup()

from pinecart.service.clock.scheduler import Clock  # noqa: E402
from pinecart.service.config.shell import keep_turning  # noqa: E402

keep_turning(Clock(), 1.0)
