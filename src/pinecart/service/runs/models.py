from __future__ import annotations

from django.db import models

RUN = "runs.Run"


class Instance(models.Model):
    """One row: the epoch of this database, so that an event id of another one is known to be foreign."""

    epoch = models.CharField(max_length=16)


class Run(models.Model):
    """One execution: a transfer, a preview or an audit. `epoch` grows with every process that takes it up."""

    kind = models.CharField(max_length=10)
    job = models.CharField(max_length=63, db_index=True)
    definition = models.JSONField()
    labels = models.JSONField(default=list)
    state = models.CharField(max_length=12, db_index=True)
    outcome = models.CharField(max_length=14, blank=True, default="")
    epoch = models.IntegerField(default=0)
    cause = models.CharField(max_length=200)
    queued_at = models.DateTimeField()
    started_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True, db_index=True)
    stop_wanted = models.BooleanField(default=False)
    counted = models.JSONField(default=list)
    far_side = models.JSONField(null=True)
    progress = models.JSONField(null=True)
    told_at = models.DateTimeField(null=True)
    message = models.TextField(blank=True, default="")
    code = models.CharField(max_length=60, blank=True, default="")


class RecordRow(models.Model):
    """What a run did to one object, or one finding of an audit."""

    run = models.ForeignKey(RUN, on_delete=models.CASCADE, related_name="records")
    leg = models.SmallIntegerField()
    key = models.BinaryField()
    decision = models.CharField(max_length=10)
    reason = models.CharField(max_length=20)
    size = models.BigIntegerField()
    done = models.BooleanField()
    seconds = models.FloatField()
    crc = models.CharField(max_length=12)
    proof = models.CharField(max_length=16)
    guarded = models.BooleanField()
    tries = models.SmallIntegerField()
    error = models.CharField(max_length=60)
    message = models.TextField()

    class Meta:
        unique_together = [("run", "leg", "key")]


class Scope(models.Model):
    """The ledger of one leg of a job between two places. Another place opens another scope."""

    job = models.CharField(max_length=63)
    identity = models.CharField(max_length=64)

    class Meta:
        unique_together = [("job", "identity")]


class LedgerRow(models.Model):
    """core.entries.Row, as it is kept."""

    scope = models.ForeignKey(Scope, on_delete=models.CASCADE)
    key = models.BinaryField()
    source = models.CharField(max_length=120)
    there = models.CharField(max_length=120)
    crc = models.CharField(max_length=12)
    racy = models.BooleanField()
    cleared = models.BooleanField()
    run = models.BigIntegerField()

    class Meta:
        unique_together = [("scope", "key")]


class RunEvent(models.Model):
    """Append-only: what streams tell. kind: "state" or "progress"."""

    run = models.ForeignKey(RUN, on_delete=models.CASCADE, related_name="events")
    kind = models.CharField(max_length=10)
    payload = models.JSONField()
