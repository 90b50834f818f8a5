"""The watcher: looks at the sources of jobs that start at changes, and starts them once what has
changed is settled. A burst becomes one run.
"""

from __future__ import annotations

import hashlib
import json
import logging
import threading
import time
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from django.db import connections

from pinecart.core.decide import Intent
from pinecart.core.definition import Definition
from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import Invalid, PinecartError
from pinecart.core.places import Location, key_text
from pinecart.core.triggers import ChangesTrigger
from pinecart.core.watching import Judged, Pending, SourceLook, judge, known_after
from pinecart.drivers import DRIVERS
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import StateConflict
from pinecart.service.jobs.selectors import definition_of, find_job, jobs_at_changes
from pinecart.service.runs.selectors import runs_alive
from pinecart.service.settings.selectors import as_it_runs, restored_of
from pinecart.service.stores.selectors import spec_of, store_named
from pinecart.service.triggers.facts import WatchFacts
from pinecart.service.triggers.selectors import watches_kept
from pinecart.service.triggers.services import (
    clear_watches,
    known_of,
    make_watches,
    start_watched,
    tell_watch,
)
from pinecart.service.watcher.looking import look_at_sources
from pinecart.service.watcher.notices import FolderNotices

log = logging.getLogger("pinecart.service")
LOOKS_AT_ONCE = 4
SHARE = 20  # a look that takes a second is made every 20 s at most
TELL_EVERY_S = 5.0
READ_JOBS_EVERY_S = 1.0
AFTER_NOTICE_S = 0.5
BUSY_S = 2.0


class Watcher:
    def __init__(self) -> None:
        self._looks = ThreadPoolExecutor(LOOKS_AT_ONCE)
        self._watched: dict[int, Watched] = {}
        self._read_at = 0.0
        self._stands_still = False

    def turn(self, now: datetime) -> None:
        """Jobs are read now and then; after a restore nothing is started until somebody has said
        that it goes on.
        """
        if time.monotonic() - self._read_at >= READ_JOBS_EVERY_S:
            self._read_at = time.monotonic()
            self._stands_still = bool(restored_of())
            if not self._stands_still:
                self._read_jobs(now)
        if self._stands_still:
            return
        for watched in self._watched.values():
            watched.turn(self._looks, now)

    def _read_jobs(self, now: datetime) -> None:
        """What is to be watched now, as it is defined now."""
        records = jobs_at_changes()
        names = [record.name for record in records]
        make_watches(names)
        clear_watches(names, now)
        asked = {watch.pk: watch for watch in watches_kept(now)}
        on = {record.name for record in records if record.is_on}
        asked = {pk: watch for pk, watch in asked.items() if watch.until or watch.job in on}
        for pk in self._watched.keys() - asked.keys():
            self._watched.pop(pk).close()
        for pk, watch in asked.items():
            plan = plan_of(watch)
            if plan is None:
                continue
            before = self._watched.get(pk)
            if before and before.plan.digest == plan.digest:
                before.plan = plan
                continue
            if before:
                before.close()
            self._watched[pk] = Watched(watch, plan)

    def close(self) -> None:
        for watched in self._watched.values():
            watched.close()
        self._looks.shutdown(wait=False, cancel_futures=True)


class WatchPlan(NamedTuple):
    """What is watched, and by which rules. digest: of what decides which files are known."""

    definition: Definition
    version: int | None
    trigger: ChangesTrigger
    digest: str


def plan_of(watch: WatchFacts) -> WatchPlan | None:
    """Of a watch that is kept up for a job without such a trigger the usual one's rules hold.

    None: its job was dropped meanwhile.
    """
    version = None
    if watch.carry:
        definition = read_definition(watch.carry)
    else:
        record = find_job(watch.job)
        if record is None:
            return None
        definition = definition_of(record)
        version = record.version
    trigger = definition.trigger
    if not isinstance(trigger, ChangesTrigger):
        trigger = ChangesTrigger()
    text = json.dumps([leg.as_mapping() for leg in definition.legs])
    digest = hashlib.sha256(text.encode()).hexdigest()
    return WatchPlan(definition, version, trigger, digest)


class Watched:
    """One watch, as long as its places and rules stay the same."""

    def __init__(self, watch: WatchFacts, plan: WatchPlan) -> None:
        """Begins with what an earlier process has seen of this source, so that a service that is
        begun anew starts nothing twice.
        """
        self.plan = plan
        self._watch = watch
        self._known = known_of(watch, plan.digest)
        self._pending = Pending()
        self._look: Future[SourceLook] | None = None
        self._look_at = 0.0  # when the next look is due, by the monotonic clock
        self._began = 0.0
        self._told: JsonObject = {}
        self._told_at = 0.0
        self._heard = threading.Event()
        self._notices: list[FolderNotices] = []
        self._listened_to: list[Location] = []

    def turn(self, looks: ThreadPoolExecutor, now: datetime) -> None:
        """One look at a time, in a thread. A notice of the system brings the next one forward, but
        not the ones of a busy folder without end.
        """
        if self._look is not None:
            if self._look.done():
                self._take(self._look, now)
                self._look = None
            return
        at = time.monotonic()
        if self._heard.is_set():
            self._heard.clear()
            self._look_at = min(self._look_at, max(at + AFTER_NOTICE_S, self._not_before()))
        if at >= self._look_at:
            self._began = at
            self._look = looks.submit(self._look_now)

    def _look_now(self) -> SourceLook:
        try:
            definition = as_it_runs(self.plan.definition)
            specs = _specs_of(definition)
            self._listen(definition, specs)
            return look_at_sources(definition, specs, self._known, self.plan.trigger.settled_s)
        finally:
            connections.close_all()

    def _listen(self, definition: Definition, specs: dict[str, JsonObject]) -> None:
        """Anew where a place is another one by now, or where a folder was not there before."""
        places = [leg.source for leg in definition.legs if leg.is_on]
        if places == self._listened_to and not any(n.is_absent for n in self._notices):
            return
        self.close()
        self._listened_to = places
        self._notices = _notices_of(places, specs, self._heard)

    def _not_before(self) -> float:
        """A look follows another in such a time that looking stays a small part of all."""
        return self._began + self._lasted_s * 4

    _lasted_s = 0.0

    def _take(self, look: Future[SourceLook], now: datetime) -> None:
        at = time.monotonic()
        self._lasted_s = at - self._began
        usual = at + max(self.plan.trigger.look_s, self._lasted_s * SHARE)
        try:
            seen = look.result()
        except PinecartError as exc:
            self._look_at = usual
            self._tell(now, {"message": exc.message, "code": exc.code, "waits": ""}, at_once=True)
            return
        except Exception as exc:
            log.exception("The source of %s could not be looked at.", self.plan.definition.job)
            self._look_at = usual
            message = f"A defect in Pine Cart kept it from looking ({type(exc).__name__})."
            self._tell(now, {"message": message, "code": "watch.defect"}, at_once=True)
            return
        removes = self.plan.definition.intent is Intent.MIRROR
        settled_s = self.plan.trigger.settled_s
        judged = judge(seen, self._pending, at, settled_s, counts_gone=removes)
        self._pending = judged.pending
        self._look_at = usual
        if judged.look_in_s is not None:
            self._look_at = min(usual, max(at + judged.look_in_s, self._not_before()))
        facts: JsonObject = {"message": "", "code": "", "how": self._how()}
        facts |= {"waits": _waits(judged), "growing": judged.pending.growing}
        if judged.is_ready:
            self._start(seen, now, facts)
        else:
            self._tell(now, facts, at_once=False)

    def _how(self) -> str:
        """How changes are noticed, in words, with the reason where the system tells of none."""
        every = f"it looks every {self.plan.trigger.look_s} s"
        if not self._notices:
            return every
        why_not = next((n.why_not for n in self._notices if n.why_not), "")
        if why_not:
            return f"{every}: {why_not}"
        return f"the system tells of changes, and {every}"

    def _start(self, seen: SourceLook, now: datetime, facts: JsonObject) -> None:
        job = self.plan.definition.job
        pending = self._pending
        alive = runs_alive(job, "transfer") if self._watch.carry is None else []
        if alive:
            facts["waits"] = f"Waits for run {alive[0].pk} of this job to end."
            self._look_at = time.monotonic() + max(BUSY_S, self._lasted_s * 4)
            self._tell(now, facts, at_once=False)
            return
        count = len(pending.settled_at)
        known = known_after(seen, pending)
        noticed = {"looked_at": now, "noticed_at": now, "noticed": count or pending.gone}
        try:
            start_watched(
                self._watch,
                self.plan.definition,
                self.plan.version,
                self.plan.trigger.settled_s,
                cause=_cause(count, pending.gone) + self._asked_by(),
                known=known,
                facts=facts | noticed | {"digest": self.plan.digest},
            )
        except (StateConflict, Invalid) as exc:
            self._look_at = time.monotonic() + BUSY_S
            self._tell(now, facts | {"waits": exc.message}, at_once=False)
            return
        self._known = known
        growing = pending.seen_at.keys() - pending.settled_at.keys()
        self._pending = Pending({digest: pending.seen_at[digest] for digest in growing})
        self._told = facts
        self._told_at = time.monotonic()
        if growing:
            self._look_at = time.monotonic() + self.plan.trigger.settled_s / 2

    def _asked_by(self) -> str:
        if self._watch.by:
            return f", watched for {self._watch.by}"
        return ""

    def _tell(self, now: datetime, facts: JsonObject, *, at_once: bool) -> None:
        """What is so now, where it is news; when it last looked, every few seconds."""
        at = time.monotonic()
        is_news = any(self._told.get(name) != value for name, value in facts.items())
        is_due = at - self._told_at >= TELL_EVERY_S
        if not (at_once or is_news or is_due):
            return
        self._told = self._told | facts
        self._told_at = at
        told = dict(facts)
        if not facts.get("message"):
            told["looked_at"] = now
        tell_watch(self._watch.pk, told)

    def close(self) -> None:
        for notices in self._notices:
            notices.close()


def _specs_of(definition: Definition) -> dict[str, JsonObject]:
    """Raises NotFound where a store is gone."""
    names = {place.store for leg in definition.legs for place in (leg.source, leg.target)}
    return {name: spec_of(store_named(name)) for name in names}


def _notices_of(
    places: list[Location], specs: dict[str, JsonObject], heard: threading.Event
) -> list[FolderNotices]:
    """Of those that lie in folders of this machine."""
    found = []
    for place in places:
        spec = specs[place.store]
        if DRIVERS[spec["kind"]].is_local:
            folder = Path(spec["path"]) / key_text(place.path)
            found.append(FolderNotices(folder, heard))
    return found


def _waits(judged: Judged) -> str:
    growing = judged.pending.growing
    if growing:
        files = "1 file is" if growing == 1 else f"{growing:,} files are"
        return f"{files} still growing, or came a moment ago."
    if judged.pending.settled_at and not judged.is_ready:
        return "Waits a moment for the rest of what is coming."
    return ""


def _cause(count: int, gone: int) -> str:
    if not count:
        files = "file is" if gone == 1 else "files are"
        return f"change: {gone:,} {files} gone from its source"
    files = "file is" if count == 1 else "files are"
    return f"change: {count:,} {files} new or changed at its source"
