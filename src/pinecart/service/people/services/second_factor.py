"""One-time codes by time, beside the password (RFC 6238; the arithmetic is pyotp's)."""

from __future__ import annotations

from hmac import compare_digest

import pyotp
from cryptography.fernet import InvalidToken
from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from pinecart.core.errors import Invalid
from pinecart.service.config.refusals import RightMissing
from pinecart.service.config.rights import Actor
from pinecart.service.config.settings import STATE
from pinecart.service.people.models import SecondFactor
from pinecart.service.trail.services import note

STEP_S = 30
STEPS_OFF = (-1, 0, 1)  # clocks differ, and people are slow


@transaction.atomic
def begin(actor: Actor, *, password: str) -> tuple[str, str]:
    """(secret, otpauth address for a picture): not asked for before
    `confirm`. Raises NotAllowed.
    """
    user = _asking(actor, password)
    confirmed = SecondFactor.objects.exclude(confirmed_at=None)
    if confirmed.filter(person=user).exists():
        message = "You have a second factor already. Take it off first."
        raise RightMissing(message, code="second-factor.there")
    secret = pyotp.random_base32()
    sealed = STATE.seal({"second factor": secret})
    begun = {"secret": sealed, "confirmed_at": None, "last_step": 0}
    SecondFactor.objects.update_or_create(person=user, defaults=begun)
    codes = pyotp.TOTP(secret)
    address = codes.provisioning_uri(name=user.username, issuer_name="Pine Cart")
    return secret, address


@transaction.atomic
def confirm(actor: Actor, *, code: str) -> None:
    """From now on it is asked for. Raises Invalid for a code that isn't right."""
    begun = SecondFactor.objects.filter(confirmed_at=None)
    factor = begun.filter(person_id=actor.user_id or 0).first()
    if factor is None or not _takes(factor, code):
        message = (
            "This code is not right. Is the clock of the device right? Codes change every 30 "
            "seconds."
        )
        problem = {"field": "code", "code": "second-factor.wrong", "message": message}
        raise Invalid([problem])
    factor.confirmed_at = timezone.now()
    factor.save()
    note(actor, "second-factor.on", actor.name)


@transaction.atomic
def drop_own(actor: Actor, *, password: str) -> None:
    """Raises NotAllowed."""
    SecondFactor.objects.filter(person=_asking(actor, password)).delete()
    note(actor, "second-factor.off", actor.name)


def _asking(actor: Actor, password: str) -> User:
    """The person themself, in a browser, with the password: neither a token nor a session left open
    is enough.
    """
    user = User.objects.get(pk=actor.user_id or 0)
    if actor.token is not None:
        raise RightMissing(
            "A token can't change a second factor. Sign in by a browser.",
            code="second-factor.by-token",
        )
    if not user.check_password(password):
        raise RightMissing("The password is not right. Nothing was changed.", code="password.wrong")
    return user


@transaction.atomic
def is_right(person: User, code: str) -> bool:
    """Whether the code is right, or none is asked for."""
    factor = SecondFactor.objects.filter(person=person).exclude(confirmed_at=None).first()
    return factor is None or _takes(factor, code)


def _takes(factor: SecondFactor, code: str) -> bool:
    """Whether this is a code of now.

    Each is taken once. Raises NotAllowed if the secret can't be unsealed any more.
    """
    try:
        totp = pyotp.TOTP(STATE.unseal(bytes(factor.secret))["second factor"])
    except InvalidToken:
        message = (
            "The second factor can't be checked: the service has another key than when it was "
            "set up. Ask an administrator to take it off."
        )
        raise RightMissing(message, code="second-factor.sealed") from None
    now = int(timezone.now().timestamp()) // STEP_S
    for step in (now + off for off in STEPS_OFF):
        if step > factor.last_step and compare_digest(
            totp.generate_otp(step), code.replace(" ", "")
        ):
            factor.last_step = step
            factor.save()
            return True
    return False
