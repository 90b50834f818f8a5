"""What people are told when nobody can be reached for a while, by a clock of our own."""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta

import pytest

BEGAN = datetime(2026, 3, 2, 5, 30, tzinfo=UTC)


class Receiver:
    """Down for a while; of some calls the answer gets lost on its way back."""

    def __init__(self, down_until, seed):
        self.down_until, self.lottery = down_until, random.Random(seed)
        self.got, self.calls = [], []

    def take(self, rule, happenings, now):
        from pinecart.service.notices.sending import NotSent

        self.calls.append(now)
        if now < self.down_until:
            raise NotSent("It can't be reached.")
        self.got += [one.id for one in happenings]
        if self.lottery.random() < 0.2:
            raise NotSent("Its answer was lost.")


@pytest.mark.parametrize("seed", range(4))
def test_after_ten_minutes_without_a_receiver_all_is_told_once_more_in_order(services, seed):
    from pinecart.core.happenings import Kind
    from pinecart.service.config.rights import SYSTEM
    from pinecart.service.notices.models import Delivery, HappeningRow, NoticeRule
    from pinecart.service.notices.services import add_rule, happened
    from pinecart.service.notifier.notifier import Notifier

    for table in (Delivery, HappeningRow, NoticeRule):
        table.objects.all().delete()
    kinds = ["failed", "problems", "late"]
    rule = {"way": "web", "to": ["http://127.0.0.1:1/hook"], "kinds": kinds, "job": "dawn"}
    add_rule(SYSTEM, rule | {"label": "", "is_on": True})
    lottery = random.Random(seed)
    receiver = Receiver(BEGAN + timedelta(minutes=10), seed)
    notifier, expected = Notifier(receiver.take), []
    for second in range(0, 3600, 5):
        now = BEGAN + timedelta(seconds=second)
        if second < 1200 and lottery.random() < 0.15:
            job = lottery.choice(["dawn", "dawn", "dusk"])
            kind = lottery.choice([Kind.FAILED, Kind.PROBLEMS, Kind.DONE])
            name = f"run-{seed}-{second}"
            for _ in range(lottery.choice([1, 2])):  # seen twice: it happened once
                happened(name, kind, job, [], now, "It said why.", "/runs/1")
            if job == "dawn" and kind is not Kind.DONE:
                expected.append(name)
        notifier.turn(now)
    assert list(dict.fromkeys(receiver.got)) == expected, "each, and each first time in its order"
    assert Delivery.objects.filter(sent_at=None).count() == 0
    while_down = [n for n, at in enumerate(receiver.calls) if at < receiver.down_until]
    assert len(while_down) < 40, "with growing waits, and many at once"


def test_the_trails_signed_head_is_told_once_a_day(services):
    from pinecart.service.config.rights import SYSTEM
    from pinecart.service.notices.models import Delivery, HappeningRow, NoticeRule
    from pinecart.service.notices.services import add_rule
    from pinecart.service.notifier.notifier import Notifier
    from pinecart.service.trail.selectors import head_now
    from pinecart.service.trail.services import sign_head

    for table in (Delivery, HappeningRow, NoticeRule):
        table.objects.all().delete()
    whom = {"way": "mail", "to": ["wren@larkfell.example"], "kinds": ["daily"]}
    add_rule(SYSTEM, whom | {"job": "", "label": "", "is_on": True})
    told = []
    notifier = Notifier(lambda rule, happenings, now: told.extend(happenings))
    head = head_now()
    sign_head(BEGAN)
    for hour in range(0, 30):
        for minute in (0, 1):
            notifier.turn(BEGAN + timedelta(hours=hour, minutes=minute))
    assert [one.id for one in told] == ["day-2026-03-02", "day-2026-03-03"]
    assert f"{head.lines}:{head.digest}" in told[0].words
