from __future__ import annotations

from django.db import models


class Setting(models.Model):
    """One thing that was set. name: "values" (name → value, for places) or "guards" (limit →
    number, where a job has none of its own) or "keep" (what → days that it is kept).
    """

    name = models.CharField(max_length=40, unique=True)
    value = models.JSONField()
