from __future__ import annotations

from django.db import models

RULE = "notices.NoticeRule"
HAPPENING = "notices.HappeningRow"


class NoticeRule(models.Model):
    """Who is told of what. way: "mail", "web" or "marker".   to: addresses,
    the one that is called, or the place of an object that is written.
    kinds: what of (core.happenings.Kind).   job, label: only of it; empty: of all.   sealed: the
    secret that web calls are signed with.   quiet: hours in which nothing is sent
    (core.hours.Hours).   once_at: the time of a day at which all is sent in one message
    (core.hours.DayTime); empty: as it happens.
    """

    way = models.CharField(max_length=6)
    to = models.JSONField()
    kinds = models.JSONField()
    job = models.CharField(max_length=63, blank=True, default="")
    label = models.CharField(max_length=63, blank=True, default="")
    is_on = models.BooleanField(default=True)
    quiet = models.CharField(max_length=60, blank=True, default="")
    once_at = models.CharField(max_length=60, blank=True, default="")
    sealed = models.BinaryField(null=True)
    made_at = models.DateTimeField()


class HappeningRow(models.Model):
    """Something that people may be told of. name: its stable id.   over_at: of something that is
    awaited: it has come since.
    """

    name = models.CharField(max_length=120, unique=True)
    kind = models.CharField(max_length=20)
    job = models.CharField(max_length=63, db_index=True)
    labels = models.JSONField(default=list)
    run = models.IntegerField(null=True)
    at = models.DateTimeField(db_index=True)
    words = models.TextField()
    path = models.CharField(max_length=200)
    over_at = models.DateTimeField(null=True)


class Delivery(models.Model):
    """A happening on its way to those whom one rule names. message: why the last try failed."""

    rule = models.ForeignKey(RULE, on_delete=models.CASCADE, related_name="deliveries")
    happening = models.ForeignKey(HAPPENING, on_delete=models.CASCADE)
    tries = models.IntegerField(default=0)
    next_try = models.DateTimeField()
    sent_at = models.DateTimeField(null=True)
    given_up = models.BooleanField(default=False)
    message = models.TextField(blank=True, default="")

    class Meta:
        unique_together = [("rule", "happening")]
        indexes = [models.Index(fields=["sent_at", "next_try"], name="notices_due")]


class MailServer(models.Model):
    """One row: where e-mail is handed in (SMTP). security: "tls", "starttls" or "none"."""

    host = models.CharField(max_length=255)
    port = models.IntegerField()
    security = models.CharField(max_length=8)
    user = models.CharField(max_length=255, blank=True, default="")
    sealed = models.BinaryField(null=True)
    sender = models.CharField(max_length=255)
    address = models.CharField(max_length=255, blank=True, default="")


class Seen(models.Model):
    """One row: up to which event of runs it was looked what people are told of."""

    event = models.BigIntegerField(default=0)
