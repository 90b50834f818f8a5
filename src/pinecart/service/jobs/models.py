from __future__ import annotations

from django.db import models


class JobRecord(models.Model):
    """A job: its definition as last saved, and when it is due. is_on: the clock may start it."""

    name = models.CharField(max_length=63, unique=True)
    definition = models.JSONField()
    version = models.IntegerField(default=1)
    is_on = models.BooleanField(default=True)
    saved_at = models.DateTimeField()
    next_due = models.DateTimeField(null=True, db_index=True)
