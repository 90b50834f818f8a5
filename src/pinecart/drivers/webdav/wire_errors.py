"""What a WebDAV server's refusals mean, as errors of ours (RFC 4918, section 11; RFC 9110)."""

from __future__ import annotations

from collections.abc import Mapping

from pinecart.core.errors import Busy, Missing, Refused, SignInRefused, StoreError, Taken
from pinecart.drivers.http_refusals import Meaning, refusal

SENT_ON = (301, 302, 303, 307, 308)

_BY_STATUS: dict[int, Meaning] = {
    401: (SignInRefused, "store.sign-in-refused", "The user, password or token is not accepted."),
    403: (Refused, "store.refused", "The account may not do that. Grant it the right."),
    404: (Missing, "store.missing", "There is no such file or folder."),
    405: (Refused, "store.unsupported", "The server does not do that here."),
    409: (Missing, "store.missing", "The folder that it lies in is not there."),
    410: (Missing, "store.missing", "There is no such file or folder any more."),
    412: (Taken, "store.not-as-planned", "What is there is not as planned."),
    413: (Refused, "store.too-large", "The file is larger than this server takes."),
    414: (Refused, "unsafe-name", "The name is longer than this server takes."),
    423: (Busy, "in-use", "Somebody holds it locked."),
    429: (Busy, "store.busy", "The server asks to go slower."),
    501: (Refused, "store.unsupported", "The server does not know this request."),
    507: (Refused, "store.full", "There is no room left, or the quota is used up. Make room."),
}


def error_from(status: int, headers: Mapping[str, str], *, what: str) -> StoreError:
    """what: location and action, for the message."""
    if status in SENT_ON:
        where = headers.get("Location", "")[:200]
        message = f"{what}: the server sends us on to {where!r}. Give the store that address."
        return Refused(message, code="store.redirected", status=status)
    known = _BY_STATUS.get(status)
    return refusal(known, status, headers, what=what)
