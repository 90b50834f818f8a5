"""`python -m pinecart.service.worker.child`: one run, in a process of its own."""

from __future__ import annotations

import os
from importlib import import_module

import django

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "pinecart.service.config.settings")
    django.setup()
    import_module("pinecart.service.worker.run_process").main()
