from __future__ import annotations

from django.db import models

from pinecart.service.config.quick_json import QuickJSONField

RUN = "runs.Run"
# Kinds of run that write to no place, and are listed by themselves.
LOOKING = ("preview", "audit", "inventory")


class Instance(models.Model):
    """One row: the epoch of this database, so that an event id of another one is known to be
    foreign.

    folder: the id that the state folder has too.   sealed: something that only the folder's own key
    opens.
    """

    epoch = models.CharField(max_length=16)
    folder = models.CharField(max_length=32, default="")
    sealed = models.BinaryField(default=bytes)


class Run(models.Model):
    """One execution. kind: transfer, preview, audit, inventory, undo, expiry. `epoch` grows with
    every process that takes it up.

    stop_at_once: nor is what is in flight finished, where a stop is wanted.
    waits: begins only once no run of its job is under way (of a preview, or an audit).
    part: which of the job's files it is about (core.part); empty: all.   version: of the job.
    priority: of those that wait the highest goes first.
    of: the run that is undone, or whose set-aside is cleared away.   holds: what waits for a
    person; `released`: digests of what a person said yes to.   summed: its records in groups
    (core.totals.Sums), kept in the transaction of the records.   course: how it went along, as
    [seconds, bytes, objects].   cleared_at: when its records were cleared away.
    inventory: what lies there (core.inventory).   effort: what it took (runner.run.Effort).
    audit: how closely an audit looks (core.audit.AuditRules).
    """

    kind = models.CharField(max_length=10)
    job = models.CharField(max_length=63, db_index=True)
    definition = QuickJSONField()
    labels = QuickJSONField(default=list)
    state = models.CharField(max_length=12, db_index=True)
    outcome = models.CharField(max_length=14, blank=True, default="")
    epoch = models.IntegerField(default=0)
    cause = models.CharField(max_length=200)
    queued_at = models.DateTimeField()
    started_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True, db_index=True)
    of = models.IntegerField(null=True)
    waits = models.BooleanField(default=False)
    part = QuickJSONField(default=dict)
    version = models.IntegerField(null=True)
    priority = models.SmallIntegerField(default=0)
    stop_wanted = models.BooleanField(default=False)
    stop_at_once = models.BooleanField(default=False)
    pause_wanted = models.BooleanField(default=False)
    holds = QuickJSONField(default=list)
    released = QuickJSONField(default=list)
    rate = models.BigIntegerField(null=True)
    held_at = models.DateTimeField(null=True)
    counted = QuickJSONField(default=list)
    summed = QuickJSONField(default=list)
    course = QuickJSONField(default=list)
    effort = QuickJSONField(default=dict)
    far_side = QuickJSONField(null=True)
    progress = QuickJSONField(null=True)
    told_at = models.DateTimeField(null=True)
    message = models.TextField(blank=True, default="")
    code = models.CharField(max_length=60, blank=True, default="")
    cleared_at = models.DateTimeField(null=True)
    audit = QuickJSONField(default=dict)
    inventory = QuickJSONField(null=True)

    class Meta:
        indexes = [models.Index(fields=["kind", "job", "outcome"], name="runs_latest_of_job")]


class RecordRow(models.Model):
    """What a run did to one object, or one finding of an audit.

    seen: of a preview's decision, the digest of what it was made of (runner.promise).
    """

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
    cleared = models.BooleanField(default=False)
    folder = models.BooleanField(default=False)
    seen = models.BigIntegerField(null=True)

    class Meta:
        unique_together = [("run", "leg", "key")]


class RunTally(models.Model):
    """What runs with one outcome came to since the beginning. lasted: how long at most, in seconds
    → so many.
    """

    outcome = models.CharField(max_length=14, unique=True)
    runs = models.BigIntegerField(default=0)
    files = models.BigIntegerField(default=0)
    bytes = models.BigIntegerField(default=0)
    seconds = models.FloatField(default=0)
    lasted = QuickJSONField(default=dict)


class RunEvent(models.Model):
    """Append-only: what streams tell. kind: "state" or "progress"."""

    run = models.ForeignKey(RUN, on_delete=models.CASCADE, related_name="events")
    kind = models.CharField(max_length=10)
    payload = QuickJSONField()
