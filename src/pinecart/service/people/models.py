from __future__ import annotations

from django.conf import settings
from django.db import models


class Grant(models.Model):
    """A right of a person, on everything (no label) or on what has the label."""

    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="grants")
    right = models.CharField(max_length=20)
    label = models.CharField(max_length=63, blank=True, default="")

    class Meta:
        unique_together = [("person", "right", "label")]


class Failures(models.Model):
    """Sign-ins that failed in a row, of a person's name or from an address."""

    whose = models.CharField(max_length=200, unique=True)
    count = models.IntegerField(default=0)
    last_at = models.DateTimeField(db_index=True)


class Token(models.Model):
    """A program's bearer token: only its digest is kept.

    most: it carries no right beyond this one; empty: all of its person's.   parent: the token that made it.
    """

    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="tokens")
    name = models.CharField(max_length=63)
    digest = models.CharField(max_length=64, unique=True)
    made_at = models.DateTimeField()
    expires_at = models.DateTimeField(null=True)
    revoked_at = models.DateTimeField(null=True)
    used_at = models.DateTimeField(null=True)
    most = models.CharField(max_length=20, blank=True, default="")
    parent = models.ForeignKey("self", on_delete=models.CASCADE, null=True, related_name="children")
