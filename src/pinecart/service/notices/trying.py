"""One message now, that only tells that it is a try."""

from __future__ import annotations

from django.utils import timezone

from pinecart.core.happenings import Happening, Kind
from pinecart.service.config.rights import Actor, Right
from pinecart.service.notices.selectors import rule_numbered
from pinecart.service.notices.sending import NotSent, send
from pinecart.service.trail.services import note


def try_rule(actor: Actor, number: int) -> str:
    """Why it could not be sent; empty: it was. Raises NotAllowed, NotFound."""
    actor.must(Right.ADMINISTER, [], "trying a notice")
    rule = rule_numbered(number)
    now = timezone.now()
    words = "This is a try: nothing has happened. Messages reach you."
    tried = Happening(
        f"try-{number}-{now:%Y%m%d%H%M%S}", Kind.DAY, "", None, now, words, "/notices"
    )
    why = ""
    try:
        send(rule, [tried], now)
    except NotSent as exc:
        why = str(exc)
    note(actor, "notice.tried", f"notice {number}", message=why)
    return why
