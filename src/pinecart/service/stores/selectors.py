from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from datetime import datetime
from typing import NamedTuple

from cryptography.fernet import InvalidToken
from django.db.models import Max
from django.utils import timezone

from pinecart.core.errors import SignInRefused
from pinecart.core.keeping import KEPT
from pinecart.core.places import Location, closest, did_you_mean, lies_in
from pinecart.drivers import DRIVERS
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.rights import SYSTEM, Actor, Right
from pinecart.service.config.settings import OPTIONS, STATE
from pinecart.service.stores.facts import StoreFacts
from pinecart.service.stores.models import StoreRecord, StoreUse

_AT_HAND: ContextVar[dict[str, StoreRecord | None] | None] = ContextVar("at_hand", default=None)


@contextmanager
def stores_at_hand() -> Iterator[None]:
    """Each store is read once, as long as this: for what asks for the same few very often."""
    before = _AT_HAND.set({})
    try:
        yield
    finally:
        _AT_HAND.reset(before)


def _record(name: str) -> StoreRecord | None:
    """Within one request each store is read once; a change of it in between is met by the next."""
    kept = _AT_HAND.get()
    if kept is None:
        return StoreRecord.objects.filter(name=name).first()
    if name not in kept:
        kept[name] = StoreRecord.objects.filter(name=name).first()
    return kept[name]


def store_for(actor: Actor, name: str, right: Right, what: str) -> StoreRecord:
    """A store on which the actor has this right.

    Raises NotFound, also if the actor may not even look at it; NotAllowed.
    """
    found = store_named(name, actor)
    actor.must(right, found.labels, f"{what} in the store {name}")
    return found


def store_named(name: str, actor: Actor = SYSTEM) -> StoreRecord:
    """Raises NotFound, with the names that are like it."""
    found = _record(name)
    if found is None or not actor.may(Right.LOOK, found.labels):
        known = store_names(actor)
        message = (
            f"There is no store {name!r}.{did_you_mean(name, known)} Add one with: pinecart "
            "store add."
        )
        raise UnknownName(message, code="store.unknown", did_you_mean=closest(name, known))
    return found


def find_store(name: str) -> StoreFacts | None:
    """Whoever asks: for the service itself."""
    return StoreRecord.objects.filter(name=name).first()


class Place(NamedTuple):
    """A location by what it really is: two stores may reach the same place
    under different names.
    """

    system: str
    path: bytes

    def touches(self, other: Place) -> bool:
        return self.system == other.system and (
            lies_in(self.path, other.path) or lies_in(other.path, self.path)
        )


def place_of(location: Location) -> Place:
    """By endpoint and bucket, or by the folder's real path.

    A store that is gone is its own name.
    """
    record = _record(location.store)
    if record is None:
        return Place(location.store, location.path)
    driver = DRIVERS[record.kind]
    return Place(driver.system(record.fields), driver.root(record.fields) + location.path)


def places_at(address: str, actor: Actor) -> list[Location]:
    """Where an address of a share, a server or a storage lies in the stores that the actor may look
    at; the closest first.
    """
    text = address.strip().strip("\"'")
    is_folder = text.endswith(("/", "\\"))
    found = list[tuple[int, Location]]()
    for record in stores_listed(actor):
        driver = DRIVERS[record.kind]
        told = driver.place(text)
        if not told:
            continue
        system, whole = told
        root = driver.root(record.fields)
        systems = (driver.system(record.fields), f"{record.kind}:")  # some say no more than a kind
        if system in systems and lies_in(whole, root):
            path = whole[len(root) :]
            location = Location(record.name, path if is_folder else path[:-1])
            found.append((len(path), location))
    found.sort()
    return [location for _, location in found]


def cautions_between(source: str, target: str) -> list[str]:
    """What is lost on the way from one store to another, and what else somebody should know before
    writing there, in sentences. Of a store that is gone nothing is known.
    """
    here = _record(source)
    there = _record(target)
    if here is None or there is None:
        return []
    gives = DRIVERS[here.kind].gives
    driver = DRIVERS[there.kind]
    lost = gives - driver.keeps
    found = []
    for name, words in KEPT.items():
        if name in lost:
            found.append(f"{target} does not keep {words}.")
    found += [f"{target}: {caution}" for caution in driver.cautions]
    return found


def shows_buckets(record: StoreRecord) -> bool:
    """Whether its first level is buckets."""
    return DRIVERS[record.kind].shows_buckets(record.fields)


def stores_listed(actor: Actor) -> list[StoreRecord]:
    """Those that the actor may look at."""
    return [s for s in StoreRecord.objects.order_by("name") if actor.may(Right.LOOK, s.labels)]


def store_names(actor: Actor) -> list[str]:
    return [s.name for s in stores_listed(actor)]


def stores_out_of_reach() -> dict[str, bool]:
    """Of the stores that were tried: whether the last try succeeded."""
    found = {}
    for name, steps in StoreRecord.objects.exclude(tried=None).values_list("name", "tried"):
        found[name] = all(step["ok"] is not False for step in steps or [])
    return found


def spec_of(record: StoreRecord, *, run: int = 0) -> JsonObject:
    """All that a driver needs, secrets included: only ever passed on through a pipe or used at
    once.
    """
    secret = secret_of(record)
    return {
        "kind": record.kind,
        "name": record.name,
        **record.fields,
        **secret,
        "abilities": record.abilities,
        "allowed": OPTIONS.allowed,
        "forbidden": STATE.forbidden,
        "run": run,
        "service": STATE.id[:8],
    }


def secret_of(record: StoreRecord) -> dict[str, str]:
    try:
        if record.sealed:
            return STATE.unseal(bytes(record.sealed))
        return {}
    except InvalidToken:
        message = (
            f"The secret of the store {record.name} can't be read with this service's key. Give "
            f"it again: pinecart store change {record.name} --new-secret"
        )
        raise SignInRefused(message, code="store.secret-unreadable") from None


def jobs_using_store(name: str, actor: Actor = SYSTEM) -> list[str]:
    """Those that the actor may see."""
    found = StoreUse.objects.filter(store__name=name).values_list("job", "labels")
    return sorted({job for job, labels in found if actor.may(Right.LOOK, labels)})


def jobs_using_bucket(store: str, bucket: str, actor: Actor) -> list[str]:
    """Those that the actor may see."""
    found = StoreUse.objects.filter(store__name=store).values_list("job", "path", "labels")
    return sorted(
        {
            job
            for job, path, labels in found
            if path.split("/")[0] == bucket and actor.may(Right.LOOK, labels)
        }
    )


class Rebound(NamedTuple):
    """A store whose address or root was changed under the jobs that use it.

    digest: what a release names.
    """

    message: str
    digest: str


def rebound_under(job: str, name: str) -> Rebound | None:
    """Whether the store was bound to another place while this job used it."""
    found = StoreRecord.objects.filter(name=name).first()
    if found is None:
        return None
    fields = found.fields
    told = fields.get("rebound")
    if not told or job not in told["jobs"]:
        return None
    who = told["by"]
    at = told["at"]
    bound_by = DRIVERS[found.kind].bound_by
    place = "/".join(fields[name] for name in bound_by if fields.get(name))
    message = (
        f"{who} bound the store {name} to {place} on {at[:10]}. Make sure that "
        "the same files lie there, with a preview, before this job goes on."
    )
    text = f"{name}|{place}|{at}"
    digest = hashlib.sha256(text.encode()).hexdigest()
    return Rebound(message, digest[:16])


def ceiling_of(name: str) -> int:
    """How many requests at once a store bears, as its form says; 0: it says nothing."""
    fields = StoreRecord.objects.filter(name=name).values_list("fields", flat=True).first() or {}
    return int(fields.get("most_at_once") or 0)


def runs_at_once(name: str) -> int:
    """How many runs at once a store bears, as its form says; 0: it says nothing."""
    fields = StoreRecord.objects.filter(name=name).values_list("fields", flat=True).first() or {}
    return int(fields.get("runs_at_once") or 0)


def rests(names: Collection[str]) -> dict[str, float]:
    """Stores that asked for a pause which is not over, and how many seconds are left of it."""
    now = timezone.now()
    found = StoreRecord.objects.filter(name__in=names, rests_until__gt=now).values_list(
        "name", "rests_until"
    )
    return {name: (until - now).total_seconds() for name, until in found if until}


def newest_key() -> datetime | None:
    """When a store was last given a secret."""
    found: datetime | None = StoreRecord.objects.aggregate(at=Max("secret_since"))["at"]
    return found
