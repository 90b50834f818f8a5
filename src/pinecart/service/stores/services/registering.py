"""Stores are added, changed, tried and dropped, and what runs learn of them is kept."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from datetime import timedelta

from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from pinecart.core.errors import Invalid, Refused
from pinecart.core.places import Location, is_name
from pinecart.drivers import DRIVERS, try_store
from pinecart.drivers.connection_steps import Step
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import StateConflict
from pinecart.service.config.rights import Actor, Right
from pinecart.service.config.settings import OPTIONS, STATE
from pinecart.service.stores.fields import Form, is_in, read_form
from pinecart.service.stores.models import StoreRecord, StoreUse
from pinecart.service.stores.selectors import (
    jobs_using_store,
    secret_of,
    spec_of,
    store_for,
    store_named,
)
from pinecart.service.trail.services import change, changed


def add_store(actor: Actor, given: JsonObject) -> StoreRecord:
    """Register a storage system. Raises Invalid, RightMissing, StateConflict."""
    actor.must(Right.ADMINISTER, [], "adding stores")
    form = read_form(given, OPTIONS, STATE.root)
    labels = _labels(given)
    with change(actor) as made:
        made.must(Right.ADMINISTER, [], "adding stores")
        if StoreRecord.objects.filter(name=form.name).exists():
            raise StateConflict(
                f"There is a store {form.name!r} already. Choose another name, or change that one.",
                code="store.taken",
            )
        _must_lie_apart(form)
        record = StoreRecord(name=form.name, kind=form.kind, made_at=timezone.now(), labels=labels)
        _fill(record, form)
        record.save()
        made.note("store.added", form.name, kind=form.kind)
        return record


def change_store(actor: Actor, name: str, given: JsonObject) -> StoreRecord:
    """Change fields or the key. Raises UnknownName, Invalid, StateConflict (root or address while
    jobs use it), RightMissing; Refused where a new key was tried and doesn't work.

    Where jobs use it, another root or address must be said to be a `rebind`: the next run of each
    then waits for a yes.
    """
    actor.must(Right.ADMINISTER, [], "changing stores")
    present = store_named(name)
    named = given | {"name": name, "kind": present.kind}
    form = _with_kept(present, read_form(named, OPTIONS, STATE.root, old=present.fields))
    moved = _moved(present, form)
    users = jobs_using_store(name) if moved else []
    if users and not given.get("rebind"):
        raise _in_use(name, users, moved[0])
    if form.secret and not given.get("untried"):
        _must_work(present, form)
    with change(actor) as made:
        made.must(Right.ADMINISTER, [], "changing stores")
        record = store_named(name)
        if moved:
            _must_lie_apart(form)
            record.abilities = {}
            record.rests_until = None
        before = _shown(record)
        rebound = record.fields.get("rebound")
        if users:
            rebound = {"at": timezone.now().isoformat(), "by": actor.name, "jobs": users}
        if "labels" in given:
            record.labels = _labels(given)
        _fill(record, form)
        record.fields |= {"rebound": rebound} if rebound else {}
        record.save()
        facts = changed(before, _shown(record)) | {"new_secret": bool(form.secret)}
        made.note("store.changed", name, **facts)
        if users:
            made.note("store.rebound", name, jobs=users)
        return record


def _moved(record: StoreRecord, form: Form) -> list[str]:
    """Of the fields that say which place it is those that would be others."""
    binding = form.driver.bound_by
    return [f for f in binding if form.fields.get(f, "") != record.fields.get(f, "")]


def _in_use(name: str, users: list[str], field: str) -> StateConflict:
    message = (
        f"Store {name!r} is used by {', '.join(users)}: its {field} is theirs too. If the same "
        "files lie at the new one, say that it is a rebind: the next run of each waits for your "
        "yes. Else add another store, and change the jobs."
    )
    return StateConflict(message, code="store.in-use", jobs=users)


def _shown(record: StoreRecord) -> JsonObject:
    """What the trail tells of a store: its fields, none of which is a secret, and its labels."""
    fields = {k: v for k, v in record.fields.items() if k != "rebound"}
    return fields | {"labels": list(record.labels)}


def remember_learned(name: str, fields: JsonObject, learned: JsonObject) -> None:
    """What a run found out about a store, for the next one; as long as it is bound to the same
    place.
    """
    with transaction.atomic():
        record = StoreRecord.objects.filter(name=name).first()
        if record is None:
            return
        bound_by = DRIVERS[record.kind].bound_by
        if all(record.fields.get(f) == fields.get(f) for f in bound_by):
            StoreRecord.objects.filter(pk=record.pk).update(abilities=record.abilities | learned)


def remember_rest(name: str, seconds: float) -> None:
    """A store asked one run for a pause: it binds them all."""
    until = timezone.now() + timedelta(seconds=seconds)
    StoreRecord.objects.filter(Q(rests_until=None) | Q(rests_until__lt=until), name=name).update(
        rests_until=until
    )


def _labels(given: JsonObject) -> list[str]:
    """Raises Invalid."""
    labels = given.get("labels") or ()
    found = sorted(set(labels))
    odd = [text for text in found if not is_name(text)]
    if odd:
        message = f"{odd[0]!r} can't be a label: use small letters, digits and hyphens, 63 at most."
        raise Invalid([{"field": "labels", "code": "store.label", "message": message}])
    return found


def _must_lie_apart(form: Form) -> None:
    """A folder store in another's: who writes to the outer one could put another folder where the
    inner one lies.

    Raises Invalid.
    """
    path = form.fields["path"] if form.driver.is_local else ""
    same_kind = StoreRecord.objects.filter(kind=form.kind).exclude(name=form.name)
    for other in same_kind if path else ():
        theirs = other.fields["path"]
        if theirs != path and (is_in(path, theirs) or is_in(theirs, path)):
            message = (
                f"{path} and {theirs} of the store {other.name} lie in each other. Use that "
                "store with a longer path, or move one."
            )
            raise Invalid([{"field": "path", "code": "store.nested", "message": message}])


def _must_work(record: StoreRecord, form: Form) -> None:
    """A new key is tried beside the old one before it takes its place.

    Raises Refused; then the old one stays.
    """
    beside = StoreRecord(
        name=record.name, kind=form.kind, fields=form.fields, sealed=STATE.seal(form.secret)
    )
    steps = asyncio.run(try_store(spec_of(beside)))
    wrong = next((s for s in steps if s.ok is False), None)
    if wrong:
        message = (
            f"The new key was tried and does not work: {wrong.message} The old one stays. To "
            "save it all the same, say untried."
        )
        raise Refused(message, code=wrong.code)


def _with_kept(record: StoreRecord, form: Form) -> Form:
    """A new key leaves what is for the proxy, as long as that stays; what is new for the proxy
    leaves the key.
    """
    if not form.secret:
        return form
    goes_with = {f.name: f.goes_with for f in form.driver.fields}
    has_new_key = any(not goes_with[name] for name in form.secret)

    def stays(name: str) -> bool:
        at = goes_with[name]
        if at:
            return form.fields.get(at) == record.fields.get(at)
        return not has_new_key

    may_stay = [f.name for f in form.driver.fields if f.is_sealed and stays(f.name)]
    for name in may_stay:
        at = goes_with[name]
        if not at or record.fields.get(at):
            break
    else:
        return form  # nothing else was sealed: what can't be read any more isn't asked for
    sealed = secret_of(record)
    kept = {name: value for name, value in sealed.items() if name in may_stay}
    return form._replace(secret=kept | form.secret)


def _fill(record: StoreRecord, form: Form) -> None:
    """A form that leaves the secret empty leaves the old one as it is, with its age."""
    record.fields = form.fields
    if form.secret:
        record.sealed = STATE.seal(form.secret)
        record.secret_since = timezone.now()


def drop_store(actor: Actor, name: str) -> None:
    """Forget a store; nothing in it is touched. Raises NotFound, Conflict if a job uses it."""
    with change(actor) as made:
        made.must(Right.ADMINISTER, [], "dropping stores")
        record = store_named(name)
        users = jobs_using_store(name)
        if users:
            raise StateConflict(
                f"Store {name!r} is used by {', '.join(users)}. Change or drop those jobs first.",
                code="store.in-use",
            )
        record.delete()
        made.note("store.dropped", name)


def set_uses(job: str, places: set[Location], labels: Sequence[str] = ()) -> None:
    """Remember which places a job uses; an empty set when it is dropped.

    In the caller's transaction. Raises NotFound.
    """
    stores = {name: store_named(name) for name in {p.store for p in places}}
    StoreUse.objects.filter(job=job).delete()
    StoreUse.objects.bulk_create(
        [
            StoreUse(
                store=stores[p.store],
                job=job,
                path=p.path.decode("utf-8", "replace"),
                labels=list(labels),
            )
            for p in sorted(places)
        ]
    )


def try_form(actor: Actor, given: JsonObject, *, write_to: str) -> list[Step]:
    """Try a form as it stands, unsaved. The secret must be in it."""
    actor.must(Right.ADMINISTER, [], "trying stores that are not saved")
    filled: JsonObject = {"name": "unsaved"}
    for name, value in given.items():
        if value != "":
            filled[name] = value
    form = read_form(filled, OPTIONS, STATE.root)
    sealed = STATE.seal(form.secret)
    record = StoreRecord(name=form.name, kind=form.kind, fields=form.fields, sealed=sealed)
    spec = spec_of(record)
    trying = try_store(spec, write_to=write_to)
    return asyncio.run(trying)


def try_saved(actor: Actor, name: str, *, write_to: str) -> list[Step]:
    """Try a registered store, and remember the answer."""
    record = store_for(actor, name, Right.DEFINE, "trying")
    spec = spec_of(record)
    steps = asyncio.run(try_store(spec, write_to=write_to))
    kept = [step._asdict() for step in steps]
    now = timezone.now()
    StoreRecord.objects.filter(pk=record.pk).update(tried_at=now, tried=kept)
    _keep_found(actor, record, steps)
    return steps


def _keep_found(actor: Actor, record: StoreRecord, steps: list[Step]) -> None:
    """What a try told that the form left open, such as a host key, is held to from now on."""
    told = {name: value for step in steps for name, value in step.found.items()}
    if not told:
        return
    with change(actor) as made:
        made.must(Right.DEFINE, record.labels, "trying stores")
        present = store_named(record.name)
        if present.fields != record.fields:
            message = f"{record.name} was changed while it was tried. Try it again."
            raise StateConflict(message, code="store.changed-meanwhile")
        present.fields |= told
        present.save()
        made.note("store.learned", present.name, **told)
