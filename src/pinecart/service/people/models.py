from __future__ import annotations

from django.conf import settings
from django.db import models


class Grant(models.Model):
    """A right of a person, on everything (no label) or on what has the label."""

    person = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="grants"
    )
    right = models.CharField(max_length=20)
    label = models.CharField(max_length=63, blank=True, default="")

    class Meta:
        unique_together = [("person", "right", "label")]


class Failures(models.Model):
    """Sign-ins that failed in a row, of a person's name or from an address."""

    whose = models.CharField(max_length=200, unique=True)
    count = models.IntegerField(default=0)
    last_at = models.DateTimeField(db_index=True)


class EntryCode(models.Model):
    """With which a person sets a password, the first time or again.

    Told once: only its digest is kept.
    """

    person = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="entry_codes"
    )
    digest = models.CharField(max_length=64, unique=True)
    made_at = models.DateTimeField()
    expires_at = models.DateTimeField()
    used_at = models.DateTimeField(null=True)


class SignIn(models.Model):
    """A session of a browser, from signing in to its end.

    agent: what the browser says that it is.
    """

    person = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="sign_ins"
    )
    begun_at = models.DateTimeField()
    seen_at = models.DateTimeField()
    ended_at = models.DateTimeField(null=True)
    address = models.CharField(max_length=60)
    agent = models.CharField(max_length=200)


class SecondFactor(models.Model):
    """A person's one-time codes by time (RFC 6238).

    secret: sealed.   confirmed_at: from when on it is asked for.   last_step: of the last code that
    was taken, so that none is taken twice.
    """

    person = models.OneToOneField(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="second_factor"
    )
    secret = models.BinaryField()
    confirmed_at = models.DateTimeField(null=True)
    last_step = models.IntegerField(default=0)


class Token(models.Model):
    """A program's bearer token: only its digest is kept.

    most: it carries no right beyond this one; empty: all of its person's.   parent: the token that
    made it.   starts: the job that it may start, and nothing else; empty: it is no such token.
    reads_calendar: it may read the schedule as a calendar, and nothing else.
    """

    person = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="tokens"
    )
    name = models.CharField(max_length=63)
    digest = models.CharField(max_length=64, unique=True)
    made_at = models.DateTimeField()
    expires_at = models.DateTimeField(null=True)
    revoked_at = models.DateTimeField(null=True)
    used_at = models.DateTimeField(null=True)
    most = models.CharField(max_length=20, blank=True, default="")
    starts = models.CharField(max_length=63, blank=True, default="")
    reads_calendar = models.BooleanField(default=False)
    parent = models.ForeignKey("self", on_delete=models.CASCADE, null=True, related_name="children")
