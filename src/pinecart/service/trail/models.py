from __future__ import annotations

from django.db import models


class Line(models.Model):
    """One thing that somebody did. `digest` covers this line and the digest before it."""

    at = models.DateTimeField()
    who = models.CharField(max_length=150)
    action = models.CharField(max_length=40)
    subject = models.CharField(max_length=200)
    facts = models.JSONField(default=dict)
    digest = models.CharField(max_length=64)
