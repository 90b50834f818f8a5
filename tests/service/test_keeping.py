"""What is recorded is cleared away once it has had its days: the state folder's size levels off,
and what an undo or a person still needs stays.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from tests.service.test_records import definition

NOW = datetime(2026, 3, 2, 5, 30, tzinfo=UTC)
DAY = timedelta(days=1)


@pytest.fixture
def keeper(services):
    from pinecart.service.keeping.keeper import Keeper
    from pinecart.service.settings.models import Setting

    Setting.objects.all().delete()
    Setting.objects.create(
        name="keep", value={"records": 10, "logs": 10, "previews": 3, "runs": 30, "notices": 10}
    )
    yield Keeper()
    Setting.objects.all().delete()


def run_of(job, at, *, kind="transfer", records=0, state=None):
    from pinecart.service.runs.models import RecordRow, Run, RunEvent

    run = Run.objects.create(
        kind=kind,
        job=job,
        definition=definition(job).as_mapping(),
        state="ended",
        outcome="clean",
        cause="test",
        queued_at=at,
        ended_at=at,
        summed=[{"decision": "copy", "n": records}],
    )
    RunEvent.objects.create(run=run, kind="state", payload={"state": "ended", "outcome": "clean"})
    RecordRow.objects.bulk_create(
        RecordRow(
            run=run,
            leg=0,
            key=b"posts/2026/%06d.flac" % n,
            decision="copy",
            reason="new",
            size=n,
            done=True,
            seconds=0.1,
            crc="AAAAAAAAAAA=",
            proof="server-verified",
            guarded=True,
            tries=1,
            error="",
            message="",
        )
        for n in range(records)
    )
    if state:
        state.run_file(run.pk, "log.jsonl").write_text("x" * 2000)
    return run


def clear(keeper, now):
    """Until nothing more is to be cleared on this day."""
    from pinecart.service.keeping.selectors import periods

    while keeper._step(now, periods()):
        pass
    keeper._clear_logs(now, periods().logs)


def folder_bytes(state):
    from django.db import connection

    with connection.cursor() as cursor:
        cursor.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    return sum(f.stat().st_size for f in state.root.rglob("*") if f.is_file())


def test_ninety_days_of_nightly_jobs_level_off(services, keeper, state):
    from django.db import transaction

    from pinecart.service.runs.models import RecordRow, Run

    sizes, empty = [], folder_bytes(state)
    for day in range(90):
        now = NOW + day * DAY
        with transaction.atomic():
            for job in range(8):
                run_of(f"job-{job}", now, records=10, state=state)
        clear(keeper, now + DAY / 2)
        sizes.append(folder_bytes(state) - empty)
    assert sizes[20] > 2 * sizes[2]
    assert max(sizes[45:]) < 1.1 * sizes[40]
    assert RecordRow.objects.count() == 8 * 10 * 10
    assert Run.objects.count() == 30 * 8
    assert len(list((state.root / "runs").iterdir())) == 10 * 8


def test_what_an_undo_still_needs_stays_and_the_totals_do(services, keeper):
    from pinecart.service.aside.models import AsideRow
    from pinecart.service.runs.models import RecordRow, Run

    old = run_of("dawn", NOW, records=3)
    apart = run_of("dawn", NOW, records=3)
    row = AsideRow.objects.create(
        run=apart, leg=0, side="target", key=b"a", at=b"x", size=1, was="", state="kept",
        store="office", until=NOW + 90 * DAY,
    )  # fmt: skip
    preview = run_of("dawn", NOW, kind="preview", records=3)
    young = run_of("dawn", NOW + 35 * DAY, records=3)
    clear(keeper, NOW + 20 * DAY)
    left = set(RecordRow.objects.values_list("run_id", flat=True))
    assert left == {apart.pk, young.pk}
    assert not Run.objects.filter(pk=preview.pk).exists()
    old.refresh_from_db()
    assert old.cleared_at and old.summed == [{"decision": "copy", "n": 3}]
    clear(keeper, NOW + 40 * DAY)
    assert set(Run.objects.values_list("pk", flat=True)) == {apart.pk, young.pk}
    row.state = "back"
    row.save()
    clear(keeper, NOW + 40 * DAY)
    assert set(Run.objects.values_list("pk", flat=True)) == {young.pk}


def test_a_job_may_keep_its_records_longer_or_shorter(services, keeper):
    from pinecart.service.jobs.models import JobRecord
    from pinecart.service.runs.models import RecordRow

    for job, days in (("long", 60), ("short", 2), ("always", 0)):
        told = definition(job, keep_records=days).as_mapping()
        JobRecord.objects.create(name=job, definition=told, saved_at=NOW)
        run_of(job, NOW, records=2)
    run_of("usual", NOW, records=2)

    def left():
        return sorted(set(RecordRow.objects.values_list("run__job", flat=True)))

    clear(keeper, NOW + 5 * DAY)
    assert left() == ["always", "long", "usual"]
    clear(keeper, NOW + 11 * DAY)
    assert left() == ["always", "long"]
    clear(keeper, NOW + 61 * DAY)
    assert left() == ["always"]


def test_room_is_told_by_what_takes_it(services, state):
    from pinecart.service.keeping.selectors import room_taken

    run_of("dawn", NOW, records=2000, state=state)
    found = {row["what"]: row for row in room_taken()}
    assert found["What was done to each file"]["bytes"] > 200_000
    assert found["What was done to each file"]["days"] == 90
    assert found["Logs of runs"]["bytes"] >= 2000
    assert found["The trail"]["days"] is None
