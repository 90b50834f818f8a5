from __future__ import annotations

from django.db import models

from pinecart.service.config.quick_json import QuickJSONField


class StoreRecord(models.Model):
    """A registered storage system. fields: what may be shown; sealed: its secret, encrypted.

    abilities: what was found out about it by behaviour (core.ports.Store.learned).   rests_until:
    it asked for a pause.
    """

    name = models.CharField(max_length=63, unique=True)
    kind = models.CharField(max_length=20)
    labels = QuickJSONField(default=list)
    fields = QuickJSONField(default=dict)
    sealed = models.BinaryField(null=True)
    secret_since = models.DateTimeField(null=True)
    made_at = models.DateTimeField()
    tried_at = models.DateTimeField(null=True)
    tried = QuickJSONField(null=True)
    abilities = QuickJSONField(default=dict)
    rests_until = models.DateTimeField(null=True)


class StoreUse(models.Model):
    """A job that uses a place in a store; kept by whoever saves the job, so that stores know
    nothing of jobs.

    labels: the job's, by which it is known who may see it.
    """

    store = models.ForeignKey(StoreRecord, on_delete=models.PROTECT, related_name="uses")
    job = models.CharField(max_length=63)
    path = models.TextField(default="")
    labels = QuickJSONField(default=list)

    class Meta:
        unique_together = [("store", "job", "path")]
