"""People and their rights."""

from __future__ import annotations

import secrets

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction

from pinecart.core.errors import Invalid
from pinecart.core.places import is_name
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import RightMissing, StateConflict
from pinecart.service.config.rights import Actor, Right
from pinecart.service.people.models import Grant, SecondFactor
from pinecart.service.people.selectors import person_named
from pinecart.service.people.services.sessions import end_sessions_of, sign_out_everywhere
from pinecart.service.trail.services import change, changed, note

Rights = list[tuple[str, str]]  # right, label; an empty label stands for everything


def add_person(actor: Actor, *, name: str, password: str | None, rights: Rights) -> None:
    """password None: they set it by an entry code. Raises Invalid, Conflict."""
    with change(actor) as made:
        made.must(Right.ADMINISTER, [], "adding people")
        if not is_name(name):
            message = "A person needs a short name: small letters, digits and hyphens."
            raise Invalid([{"field": "name", "code": "person.malformed", "message": message}])
        _must_be_rights(rights)
        if password is not None:
            must_be_strong(name, password)
        if User.objects.filter(username=name).exists():
            raise StateConflict(
                f"There is a person {name!r} already. Choose another name.", code="person.taken"
            )
        user = User.objects.create_user(name, password=password)
        Grant.objects.bulk_create(
            [Grant(person=user, right=r, label=label) for r, label in dict.fromkeys(rights)]
        )
        made.note("person.added", name, before={}, after={"rights": _told(user)})


def must_be_strong(name: str, password: str) -> None:
    """Raises Invalid for a password that is short, common (Django's list of 20,000), or much like
    the name.
    """
    try:
        validate_password(password, User(username=name))
    except ValidationError as exc:
        problem = {"field": "password", "code": "password.weak", "message": " ".join(exc.messages)}
        raise Invalid([problem]) from None


def _must_be_rights(rights: Rights) -> None:
    """The database takes any text, so that a right that was spelled wrongly would be kept and never
    hold. Raises Invalid.
    """
    odd = [r for r, _ in rights if r not in list(Right)]
    if odd:
        message = f"{odd[0]!r} is no right. They are look, operate, define, administer."
        raise Invalid([{"field": "rights", "code": "person.malformed", "message": message}])


def change_person(
    actor: Actor,
    name: str,
    *,
    active: bool | None = None,
    password: str | None = None,
    rights: Rights | None = None,
    second_factor: bool | None = None,
) -> None:
    """Switch off or on, give a new password or other rights, take a second factor off
    (second_factor False).

    Whoever is switched off or has a new password is signed out everywhere at once, and their tokens
    end. Raises NotFound, Invalid, Conflict (the last administrator), NotAllowed.
    """
    with change(actor) as made:
        made.must(Right.ADMINISTER, [], "changing people")
        user = person_named(name)
        before = _state_of(user)
        if password is not None:
            must_be_strong(name, password)
            user.set_password(password)
        if active is not None:
            user.is_active = active
        user.save()
        if password is not None or active is False:
            sign_out_everywhere(user)
        if rights is not None:
            _must_be_rights(rights)
            Grant.objects.filter(person=user).delete()
            Grant.objects.bulk_create(
                [Grant(person=user, right=r, label=label) for r, label in dict.fromkeys(rights)]
            )
        if second_factor is False:
            SecondFactor.objects.filter(person=user).delete()
        if not Grant.objects.filter(
            right=Right.ADMINISTER, label="", person__is_active=True
        ).exists():
            message = (
                "Nobody would be left who may administer everything. Give somebody else that right "
                "first."
            )
            raise StateConflict(message, code="person.last")
        made.note(
            "person.changed",
            name,
            **changed(before, _state_of(user)),
            new_password=password is not None,
        )


def _state_of(person: User) -> JsonObject:
    return {
        "active": person.is_active,
        "rights": _told(person),
        "second factor": SecondFactor.objects.filter(person=person)
        .exclude(confirmed_at=None)
        .exists(),
    }


def _told(person: User) -> list[str]:
    """Rights in words, for the trail: on a label where they are on one, else on everything."""
    grants = Grant.objects.filter(person=person).order_by("label", "right")
    told = []
    for grant in grants:
        where = f" on {grant.label}" if grant.label else ""
        told.append(grant.right + where)
    return told


@transaction.atomic
def change_own_password(actor: Actor, *, old: str, new: str) -> User:
    """The person's other sessions end. Raises NotAllowed if the old one isn't right, Invalid."""
    user = User.objects.get(pk=actor.user_id or 0)
    if not user.check_password(old):
        raise RightMissing(
            "The present password is not right. Nothing was changed.", code="password.wrong"
        )
    must_be_strong(user.username, new)
    user.set_password(new)
    user.save()
    end_sessions_of(user, but=actor.sign_in)
    note(actor, "password.changed", user.username)
    return user


def made_up_password() -> str:
    """Five words of 58: easily written down, and more than can be guessed at a try a minute."""
    return "-".join(secrets.choice(WORDS) for _ in range(5))


WORDS = [
    "alder",
    "birch",
    "brook",
    "cedar",
    "copse",
    "dell",
    "dove",
    "fern",
    "finch",
    "fjord",
    "glade",
    "gorse",
    "grove",
    "hazel",
    "heath",
    "heron",
    "holt",
    "jay",
    "larch",
    "lark",
    "linnet",
    "loch",
    "marsh",
    "martin",
    "meadow",
    "mere",
    "moor",
    "moss",
    "oak",
    "osprey",
    "otter",
    "owl",
    "pine",
    "pipit",
    "plover",
    "quail",
    "reed",
    "ridge",
    "robin",
    "rook",
    "rowan",
    "sedge",
    "shore",
    "skylark",
    "snipe",
    "sorrel",
    "spruce",
    "starling",
    "swift",
    "tarn",
    "teal",
    "tern",
    "thrush",
    "vale",
    "vetch",
    "wren",
    "willow",
    "yew",
]
