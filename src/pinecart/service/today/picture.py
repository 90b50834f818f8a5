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

DAYS, HOURS_BACK, HOURS_AHEAD = 14, 24, 4
MOST_LANES, MOST_DUE = 40, 24
KEY_OLD = timedelta(days=365)


def picture_of(actor: Actor, now: datetime) -> JsonObject:
    jobs = {record.name: record for record in jobs_seen(actor)}
    since, until = now - timedelta(hours=HOURS_BACK), now + timedelta(hours=HOURS_AHEAD)
    lanes: dict[str, JsonObject] = {}
    for bar in bars_since(since):
        if bar.job in jobs:
            lane = lanes.setdefault(bar.job, {"job": bar.job, "runs": [], "due": []})
            lane["runs"].append(bar._asdict())
    for name, record in jobs.items():
        if record.is_on and record.next_due and record.next_due <= until:
            due = next_due(definition_of(record), MOST_DUE, until)
            lane = lanes.setdefault(name, {"job": name, "runs": [], "due": []})
            lane["due"] = due
    return {
        "since": since,
        "now": now,
        "until": until,
        "lanes": sorted(lanes.values(), key=lambda lane: lane["job"])[:MOST_LANES],
        "more_lanes": max(len(lanes) - MOST_LANES, 0),
        "days": _days(actor, now),
        "stores": [_store_told(record, now) for record in stores_listed(actor)],
    }


def _days(actor: Actor, now: datetime) -> list[JsonObject]:
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
