"""The clock: starts what is due, once, also after the service was off; tells why it did not."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from datetime import datetime

from django.db import transaction

from pinecart.core.definition import Definition
from pinecart.core.errors import Invalid
from pinecart.core.part import ALL, Part
from pinecart.core.triggers import AfterTrigger
from pinecart.service.clock.placed import placed_part
from pinecart.service.config.refusals import StateConflict
from pinecart.service.config.rights import SYSTEM
from pinecart.service.jobs.selectors import (
    audits_due,
    definition_of,
    jobs_after_others,
    jobs_due,
)
from pinecart.service.jobs.services.due import (
    audit_after,
    due_anew,
    due_following,
    set_after_seen,
    set_next_audit,
    set_next_due,
    starts_of,
)
from pinecart.service.keeping.keeper import Keeper
from pinecart.service.ledger.services import clear_forgotten
from pinecart.service.runs.selectors import ended_since, runs_alive
from pinecart.service.runs.services.holds import end_overdue_holds
from pinecart.service.runs.services.life_cycle import (
    new_audit,
    record_skipped,
    start_due_clearing,
    start_run,
)
from pinecart.service.settings.selectors import restored_of
from pinecart.service.trail.services import note, sign_head

log = logging.getLogger("pinecart.service")
MISSED_S = 120.0  # a start that is later than this was missed: the service was off
JUMP_S = 120.0  # a clock that is set by more; less is how clocks are kept right


class Clock:
    """elapsed_s: a clock that nobody sets, which goes on while the machine sleeps."""

    def __init__(
        self, elapsed_s: Callable[[], float] = lambda: time.clock_gettime(time.CLOCK_BOOTTIME)
    ) -> None:
        """elapsed_s: seconds that have passed, also while the machine slept, so that a clock that
        was put forward or back is noticed.
        """
        self._elapsed_s = elapsed_s
        self._keeper = Keeper()
        self._is_standing = False  # since it was restored, and nobody has said yet that it goes on
        self._last: tuple[datetime, float] | None = None

    def _clock_was_set(self, now: datetime) -> None:
        """Due times were worked out by the clock as it was: by another one they are worked out
        anew. At the start as well, for whoever put the clock right while nothing ran.
        """
        elapsed_s = self._elapsed_s()
        if self._last:
            jump_s = (now - self._last[0]).total_seconds() - (elapsed_s - self._last[1])
        else:
            jump_s = 0.0
        if self._last is None or abs(jump_s) > JUMP_S:
            moved = due_anew(now, all_of_them=self._last is not None)
            if self._last is not None:
                log.warning(
                    "The machine's clock was set by %.0f s: %d due times were worked out anew.",
                    jump_s,
                    moved,
                )
                note(SYSTEM, "clock.set", "clock", seconds=round(jump_s), jobs=moved)
        self._last = (now, elapsed_s)

    def turn(self, now: datetime) -> None:
        """However often a job came due since the last turn, it gets one run."""
        self._clock_was_set(now)
        sign_head(now)
        if restored_of():
            self._is_standing = True
            return
        if self._is_standing:
            due_anew(now, all_of_them=True)
            self._is_standing = False
        end_overdue_holds(now)
        start_due_clearing(now)
        clear_forgotten(now)
        self._keeper.turn(now)
        for record in jobs_due(now):
            definition = definition_of(record)
            due = record.next_due
            assert due is not None
            starts = starts_of(definition, due, now)
            following = due_following(definition, starts, now)
            with transaction.atomic():
                set_next_due(record, following)
                for moment in starts:
                    self._start_due(definition, record.version, moment, now, among=len(starts))
        self._start_after_others(now)
        self._start_audits(now)

    def _start_audits(self, now: datetime) -> None:
        """However often one came due, it is made once; none while one is under way."""
        for record in audits_due(now):
            definition = definition_of(record)
            cause = f"schedule of audits, due {record.next_audit:%Y-%m-%d %H:%M} UTC"
            given = {"depth": definition["audit_depth"], "sample": definition["audit_sample"]}
            with transaction.atomic():
                set_next_audit(record, audit_after(definition, now))
                try:
                    start_run(
                        SYSTEM,
                        definition,
                        kind="audit",
                        cause=cause,
                        waits=True,
                        version=record.version,
                        audit=new_audit(given),
                    )
                except (Invalid, StateConflict) as exc:
                    log.warning("%s was not audited: %s", definition.job, exc.message)

    def _start_after_others(self, now: datetime) -> None:
        """However many runs of the other job ended since the last turn, one is started."""
        for record in jobs_after_others():
            definition = definition_of(record)
            trigger = definition.trigger
            assert isinstance(trigger, AfterTrigger)
            ended = ended_since(trigger.job, record.after_seen or now)
            if not ended:
                continue
            fitting = [run for run in ended if trigger.fits(run.outcome)]
            if trigger.placed and runs_alive(definition.job, "transfer"):
                continue  # its list must not get lost: it starts once that run is over
            part = placed_part(definition, fitting) if trigger.placed else ALL
            with transaction.atomic():
                set_after_seen(record, ended[-1].ended_at or now)
                if fitting and part is not None:
                    last = fitting[-1]
                    cause = f"run {last.pk} of {last.job} ended: {last.outcome}"
                    why = self._why_not(definition, 0.0)
                    self._start(definition, record.version, cause, now, now, why, part)

    def _start_due(
        self, definition: Definition, version: int, due: datetime, now: datetime, *, among: int
    ) -> None:
        """among: so many starts that are made at once."""
        late_s = (now - due).total_seconds()
        cause = f"schedule, due {due:%Y-%m-%d %H:%M} UTC"
        if late_s >= 60:
            minutes = late_s / 60
            cause += f", {minutes:.0f} min late"
        why = ""
        if among == 1:
            why = self._why_not(definition, late_s)
        self._start(definition, version, cause, due, now, why)

    def _start(
        self,
        definition: Definition,
        version: int,
        cause: str,
        due: datetime,
        now: datetime,
        why: str,
        part: Part = ALL,
    ) -> None:
        """Start what came due; or record why it was not, where there is a reason."""
        if why:
            record_skipped(definition, cause=cause, why=why, now=now)
            return
        alone = definition["overlap"] == "skip" and definition["catch_up"] != "each"
        try:
            start_run(
                SYSTEM,
                definition,
                kind="transfer",
                cause=cause,
                alone=alone,
                version=version,
                due=due,
                part=part,
            )
        except Invalid as exc:
            record_skipped(definition, cause=cause, why=exc.message, now=now)

    def _why_not(self, definition: Definition, late_s: float) -> str:
        if definition["catch_up"] == "skip" and late_s > MISSED_S:
            return "It came due while the service was off, and its job leaves out what was missed."
        if definition["catch_up"] == "each" and late_s > MISSED_S:
            return ""
        alive = runs_alive(definition.job, "transfer")
        if not alive or (definition["overlap"] == "wait" and len(alive) == 1):
            return ""
        number = alive[0].pk
        if definition["overlap"] == "wait":
            waiting = alive[-1].pk
            return f"It came due while run {number} was under way and run {waiting} waited already."
        return f"It came due while run {number} was still under way."

    def close(self) -> None:
        """Nothing is held."""
