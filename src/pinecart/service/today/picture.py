"""The last 24 hours as lanes, what was carried a day, and the stores in a line each."""

from __future__ import annotations

from datetime import datetime, timedelta

from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor, Right
from pinecart.service.jobs.selectors import definition_of, jobs_seen
from pinecart.service.jobs.services.due import next_due
from pinecart.service.runs.selectors.history import bars_since, ended_on
from pinecart.service.stores.facts import StoreFacts
from pinecart.service.stores.selectors import stores_listed

DAYS = 14
HOURS_BACK = 24
HOURS_AHEAD = 4
MOST_LANES = 40
MOST_DUE = 24
KEY_OLD = timedelta(days=365)


def _lanes(actor: Actor, since: datetime, until: datetime) -> dict[str, JsonObject]:
    """Of the jobs that ran or will run in that time, by their names."""
    jobs = {record.name: record for record in jobs_seen(actor)}
    lanes: dict[str, JsonObject] = {}

    def lane_of(job: str) -> JsonObject:
        return lanes.setdefault(job, {"job": job, "runs": [], "due": []})

    for bar in bars_since(since):
        if bar.job in jobs:
            lane_of(bar.job)["runs"].append(bar._asdict())
    for name, record in jobs.items():
        if record.is_on and record.next_due and record.next_due <= until:
            definition = definition_of(record)
            lane_of(name)["due"] = next_due(definition, MOST_DUE, until)
    return lanes


def picture_of(actor: Actor, now: datetime) -> JsonObject:
    """The last hours and the next ones, a lane a job."""
    since = now - timedelta(hours=HOURS_BACK)
    until = now + timedelta(hours=HOURS_AHEAD)
    lanes = _lanes(actor, since, until)
    in_order = sorted(lanes.values(), key=lambda lane: lane["job"])
    more = max(len(lanes) - MOST_LANES, 0)
    stores = [_store_told(record, now) for record in stores_listed(actor)]
    return {
        "since": since,
        "now": now,
        "until": until,
        "lanes": in_order[:MOST_LANES],
        "more_lanes": more,
        "days": _days(actor, now),
        "stores": stores,
    }


def _days(actor: Actor, now: datetime) -> list[JsonObject]:
    """A row for each of the last days, oldest first, of those runs that this person may see; days
    without runs are there too.
    """
    today = now.date()
    found = []
    for back in range(DAYS - 1, -1, -1):
        day = today - timedelta(days=back)
        ended = ended_on(day, today)
        runs = [run for run in ended if actor.may(Right.LOOK, run.labels)]
        found.append(
            {
                "day": day,
                "runs": len(runs),
                "files": sum(run.files for run in runs),
                "bytes": sum(run.bytes for run in runs),
                "problems": sum(run.problems for run in runs),
            }
        )
    return found


def failed_step(record: StoreFacts) -> JsonObject | None:
    """At which step the last try of a store failed; None: it didn't, or there was none."""
    return next((step for step in record.tried or () if step["ok"] is False), None)


def is_key_old(record: StoreFacts, now: datetime) -> bool:
    return record.secret_since is not None and now - record.secret_since > KEY_OLD


def _store_told(record: StoreFacts, now: datetime) -> JsonObject:
    failed = failed_step(record)
    return {
        "name": record.name,
        "tried_at": record.tried_at,
        "is_reached": None if not record.tried else failed is None,
        "message": failed["message"] if failed else "",
        "key_since": record.secret_since,
        "is_key_old": is_key_old(record, now),
    }
