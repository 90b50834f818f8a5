"""What Today tells, however much else there is."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from pinecart.core.option_spec import CARRY
from tests.service.test_keeping import run_of


def test_a_copy_that_waits_for_a_person_is_told_until_somebody_answers(services):
    from pinecart.service.config.rights import SYSTEM
    from pinecart.service.runs.models import Run
    from pinecart.service.today.selectors import today

    now = datetime.now(UTC)
    held = run_of("by-hand", now - timedelta(days=9))
    held.job, held.state, held.outcome, held.ended_at = CARRY, "held", "", None
    held.save()
    for n in range(60):
        run_of(f"nightly-{n}", now - timedelta(minutes=n))
    Run.objects.update(summed=[])
    told = today(SYSTEM)
    assert [run["id"] for run in told["needed"]] == [held.pk]
    assert told["sentence"].endswith("1 copy or removal needs a look.")
    assert len(told["recent"]) == 20
