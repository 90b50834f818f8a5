from __future__ import annotations

from django.db import models


class Line(models.Model):
    """One thing that somebody did. Its id is its number, from 1, without a gap.

    address: from where.   digest: of this line and all before it (core.trail_chain).
    """

    at = models.DateTimeField()
    who = models.CharField(max_length=150)
    address = models.CharField(max_length=60, default="")
    action = models.CharField(max_length=40)
    subject = models.CharField(max_length=200)
    facts = models.JSONField(default=dict)
    digest = models.CharField(max_length=64)


class Head(models.Model):
    """How far the trail had come at a time, signed."""

    at = models.DateTimeField()
    count = models.BigIntegerField()
    digest = models.CharField(max_length=64)
    signature = models.CharField(max_length=100)
