from __future__ import annotations

from django.db import models

from pinecart.service.config.quick_json import QuickJSONField


class JobRecord(models.Model):
    """A job: its definition as last saved, and when it is due.

    is_on: it may be started by itself.   switched_by, switched_at, switched_why: who switched it
    last, when and why; nobody, while it is on as it was defined.   after_seen: of a job that starts
    after another's runs: those that ended up to then were seen.
    """

    name = models.CharField(max_length=63, unique=True)
    definition = QuickJSONField()
    version = models.IntegerField(default=1)
    is_on = models.BooleanField(default=True)
    switched_by = models.CharField(max_length=150, blank=True, default="")
    switched_at = models.DateTimeField(null=True)
    switched_why = models.TextField(blank=True, default="")
    saved_at = models.DateTimeField()
    next_due = models.DateTimeField(null=True, db_index=True)
    next_audit = models.DateTimeField(null=True, db_index=True)
    after_seen = models.DateTimeField(null=True)


class JobVersion(models.Model):
    """A definition as it was saved once. Kept also when its job is dropped: by name."""

    job = models.CharField(max_length=63)
    number = models.IntegerField()
    definition = QuickJSONField()
    saved_at = models.DateTimeField()
    saved_by = models.CharField(max_length=150)

    class Meta:
        unique_together = [("job", "number")]
