"""What people are told when nobody can be reached for a while, by a clock of our own."""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta
from itertools import product

import pytest

from tests.repeats import first

AT_ONCE = {"label": "", "is_on": True, "quiet": "", "once_at": ""}
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


@pytest.mark.parametrize("seed", first(1, range(4)))
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
    add_rule(SYSTEM, rule | AT_ONCE)
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


def test_the_day_and_the_trails_signed_head_are_told_once_a_day(services):
    from pinecart.service.config.rights import SYSTEM
    from pinecart.service.notices.models import Delivery, HappeningRow, NoticeRule
    from pinecart.service.notices.services import add_rule
    from pinecart.service.notifier.notifier import Notifier
    from pinecart.service.trail.selectors import head_now
    from pinecart.service.trail.services import sign_head
    from tests.service.test_keeping import run_of

    for table in (Delivery, HappeningRow, NoticeRule):
        table.objects.all().delete()
    whom = {"way": "mail", "to": ["wren@larkfell.example"], "kinds": ["daily"]}
    add_rule(SYSTEM, whom | AT_ONCE | {"job": ""})
    run = run_of("dawn", BEGAN - timedelta(days=1))
    run.summed = summed(10)
    run.save()
    told = []
    notifier = Notifier(lambda rule, happenings, now: told.extend(happenings))
    head = head_now()
    sign_head(BEGAN)
    for hour in range(0, 30):
        for minute in (0, 1):
            notifier.turn(BEGAN + timedelta(hours=hour, minutes=minute))
    assert [one.id for one in told] == ["day-2026-03-02", "day-2026-03-03"]
    assert f"{head.lines}:{head.digest}" in told[0].words
    day = "On 2026-03-01 (UTC) 1 run ended: 1 clean; 10 files, 9.8 KiB carried."
    assert told[0].words.startswith(day)
    assert told[1].words.startswith("On 2026-03-02 (UTC) no run ended.")


def rule_for(kinds, **more):
    from pinecart.service.config.rights import SYSTEM
    from pinecart.service.notices.models import Delivery, HappeningRow, NoticeRule
    from pinecart.service.notices.services import add_rule

    for table in (Delivery, HappeningRow, NoticeRule):
        table.objects.all().delete()
    rule = {"way": "mail", "to": ["wren@larkfell.example"], "kinds": kinds, "job": ""}
    add_rule(SYSTEM, rule | AT_ONCE | more)


@pytest.mark.parametrize(
    ("when", "sent"),
    [
        ({"quiet": "22:00-06:00 Europe/London"}, ["06:00", "12:00", "21:40"] * 2),
        ({"once_at": "07:30 Europe/London"}, ["07:30", "07:30"]),
        ({"once_at": "05:00", "quiet": "22:00-06:00"}, ["06:00", "06:00"]),
    ],
    ids=["quiet hours", "once a day", "both"],
)
def test_nothing_is_sent_in_quiet_hours_and_a_days_worth_in_one_message(services, when, sent):
    from pinecart.core.happenings import Kind
    from pinecart.service.notices.services import happened
    from pinecart.service.notifier.notifier import Notifier

    rule_for(["failed"], **when)
    messages = []
    notifier = Notifier(lambda rule, happenings, now: messages.append((now, happenings)))
    began, names = datetime(2026, 3, 2, 22, 30, tzinfo=UTC), []  # London's clock is at UTC then
    for minute in range(0, 2 * 24 * 60, 10):
        now = began + timedelta(minutes=minute)
        if f"{now:%H:%M}" in ("23:00", "02:00", "11:50", "21:30"):
            names.append(f"run-{minute}")
            happened(names[-1], Kind.FAILED, "dawn", [], now, "It said why.", "/runs/1")
        notifier.turn(now)
    assert [f"{at:%H:%M}" for at, _ in messages] == sent
    told = [one.id for _, happenings in messages for one in happenings]
    assert told == names[: len(told)], "each once, in its order"
    assert len(told) == (len(names) if "once_at" not in when else 6), "what came later waits"


def test_a_run_unlike_those_before_it_is_told_once_and_stands_on_today(services):
    """But no copy by hand, each of which is about something else."""
    from pinecart.service.config.rights import SYSTEM
    from pinecart.service.jobs.models import JobRecord
    from pinecart.service.notifier.notifier import Notifier
    from pinecart.service.today.selectors import today
    from tests.service.test_keeping import definition, run_of

    now = datetime.now(UTC)
    plain = definition("dawn").as_mapping()
    JobRecord.objects.create(name="dawn", definition=plain, is_on=True, saved_at=now)
    rule_for(["unusual"])
    told = []
    notifier = Notifier(lambda rule, happenings, at: told.extend(happenings))
    for job, night in product(["carry", "dawn"], range(12, -1, -1)):
        at = now - timedelta(days=night)
        run = run_of(job, at)
        run.summed = summed(10 if night else 900)
        run.started_at = at - timedelta(minutes=5)
        run.save()
        notifier.turn(at)
    notifier.turn(now + timedelta(minutes=1))
    words = "It carried 900 files; its last 12 runs usually 10 files."
    assert [(one.id, one.words) for one in told] == [(f"run-{run.pk}-unusual", words)]
    assert [one["run"] for one in today(SYSTEM)["unusual"]] == [run.pk]


def summed(files):
    group = {"decision": "copy", "reason": "new", "done": True, "error": "", "proof": "sum"}
    return [{**group, "cleared": False, "folder": False, "n": files, "b": files * 1000}]
