from __future__ import annotations

import os
from importlib import import_module

import django

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "pinecart.service.config.settings")
    django.setup()
    turner = import_module("pinecart.service.notifier.notifier").Notifier()
    import_module("pinecart.service.config.shell").keep_turning(turner, 1.0)
