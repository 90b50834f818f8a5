from __future__ import annotations

from django.db import models


class Watch(models.Model):
    """Something that is watched for changes, and what came of it.

    job: whose trigger it is.   carry: the definition of a one-off transfer; null: it is the job's.
    until: of a watch that somebody keeps up: it ends then; null: as long as the trigger is there.
    by: who keeps it up.   known: digests of what was there when the last run was started
    (core.watching), in order, as of the places and rules with this digest.   how: in words, how it
    is looked.   noticed: so many changes at noticed_at.   growing: so many files are not settled
    yet.   waits: for what, in words.   message, code: why it could not look.
    """

    job = models.CharField(max_length=63)
    carry = models.JSONField(null=True)
    until = models.DateTimeField(null=True)
    by = models.CharField(max_length=150, blank=True, default="")
    known = models.BinaryField(default=b"")
    digest = models.CharField(max_length=64, blank=True, default="")
    how = models.TextField(blank=True, default="")
    looked_at = models.DateTimeField(null=True)
    noticed_at = models.DateTimeField(null=True)
    noticed = models.IntegerField(default=0)
    growing = models.IntegerField(default=0)
    waits = models.TextField(blank=True, default="")
    message = models.TextField(blank=True, default="")
    code = models.CharField(max_length=63, blank=True, default="")
    run = models.IntegerField(null=True)
    run_at = models.DateTimeField(null=True)
    runs = models.IntegerField(default=0)
