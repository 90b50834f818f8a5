from __future__ import annotations

from django.db import models


class Scope(models.Model):
    """The ledger of one leg of a job between two places. Another place opens another scope.

    settled: digest of the selection with which a run was last carried out to its end.   dropped_at:
    its job was dropped; what it remembers serves the undoing of that job's runs for a while, and no
    job of that name.
    """

    job = models.CharField(max_length=100)
    identity = models.CharField(max_length=64)
    settled = models.CharField(max_length=16, default="")
    dropped_at = models.DateTimeField(null=True)

    class Meta:
        db_table = "runs_scope"
        unique_together = [("job", "identity")]


STORED = ("key", "source", "there", "state")  # core.entries.Stored, as columns of the ledger


class LedgerRow(models.Model):
    """core.entries.Row, as it is kept: in the order of the keys itself (a table WITHOUT ROWID),
    which is how it is read.

    state: what is seldom needed, in one text, since every further column of a row costs a tenth of
    reading it.
    """

    pk = models.CompositePrimaryKey("scope", "key")
    scope = models.ForeignKey(Scope, on_delete=models.CASCADE)
    key = models.BinaryField()
    source = models.CharField(max_length=120)
    there = models.CharField(max_length=120)
    state = models.CharField(max_length=40)

    class Meta:
        db_table = "runs_ledgerrow"
