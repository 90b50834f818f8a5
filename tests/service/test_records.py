"""What runs write down: sums that grow with the records, transactions that end soon, a database
that somebody else holds.
"""

from __future__ import annotations

import random
import sqlite3
import threading
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta

import pytest

from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import SignInRefused
from pinecart.runner.records import Record, RecordsLost
from pinecart.runner.run import Ending

NOW = datetime(2026, 3, 2, 5, 30, tzinfo=UTC)


def definition(job="dawn", **more):
    return read_definition(
        {"job": job, "legs": [{"from": "pine://posts/", "to": f"pine://office/{job}/"}], **more}
    )


def working(services, job="dawn"):
    from pinecart.service.config.rights import SYSTEM

    services.start_run(SYSTEM, definition(job), kind="transfer", cause="test")
    run = services.claim_next(now=NOW, limit=9)
    from pinecart.service.ledger.services import open_scope

    scope, _ = open_scope(job, "there")
    return run, {0: scope}


def summed_anew(run):
    from django.db.models import Count, Sum

    from pinecart.core.totals import GROUPED_BY
    from pinecart.service.runs.models import RecordRow

    groups = (
        RecordRow.objects.filter(run_id=run)
        .values(*GROUPED_BY)
        .annotate(n=Count("id"), b=Sum("size"))
    )
    return {tuple(g[f] for f in GROUPED_BY): (g["n"], g["b"]) for g in groups}


def summed_kept(run):
    from pinecart.core.totals import GROUPED_BY
    from pinecart.service.runs.models import Run

    return {
        tuple(g[f] for f in GROUPED_BY): (g["n"], g["b"]) for g in Run.objects.get(pk=run).summed
    }


@pytest.mark.parametrize("seed", range(5))
def test_a_runs_sums_are_those_of_its_records_whatever_comes(services, seed):
    chance = random.Random(seed)
    run, scopes = working(services)
    for _ in range(12):
        batch = [
            Record(
                0,
                b"%d" % chance.randrange(40),
                chance.choice(["copy", "replace", "clear", "remove"]),
                "new",
                chance.randrange(1000),
                done=chance.random() < 0.8,
                error=chance.choice(["", "", "store.busy"]),
                message="why",
                proof=chance.choice(["", "read-back"]),
            )
            for _ in range(chance.randrange(1, 30))
        ]
        services.save_batch(run.pk, run.epoch, scopes, batch, remember=True)
        assert summed_kept(run.pk) == summed_anew(run.pk)
    services.forget_undone(run.pk, run.epoch)
    assert summed_kept(run.pk) == summed_anew(run.pk) and not any(
        not group[2] for group in summed_kept(run.pk)
    )


def test_ending_a_run_asks_its_records_nothing(services, django_queries):
    run, scopes = working(services)
    batch = [Record(0, b"%04d" % n, "copy", "new", 1) for n in range(500)]
    services.save_batch(run.pk, run.epoch, scopes, batch, remember=True)
    with django_queries() as asked:
        services.end_run(run.pk, run.epoch, Ending([], None, 500, False))
    assert not [q for q in asked if "runs_recordrow" in q]


@pytest.fixture
def django_queries():
    import contextlib

    from django.db import connection
    from django.test.utils import CaptureQueriesContext

    @contextlib.contextmanager
    def asked():
        found = []
        with CaptureQueriesContext(connection) as context:
            yield found
        found += [q["sql"] for q in context.captured_queries]

    return asked


def test_one_progress_event_a_run_is_enough(services):
    from pinecart.service.runs.models import RunEvent

    run, _ = working(services)
    for n in range(50):
        services.tell_progress(run.pk, run.epoch, {"n": n})
    (left,) = RunEvent.objects.filter(kind="progress")
    assert left.payload == {"n": 49}


def test_whoever_meets_a_lock_gets_its_turn_soon_after(state, services):
    """One of ours writes again and again, with no pause: another comes in between."""
    from django.db import connection, transaction

    from pinecart.service.runs.models import Run

    stop, writes = threading.Event(), Counter()

    def greedy():
        while not stop.is_set():
            with transaction.atomic():
                Run.objects.update(told_at=NOW)
                stop.wait(0.05)
            writes["theirs"] += 1
        connection.close()

    thread = threading.Thread(target=greedy)
    run, _ = working(services)
    thread.start()
    try:
        for n in range(20):
            services.tell_progress(run.pk, run.epoch, {"n": n})
    finally:
        stop.set()
        thread.join()
    assert writes["theirs"] < 200  # mostly one or two of theirs for each of the twenty


def test_who_opens_the_database_waits_while_somebody_else_has_it_alone(services):
    from django.conf import settings
    from django.db import connection

    def held_for_a_while():
        alone = sqlite3.connect(settings.DATABASES["default"]["NAME"])
        alone.execute("PRAGMA locking_mode=EXCLUSIVE")
        alone.execute("BEGIN EXCLUSIVE")
        is_held.set()
        is_given_back.wait(0.5)
        is_given_back.set()
        alone.close()

    is_held, is_given_back = threading.Event(), threading.Event()
    connection.close()
    other = threading.Thread(target=held_for_a_while)
    other.start()
    assert is_held.wait(30)
    connection.ensure_connection()
    assert is_given_back.is_set()
    other.join()


def test_who_writes_while_its_own_listing_is_open_is_told_at_once(services):
    """Waiting would be in vain, and would keep everybody else from writing."""
    from django.db import connection
    from django.db.utils import OperationalError

    from pinecart.service.config.database.base import WAIT_S
    from pinecart.service.runs.models import RunEvent

    run, _ = working(services)
    for n in range(300):
        RunEvent.objects.create(run_id=run.pk, kind="x", payload={"n": n})
    listing = iter(RunEvent.objects.order_by("id").iterator(2))
    next(listing)

    def write_meanwhile():
        RunEvent.objects.create(run_id=run.pk, kind="x", payload={})
        connection.close()

    other = threading.Thread(target=write_meanwhile)
    other.start()
    other.join()
    begun = time.monotonic()
    with pytest.raises(OperationalError, match="locked"):
        RunEvent.objects.create(run_id=run.pk, kind="x", payload={})
    assert time.monotonic() - begun < WAIT_S
    list(listing)
    RunEvent.objects.create(run_id=run.pk, kind="x", payload={})


async def test_a_run_writes_again_until_the_database_lets_it(services):
    from django.db.utils import OperationalError

    from pinecart.service.worker.database_threads import Patience, patiently

    left = [OperationalError("database is locked"), OperationalError("database or disk is full")]

    def write():
        if left:
            raise left.pop()
        return "written"

    def never():
        raise OperationalError("database or disk is full")

    with ThreadPoolExecutor(1) as thread:
        assert await patiently(thread, write, Patience(again_s=0.01)) == "written"
        with pytest.raises(RecordsLost, match="full"):
            await patiently(thread, never, Patience(again_s=0.01, for_s=0.05))


def test_a_locked_database_is_no_fault_of_the_callers(state):
    from django.db.utils import OperationalError

    from pinecart.service.config.problems import as_problem

    answer = as_problem(OperationalError("database is locked"), {})
    assert (answer.status_code, answer.data["code"], answer["Retry-After"]) == (
        503,
        "records.unavailable",
        "5",
    )


def test_low_disk_is_waited_for_and_gone_on_after(services):
    from pinecart.service.runs.models import Run

    run, _ = working(services)
    services.hold_back(1 << 20, all_pause=True)
    assert Run.objects.get(pk=run.pk).pause_wanted
    services.end_run(run.pk, run.epoch, Ending([], None, 0, True))
    paused = Run.objects.get(pk=run.pk)
    assert paused.state == "paused" and "1.0 MiB" in paused.message
    services.go_on_after_low_disk()
    assert Run.objects.get(pk=run.pk).state == "queued"
    services.hold_back(1 << 20, all_pause=False)
    assert "Waits for disk" in Run.objects.get(pk=run.pk).message
    services.go_on_after_low_disk()
    assert Run.objects.get(pk=run.pk).message == ""


def test_a_person_who_paused_a_run_is_who_lets_it_go_on(services):
    from pinecart.service.config.rights import SYSTEM
    from pinecart.service.runs.models import Run

    run, _ = working(services)
    services.pause_run(SYSTEM, run.pk)
    services.hold_back(1 << 20, all_pause=True)
    services.end_run(run.pk, run.epoch, Ending([], None, 0, True))
    services.go_on_after_low_disk()
    assert Run.objects.get(pk=run.pk).state == "paused"


def test_one_yes_lets_all_runs_of_a_repaired_store_go_on(services):
    from django.utils import timezone

    from pinecart.service.config.rights import SYSTEM, Actor
    from pinecart.service.runs.models import Run
    from pinecart.service.stores.models import StoreRecord

    StoreRecord.objects.get_or_create(name="office", kind="s3", made_at=timezone.now())
    for job in ("one", "two"):
        run, _ = working(services, job)
        services.end_run(
            run.pk,
            run.epoch,
            Ending([], None, 0, False, SignInRefused("no", code="store.key-unknown")),
        )
    assert set(Run.objects.values_list("state", flat=True)) == {"held"}
    nobody = Actor("nobody", (("look", ""),))
    with pytest.raises(Exception, match="may not do"):
        services.release_refused(nobody, "office")
    assert len(services.release_refused(SYSTEM, "office")) == 2
    assert set(Run.objects.values_list("state", flat=True)) == {"queued"}


def job(name, next_due):
    from pinecart.service.jobs.models import JobRecord

    made = definition(name, schedule={"cron": "30 5 * * *", "zone": "UTC"}).as_mapping()
    return JobRecord.objects.create(name=name, definition=made, saved_at=NOW, next_due=next_due)


def test_due_times_are_worked_out_anew_when_the_clock_is_set(services):
    from pinecart.service.clock.scheduler import Clock
    from pinecart.service.jobs.models import JobRecord
    from pinecart.service.runs.models import Run

    far = NOW + timedelta(days=900)
    job("late", far)  # worked out while the clock was years ahead
    elapsed = [0.0]
    clock = Clock(lambda: elapsed[0])
    clock.turn(NOW)
    assert JobRecord.objects.get(name="late").next_due == NOW + timedelta(days=1)
    elapsed[0] = 1.0
    clock.turn(NOW + timedelta(days=3))  # the clock was set; no three days have passed
    assert (
        JobRecord.objects.get(name="late").next_due == NOW + timedelta(days=4)
        and not Run.objects.exists()
    )
    elapsed[0] = 1.0 + 2 * 86400
    clock.turn(
        NOW + timedelta(days=5)
    )  # two days have passed, and the machine slept: it is caught up once
    assert Run.objects.count() == 1


def timed(name, next_due, **more):
    from pinecart.service.jobs.models import JobRecord

    made = definition(name, schedule={"cron": "* * * * *", "zone": "UTC"}, **more)
    return JobRecord.objects.create(
        name=name, definition=made.as_mapping(), saved_at=NOW, next_due=next_due
    )


def causes(job):
    from pinecart.service.runs.models import Run

    runs = Run.objects.filter(job=job).order_by("id")
    return [(run.cause[:33], run.outcome or run.state) for run in runs]


def test_after_an_outage_the_missed_are_one_none_or_each(services):
    from pinecart.service.clock.scheduler import Clock
    from pinecart.service.jobs.models import JobRecord

    for how in ("one", "skip", "each"):
        timed(f"after-{how}", NOW - timedelta(minutes=3), catch_up=how)
    Clock().turn(NOW)
    assert causes("after-one") == [("schedule, due 2026-03-02 05:27 UT", "queued")]
    assert causes("after-skip") == [("schedule, due 2026-03-02 05:27 UT", "skipped")]
    told = [(cause[25:30], word) for cause, word in causes("after-each")]
    assert told == [(f"05:{minute}", "queued") for minute in range(27, 31)]
    after = JobRecord.objects.values_list("next_due", flat=True)
    assert set(after) == {NOW + timedelta(minutes=1)}


def test_after_a_long_outage_no_missed_start_is_forgotten(services):
    from pinecart.service.clock.scheduler import Clock

    timed("long-off", NOW - timedelta(minutes=149), catch_up="each")
    clock = Clock()
    for turn in range(3):
        clock.turn(NOW)
        assert len(causes("long-off")) == min(60 * (turn + 1), 150)
    assert {word for _, word in causes("long-off")} == {"queued"}


def test_a_start_that_overlaps_is_left_out_or_waits_and_only_one_waits(services):
    from pinecart.service.clock.scheduler import Clock

    for how in ("skip", "wait"):
        timed(f"overlap-{how}", NOW, overlap=how)
    clock = Clock()
    for minute in range(3):
        clock.turn(NOW + timedelta(minutes=minute))
    told = [[word for _, word in causes(f"overlap-{how}")] for how in ("skip", "wait")]
    assert told == [["queued", "skipped", "skipped"], ["queued", "queued", "skipped"]]


def test_a_job_after_another_starts_once_for_all_that_ended_as_it_wants(services):
    from pinecart.service.clock.scheduler import Clock
    from pinecart.service.jobs.models import JobRecord
    from pinecart.service.runs.models import Run

    for how in ("", "clean", "bad"):
        after = {"kind": "after", "after": "dawn", "when": how}
        made = definition(f"after-{how or 'any'}", schedule=after)
        JobRecord.objects.create(
            name=made.job, definition=made.as_mapping(), saved_at=NOW, after_seen=NOW
        )
    clock = Clock()

    def ended(minute, outcome):
        moment = NOW + timedelta(minutes=minute)
        more = {"definition": definition().as_mapping(), "cause": "x", "queued_at": moment}
        Run.objects.create(
            kind="transfer", job="dawn", state="ended", outcome=outcome, ended_at=moment, **more
        )
        clock.turn(moment)

    ended(-1, "clean")  # before they were saved
    assert not Run.objects.filter(job__startswith="after-").exists()
    ended(1, "stopped")
    ended(2, "problems")
    assert [j for j in ("any", "clean", "bad") if causes(f"after-{j}")] == ["any", "bad"]
    Run.objects.filter(job__startswith="after-").update(state="ended", outcome="clean")
    clock.turn(NOW + timedelta(minutes=3))
    assert len(causes("after-any")) == 1
    ended(4, "clean")
    assert [len(causes(f"after-{j}")) for j in ("any", "clean", "bad")] == [2, 1, 1]
    assert Run.objects.filter(job="after-clean").get().cause.endswith("of dawn ended: clean")


def test_a_spread_is_a_jobs_own_and_always_the_same(services):
    from pinecart.service.jobs.services.due import due_after

    hourly = {"cron": "0 * * * *", "zone": "UTC"}
    found = set()
    for n in range(30):
        made = definition(f"spread-{n}", schedule=hourly, spread="10 minutes")
        due = due_after(made, NOW)
        later = due - due.replace(minute=0, second=0)
        assert timedelta(0) <= later < timedelta(minutes=10)
        assert due_after(made, due, due) == due + timedelta(hours=1)
        found.add(later)
    assert len(found) > 20


def test_outside_its_hours_a_run_waits_pauses_and_goes_on(services):
    from pinecart.service.config.rights import SYSTEM
    from pinecart.service.runs.models import Run

    night = NOW.replace(hour=23)
    made = definition("nightly", hours="22:00-06:00")
    run = services.start_run(SYSTEM, made, kind="transfer", cause="test")
    assert services.claim_next(now=NOW.replace(hour=12), limit=9) is None
    assert Run.objects.get().message == "Waits for its allowed hours, 22:00-06:00."
    assert services.claim_next(now=night, limit=9).pk == run.pk
    services.keep_hours(night)
    assert not Run.objects.get().pause_wanted
    services.keep_hours(NOW.replace(hour=7))
    assert (Run.objects.get().pause_wanted, Run.objects.get().code) == (True, "run.out-of-hours")
    Run.objects.update(state="paused")
    services.keep_hours(NOW.replace(hour=8))
    assert Run.objects.get().state == "paused"
    services.keep_hours(night)
    assert Run.objects.get().state == "queued"


def test_what_dropped_jobs_remembered_goes_some_at_a_time_after_its_days(services):
    from django.utils import timezone

    from pinecart.core.entries import Row
    from pinecart.service.ledger.models import LedgerRow, Scope
    from pinecart.service.ledger.selectors import scope_known, scopes_of_past

    run, scopes = working(services)
    services.write_rows([(scopes[0], Row(b"%04d" % n, "a", "b")) for n in range(1500)])
    services.end_run(run.pk, run.epoch, Ending([], None, 0, False))
    services.forget_job("dawn")
    assert scope_known("dawn", "there") == 0 and scopes_of_past("dawn", "there") == [scopes[0]]
    services.clear_forgotten(timezone.now())
    assert LedgerRow.objects.count() == 1500
    later = timezone.now() + timedelta(days=15)
    left = []
    while Scope.objects.exists():
        services.clear_forgotten(later)
        left.append(LedgerRow.objects.count())
    assert left == [500, 0, 0]


def test_a_new_key_leaves_the_proxys_password_and_the_other_way_round(services):
    from pinecart.service.config.rights import SYSTEM
    from pinecart.service.stores.models import StoreRecord
    from pinecart.service.stores.selectors import secret_of
    from pinecart.service.stores.services.registering import add_store, change_store

    def now():
        return secret_of(StoreRecord.objects.get(name="kept"))

    at = {"endpoint": "http://127.0.0.1:9", "proxy": "http://127.0.0.1:9"}
    form = {
        "name": "kept",
        "kind": "s3",
        "key_id": "k",
        "secret": "s",
        "proxy_user": "u",
        "proxy_password": "p",
        **at,
    }
    add_store(SYSTEM, form)
    change_store(SYSTEM, "kept", {"secret": "s2", "untried": True})
    assert now() == {"secret": "s2", "proxy_user": "u", "proxy_password": "p"}
    change_store(SYSTEM, "kept", {"proxy_password": "p2", "untried": True})
    assert now() == {"secret": "s2", "proxy_user": "u", "proxy_password": "p2"}
    change_store(SYSTEM, "kept", {"proxy": "http://127.0.0.1:8", "secret": "s3", "untried": True})
    assert now() == {"secret": "s3"}  # another proxy is told nothing
    StoreRecord.objects.filter(name="kept").delete()
