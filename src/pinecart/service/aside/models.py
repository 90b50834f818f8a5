from __future__ import annotations

from django.db import models

RUN = "runs.Run"


class AsideRow(models.Model):
    """core.entries.Aside, as it is kept. state: "meant" (journalled), "kept", "back" or "gone"."""

    run = models.ForeignKey(RUN, on_delete=models.PROTECT, related_name="asides")
    leg = models.SmallIntegerField()
    side = models.CharField(max_length=6)
    key = models.BinaryField()
    at = models.BinaryField()
    size = models.BigIntegerField()
    was = models.CharField(max_length=120)
    kept = models.CharField(max_length=120, default="")
    version = models.CharField(max_length=300, default="")
    state = models.CharField(max_length=5, default="meant")
    store = models.CharField(max_length=63, db_index=True)
    until = models.DateTimeField(db_index=True)

    class Meta:
        db_table = "runs_asiderow"
        unique_together = [("run", "leg", "side", "key")]


class UploadRow(models.Model):
    """An upload in parts that a run began: its id once known, what it is of, and the server's date
    just before.

    again: begun more than once, so that one may be left at the store when another is done.
    clear_at: of a run that is over, when the clock tries (again) to have it taken away.
    """

    run = models.ForeignKey(RUN, on_delete=models.CASCADE, related_name="uploads")
    store = models.CharField(max_length=63)
    key = models.BinaryField()
    token = models.CharField(max_length=200)
    at = models.CharField(max_length=40)
    upload = models.CharField(max_length=300, default="")
    again = models.BooleanField(default=False)
    clear_at = models.DateTimeField(null=True)

    class Meta:
        db_table = "runs_uploadrow"
        unique_together = [("run", "store", "key")]
